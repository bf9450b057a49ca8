"""A host of a network that somebody else plays: whatever it sends comes from outside, and what is
for it goes there."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable

from obrin.core.address.prefix import Address
from obrin.core.reach.filters import RuleSet
from obrin.wire.agenda import nobody
from obrin.wire.errors import PacketError
from obrin.wire.host import guard
from obrin.wire.packet import UDP, decode_packet

MOST_FLOWS = 4096


class LentHost:
    """Its firewall is that of the network's hosts: answers to its own flows come in. `send` takes
    what is for it."""

    def __init__(self, address: Address, send: Callable[[bytes], None]) -> None:
        self.address = address
        self.gate: RuleSet | None = None
        self.stir: Callable[[], None] = nobody
        self.drops: Counter[str] = Counter()
        self._send = send
        self._out: list[bytes] = []
        self._asked: dict[tuple[int, Address], None] = {}

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
            guard(self.gate, packet, awaited=(packet.ports[1], packet.source) in self._asked)
        except PacketError as error:
            self.drops[error.reason] += 1
            return
        self._send(data)

    def packets(self, now: float) -> list[bytes]:
        """What it sent."""
        out, self._out = self._out, []
        return out

    def next_timer(self) -> float:
        return float("inf")

    def handle_timer(self, now: float) -> None:
        """Time is its own affair."""
