"""Fragments of IPv4 packets: cutting, and putting together again (RFC 791 section 3.2).

Whoever puts together is open to nonsense: packets that never end, that overlap or are larger than
any packet. What is held is bounded in number and in time, and a packet with an overlap is given up
as a whole (RFC 5722 has that for IPv6).
"""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass, field

from obrin.core.address.prefix import Address
from obrin.core.ipsec.overhead import IPV4_HEADER
from obrin.wire.errors import PacketError
from obrin.wire.packet import Packet

MOST, HOLD = 64, 30.0
"""Packets that are waited for at a time, and seconds (RFC 1122 section 3.3.2 asks for a limit)."""
_LARGEST = 65535 - IPV4_HEADER


def fragments(packet: Packet, mtu: int) -> list[Packet]:
    """A packet in parts of at most `mtu` bytes, at least 68; itself where it fits."""
    if packet.size <= mtu:
        return [packet]
    room = (mtu - IPV4_HEADER) // 8 * 8
    payload = packet.payload
    return [
        packet._replace(
            payload=payload[start : start + room],
            offset=packet.offset + start,
            more=packet.more or start + room < len(payload),
        )
        for start in range(0, len(payload), room)
    ]


@dataclass(slots=True)
class _Waiting:
    """Parts by where they begin; `size` is known with the last one."""

    until: float
    first: Packet | None = None
    size: int | None = None
    parts: dict[int, bytes] = field(default_factory=dict)

    @property
    def whole(self) -> bytes | None:
        """Return None while something is missing."""
        if self.size is None or sum(map(len, self.parts.values())) < self.size:
            return None
        return b"".join(self.parts[start] for start in sorted(self.parts))


class Reassembly:
    """Puts fragmented packets together again."""

    def __init__(self) -> None:
        self._waiting: OrderedDict[tuple[Address, Address, int, int], _Waiting] = OrderedDict()

    def take(self, part: Packet, now: float) -> Packet | None:
        """The packet that a fragment completes, if it does. Raises PacketError for one that cannot
        be right."""
        self._forget(now)
        key = part.source, part.destination, part.protocol, part.identification
        held = self._waiting.setdefault(key, _Waiting(now + HOLD))
        try:
            _add(held, part)
        except PacketError:
            del self._waiting[key]
            raise
        payload = held.whole
        if payload is None or held.first is None:
            return None
        del self._waiting[key]
        return held.first._replace(payload=payload, more=False)

    def _forget(self, now: float) -> None:
        while self._waiting:
            key, oldest = next(iter(self._waiting.items()))
            if oldest.until > now and len(self._waiting) < MOST:
                return
            del self._waiting[key]


def _add(held: _Waiting, part: Packet) -> None:
    end = part.offset + len(part.payload)
    if not part.payload or (part.more and len(part.payload) % 8):
        raise PacketError("a fragment of no whole words")
    if end > _LARGEST:
        raise PacketError("a fragment beyond the largest packet")
    for start, other in held.parts.items():
        if start < end and part.offset < start + len(other):
            raise PacketError("fragments that overlap")
    if not part.more:
        if held.size not in (None, end):
            raise PacketError("a fragment behind the last one")
        held.size = end
    held.parts[part.offset] = part.payload
    if held.size is not None and any(s + len(p) > held.size for s, p in held.parts.items()):
        raise PacketError("a fragment behind the last one")
    if part.offset == 0:
        held.first = part
