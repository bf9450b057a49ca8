"""What the way outside a tunnel carries, as routers there report it (RFC 1191, RFC 4301 section
8.2).

Anybody can send such a message. It counts only where it quotes the SPI of an SA that this gateway
sends by, to the peer's address; it never makes the way smaller than what every path carries; and it
is forgotten after a while, so that a way which grew is used again.
"""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.ipsec.overhead import LEAST_IPV4_MTU, LEAST_IPV6_MTU, EspShape, Wrapping
from obrin.core.ipsec.registry import Kind
from obrin.wire.errors import PacketError
from obrin.wire.icmp import TooBig, decode_icmp, read_too_big
from obrin.wire.ike.child import ChildSa
from obrin.wire.ike.path import Path
from obrin.wire.packet import Packet

LIFE = 600.0
"""Seconds until more is tried again (RFC 1191 section 6.3)."""
LEAST = {32: LEAST_IPV4_MTU, 128: LEAST_IPV6_MTU}
"""Bytes that every path is taken to carry, by the family outside."""


@dataclass(frozen=True, slots=True)
class _Learned:
    mtu: int
    until: float


class PathMtus:
    """Bytes of the largest packet inside each tunnel."""

    def __init__(self) -> None:
        self._learned: dict[str, _Learned] = {}

    def within(self, name: str, mtu: int, now: float) -> int:
        """The smaller one of what a tunnel takes by itself and what was learned of its way."""
        found = self._learned.get(name)
        if found is None:
            return mtu
        if found.until <= now:
            del self._learned[name]
            return mtu
        return min(mtu, found.mtu)

    def learn(self, name: str, child: ChildSa, path: Path, too_big: TooBig, now: float) -> int:
        """Bytes inside that are left of what was reported."""
        outer = max(too_big.mtu, LEAST[too_big.destination.bits])
        encryption = child.chosen.one(Kind.ENCRYPTION)
        assert encryption is not None
        shape = EspShape.made_by(encryption, child.chosen.one(Kind.INTEGRITY))
        wrapping = Wrapping(shape, too_big.destination.bits, path.encapsulate, outer)
        self._learned[name] = _Learned(wrapping.inner_mtu(), now + LIFE)
        return wrapping.inner_mtu()

    def forget(self, name: str) -> None:
        """The way may be another one now."""
        self._learned.pop(name, None)


def too_big_of(packet: Packet) -> TooBig:
    """What an outer ICMP message says. Raises PacketError for one of no use."""
    too_big = read_too_big(packet, decode_icmp(packet))
    if too_big is None or not too_big.spi:
        raise PacketError("an ICMP message of no use here")
    return too_big
