"""The hosts behind a device: one in every network."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any

from obrin.core.address.prefix import Address, Prefix
from obrin.core.reach.filters import Rule, RuleSet
from obrin.core.settled.model import host_of
from obrin.device.lent import LentHost
from obrin.wire.host import Host

Json = dict[str, Any]
NO_GATES: Mapping[Prefix, tuple[Rule, ...]] = {}


class Hosts:
    """Hosts by their addresses, some of which may be lent to somebody. `rng` gives so many random
    bytes."""

    def __init__(self, networks: Iterable[Prefix], rng: Callable[[int], bytes]) -> None:
        self._rng = rng
        self.by_address: dict[Address, Host | LentHost] = {}
        self.take(networks)

    def take(
        self, networks: Iterable[Prefix], gates: Mapping[Prefix, tuple[Rule, ...]] = NO_GATES
    ) -> None:
        """Other networks; hosts that are still in one stay as they are, but for the firewalls of
        those whose network has an entry in `gates`."""
        wanted = dict.fromkeys(host_of(network) for network in networks)
        self.by_address = {a: self.by_address.get(a) or Host(a, self._rng) for a in wanted}
        for address, host in self.by_address.items():
            rules = next((r for prefix, r in gates.items() if prefix.holds(address)), None)
            host.gate = None if rules is None else RuleSet(rules)

    def get(self, address: Address) -> Host | LentHost | None:
        return self.by_address.get(address)

    def own(self, address: Address) -> Host | None:
        """One that can be told to ask something."""
        found = self.by_address.get(address)
        return found if isinstance(found, Host) else None

    def lend(self, address: Address, send: Callable[[bytes], None]) -> LentHost:
        """Let somebody else play a host. Raises KeyError where there is none."""
        lent = LentHost(address, send)
        lent.gate = self.by_address[address].gate
        self.by_address[address] = lent
        return lent

    def take_back(self, lent: LentHost) -> None:
        """A host of our own in its place."""
        if self.by_address.get(lent.address) is lent:
            host = self.by_address[lent.address] = Host(lent.address, self._rng)
            host.gate = lent.gate

    def packets(self, now: float) -> Iterator[bytes]:
        """What they send."""
        for host in list(self.by_address.values()):
            yield from host.packets(now)

    def drops(self) -> list[Json]:
        """What they could do nothing with, by reason, in the shape of obrin-observe's `drop`."""
        return [
            {
                "place": f"host {host.address}",
                "reason": reason,
                "source": str(Address(host.address.bits, 0)),
                "destination": str(host.address),
                "protocol": 0,
                "source-port": 0,
                "destination-port": 0,
                "count": str(count),
            }
            for host in self.by_address.values()
            for reason, count in host.drops.items()
        ]

    def next_timer(self) -> float:
        return min((h.next_timer() for h in self.by_address.values()), default=float("inf"))

    def handle_timer(self, now: float) -> None:
        for host in self.by_address.values():
            host.handle_timer(now)
