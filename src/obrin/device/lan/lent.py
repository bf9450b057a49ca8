"""A host of a network that somebody else plays: whatever it sends comes from outside, and what is
for it goes there. Our own host of that address can ask something meanwhile: the answers to that are
its own.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable

from obrin.core.address.prefix import Address
from obrin.core.reach.filters import RuleSet
from obrin.wire.agenda import nobody
from obrin.wire.errors import PacketError
from obrin.wire.host import Host, guard
from obrin.wire.packet import UDP, decode_packet

MOST_FLOWS = 4096


class LentHost:
    """Its firewall is that of the network's hosts: answers to its own flows come in. `send` takes
    what is for it."""

    def __init__(self, own: Host, send: Callable[[bytes], None]) -> None:
        self.address, self.own = own.address, own
        own.stir = self._stirred
        self.firewall: RuleSet | None = None
        self.stir: Callable[[], None] = nobody
        self.drops: Counter[str] = Counter()
        self._send = send
        self._out: list[bytes] = []
        self._asked: dict[tuple[int, Address], None] = {}

    def _stirred(self) -> None:
        self.stir()

    def give(self, data: bytes) -> None:
        """What it sends. Raises PacketError for what is none."""
        packet = decode_packet(data)
        if packet.protocol == UDP and packet.ports:
            self._asked[packet.ports[0], packet.destination] = None
            if len(self._asked) > MOST_FLOWS:
                del self._asked[next(iter(self._asked))]
        self._out.append(data)
        self.stir()

    def receive(self, data: bytes, now: float) -> None:
        """A packet for it; bad ones are dropped and counted."""
        try:
            packet = decode_packet(data)
            if self.own.expects(packet):
                self.own.receive(data, now)
                return
            guard(self.firewall, packet, awaited=(packet.ports[1], packet.source) in self._asked)
        except PacketError as error:
            self.drops[error.reason] += 1
            return
        self._send(data)

    def packets(self, now: float) -> list[bytes]:
        """What it sent, and what our own host asks."""
        out, self._out = self._out, []
        return out + self.own.packets(now)

    def next_timer(self) -> float:
        return self.own.next_timer()

    def handle_timer(self, now: float) -> None:
        self.own.handle_timer(now)
