"""The practice internet: carries IP packets between cables, translates, loses, and captures.

Providers give each uplink its public address, so the internet knows which address belongs to
which cable. A packet with any other source is not carried. Every address that is not a uplink's
belongs to the practice cloud. Dedicated lines are carried beside it: what goes in at one end comes
out at the other.
"""

from __future__ import annotations

import os
import time
from collections import OrderedDict
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from pathlib import Path

from obrin.core.address.prefix import Address, parse_address
from obrin.wire.capture import encode_file_header, encode_record
from obrin.wire.errors import PacketError
from obrin.wire.icmp import too_big
from obrin.wire.packet import UDP, Packet, decode_packet, decode_udp

CLOUD = "cloud"
FIRST_PORT, LAST_PORT = 20001, 65535
FORWARDED = (500, 4500)
NARROW = 1280
"""Bytes that still pass where larger packets are lost on purpose."""
ROUTERS = {32: parse_address("198.18.0.1"), 128: parse_address("2001:2::1")}
"""The sender of ICMP errors, in each family: nobody's addresses here (RFC 2544, RFC 5180)."""


@dataclass(slots=True)
class Line:
    """One uplink: its public address, and the inside address when a translator is in front. One
    that `forwards` keeps the ports of IKE and ESP as they are, in both directions. Larger packets
    than its `mtu` are lost without a word."""

    name: str
    public: Address
    own: Address
    outward: OrderedDict[int, int] = field(default_factory=OrderedDict)
    inward: dict[int, int] = field(default_factory=dict)
    next_port: int = FIRST_PORT
    forwards: bool = False
    mtu: int = 1500

    @classmethod
    def parse(cls, text: str) -> Line:
        """`NAME=PUBLIC=OWN=forwards=MTU`. Raises ValueError, and AddressError."""
        name, public, own, forwards, mtu = text.split("=")
        ends = parse_address(public), parse_address(own)
        return cls(name, *ends, forwards=forwards == "forwards", mtu=int(mtu))

    def port_for(self, inside: int) -> int:
        """The translator's own port for one inside; when all are given, the one that was used
        least lately is given again."""
        if self.forwards and inside in FORWARDED:
            return inside
        if inside in self.outward:
            self.outward.move_to_end(inside)
            return self.outward[inside]
        if self.next_port <= LAST_PORT:
            port = self.next_port
            self.next_port += 1
        else:
            _, port = self.outward.popitem(last=False)
        self.outward[inside] = port
        self.inward[port] = inside
        return port

    @property
    def translated(self) -> bool:
        return self.public != self.own


@dataclass(frozen=True, slots=True)
class Dedicated:
    """A dedicated line between a site and the cloud, with a cable at each end."""

    name: str
    mtu: int = 1500

    @property
    def ends(self) -> tuple[str, str]:
        """The cables of the site and of the cloud."""
        return f"{self.name}/site", f"{self.name}/cloud"


class Capture:
    """A pcap file that is complete after every packet. `clock` gives seconds since 1970."""

    def __init__(self, path: Path, clock: Callable[[], float] = time.time) -> None:
        self._clock = clock
        flags = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW
        self._file = os.fdopen(os.open(path, flags, 0o644), "wb")
        self._file.write(encode_file_header())
        self._file.flush()

    def add(self, packet: bytes) -> None:
        self._file.write(encode_record(self._clock(), packet))
        self._file.flush()

    def close(self) -> None:
        self._file.close()


class Internet:
    """Pure forwarding: `carry` takes a packet from a cable and names the cable it leaves by.
    `narrow_lines` lose large packets; those that are True there answer with an ICMP error.
    `moved` are uplinks with another address than planned."""

    def __init__(
        self,
        lines: list[Line],
        capture: Capture | None = None,
        dedicated: Iterable[Dedicated] = (),
    ) -> None:
        self.lines = {line.name: line for line in lines}
        self.dedicated: dict[str, Dedicated] = {}
        self._across: dict[str, tuple[Dedicated, str]] = {}
        for circuit in dedicated:
            self.join(circuit)
        self._by_public = {line.public: line for line in lines}
        self.capture = capture
        self.cut_lines: set[str] = set()
        self.cut_dedicated: set[str] = set()
        self.cut_pairs: set[frozenset[Address]] = set()
        self.narrow_lines: dict[str, bool] = {}
        self.moved: dict[str, Address] = {}
        self._planned = {line.name: line.public for line in lines}
        self.carried = 0
        self.lost: dict[str, int] = {}

    def carry(self, cable: str, data: bytes) -> tuple[str, bytes] | None:
        """(cable, packet) to deliver, or None when it is lost."""
        try:
            return self._carry(cable, decode_packet(data))
        except PacketError as error:
            return self._lose(f"a bad packet: {error.reason}")

    def connect(self, line: Line) -> None:
        """One more uplink. Raises ValueError for a name or a public address that is there."""
        if line.name in self.lines or line.public in self._by_public:
            raise ValueError(f"{line.name}, {line.public}: that is there already")
        self.lines[line.name] = line
        self._by_public[line.public] = line
        self._planned[line.name] = line.public

    def join(self, line: Dedicated) -> None:
        """One more dedicated line. Raises ValueError for one that is there."""
        if line.name in self.dedicated:
            raise ValueError(f"{line.name} is there already")
        self.dedicated[line.name] = line
        for end, other in (line.ends, line.ends[::-1]):
            self._across[end] = line, other

    def cables(self) -> list[str]:
        """All that devices are plugged into, but for the cloud's to the internet."""
        return [*self.lines, *self._across]

    def _through(self, cable: str, packet: Packet) -> tuple[str, bytes] | None:
        """Carry a packet over a dedicated circuit."""
        line, other = self._across[cable]
        if line.name in self.cut_dedicated:
            return self._lose(f"line {line.name} is cut")
        if packet.size > line.mtu:
            return self._lose(f"larger than line {line.name} takes")
        if self.capture is not None:
            self.capture.add(packet.encode())
        self.carried += 1
        return other, packet.encode()

    def _carry(self, cable: str, sent: Packet) -> tuple[str, bytes] | None:
        if cable in self._across:
            return self._through(cable, sent)
        packet = sent
        if cable != CLOUD:
            line = self.lines[cable]
            if cable in self.cut_lines:
                return self._lose(f"uplink {cable} is cut")
            if packet.source != line.own or (cable in self.moved and not line.translated):
                return self._lose(f"the source is not {cable}'s")
            if line.translated:
                translated = _outward(line, packet)
                if translated is None:
                    return self._lose("the translator passes only UDP")
                packet = translated
        if frozenset((packet.source, packet.destination)) in self.cut_pairs:
            return self._lose("this path is cut")
        target = self._by_public.get(packet.destination)
        leaves_by = CLOUD
        if target is not None:
            leaves_by = target.name
            if leaves_by in self.cut_lines:
                return self._lose(f"uplink {leaves_by} is cut")
        elif cable == CLOUD:
            return self._lose("no such destination")
        for name in (cable, leaves_by):
            if packet.size > self._most(name):
                self._lose(f"larger than the path of {name}")
                return self._too_big(cable, sent, name)
        if self.capture is not None:
            self.capture.add(packet.encode())
        if target is not None and target.translated:
            inside = _inward(target, packet)
            if inside is None:
                return self._lose(f"no mapping in the translator of {target.name}")
            packet = inside
        self.carried += 1
        return leaves_by, packet.encode()

    def _most(self, cable: str) -> int:
        """Bytes of the largest packet that passes."""
        line = self.lines.get(cable)
        if line is None:
            return 65535
        return min(line.mtu, NARROW) if cable in self.narrow_lines else line.mtu

    def _too_big(self, cable: str, sent: Packet, name: str) -> tuple[str, bytes] | None:
        """What the sender hears of it, where the way is one that says so."""
        if not self.narrow_lines.get(name, False):
            return None
        answer = too_big(sent, self._most(name), ROUTERS[sent.bits])
        return None if answer is None else (cable, answer.encode())

    def _lose(self, reason: str) -> tuple[str, bytes] | None:
        """Count the loss; None, so that callers can return it."""
        self.lost[reason] = self.lost.get(reason, 0) + 1
        return None

    def lose(self, reason: str) -> None:
        """Count something that did not come by a cable at all."""
        self._lose(reason)

    def cut_pair(self, one: str, other: str) -> None:
        self.cut_pairs.add(frozenset((parse_address(one), parse_address(other))))

    def readdress(self, name: str, address: Address) -> None:
        """The provider gives an uplink another address. A translator in front has it from then on;
        a device that has the old one itself is heard by nobody. Raises ValueError for a taken one.
        """
        line = self.lines[name]
        if address.bits != line.public.bits or address in self._by_public:
            raise ValueError(f"{address} is somebody's already, or of another family")
        del self._by_public[line.public if line.translated else self.moved.get(name, line.public)]
        self._by_public[address] = line
        self.moved[name] = address
        if line.translated:
            line.public = address

    def _move_back(self) -> None:
        for name, address in self.moved.items():
            line = self.lines[name]
            del self._by_public[address]
            line.public = self._planned[name]
            self._by_public[line.public] = line
        self.moved.clear()

    def heal(self) -> None:
        self._move_back()
        self.cut_lines.clear()
        self.cut_dedicated.clear()
        self.cut_pairs.clear()
        self.narrow_lines.clear()


def _outward(line: Line, packet: Packet) -> Packet | None:
    """Source address and port become the translator's (RFC 4787: endpoint-independent)."""
    if packet.protocol != UDP:
        return None
    udp = decode_udp(packet)
    changed = udp._replace(source_port=line.port_for(udp.source_port))
    payload = changed.encode(line.public, packet.destination)
    return packet._replace(source=line.public, payload=payload)


def _inward(line: Line, packet: Packet) -> Packet | None:
    if packet.protocol != UDP:
        return None
    udp = decode_udp(packet)
    port = line.inward.get(udp.destination_port)
    if line.forwards and udp.destination_port in FORWARDED:
        port = udp.destination_port
    if port is None:
        return None
    payload = udp._replace(destination_port=port).encode(packet.source, line.own)
    return packet._replace(destination=line.own, payload=payload)
