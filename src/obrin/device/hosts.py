"""The hosts behind a device: one in every network."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import partial
from typing import Any, TypeVar

from obrin.core.address.prefix import Address, Prefix
from obrin.core.reach.filters import Rule, RuleSet
from obrin.core.settled.model import host_of
from obrin.device.lent import LentHost
from obrin.wire.agenda import Agenda
from obrin.wire.host import Host

Json = dict[str, Any]
H = TypeVar("H", Host, LentHost, Host | LentHost)
NO_GATES: Mapping[Prefix, tuple[Rule, ...]] = {}


class Hosts:
    """Hosts by their addresses, some of which may be lent to somebody. `rng` gives so many random
    bytes."""

    def __init__(self, networks: Iterable[Prefix], rng: Callable[[int], bytes]) -> None:
        self._rng = rng
        self.by_address: dict[Address, Host | LentHost] = {}
        self._agenda: Agenda[Address] = Agenda(self._timer_of)
        self._speaking: dict[Address, None] = {}
        self.take(networks)

    def _stir(self, address: Address) -> None:
        """One may have something to say, or another time to be woken at."""
        self._agenda.stir(address)
        self._speaking[address] = None

    def _timer_of(self, address: Address) -> float | None:
        host = self.by_address.get(address)
        return None if host is None else host.next_timer()

    def _adopt(self, host: H) -> H:
        host.stir = partial(self._stir, host.address)
        self.by_address[host.address] = host
        return host

    def take(
        self, networks: Iterable[Prefix], gates: Mapping[Prefix, tuple[Rule, ...]] = NO_GATES
    ) -> None:
        """Other networks; hosts that are still in one stay as they are, but for the firewalls of
        those whose network has an entry in `gates`."""
        wanted = dict.fromkeys(host_of(network) for network in networks)
        before, self.by_address = self.by_address, {}
        for address in wanted:
            self._adopt(before.get(address) or Host(address, self._rng))
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
        return self._adopt(lent)

    def take_back(self, lent: LentHost) -> None:
        """A host of our own in its place."""
        if self.by_address.get(lent.address) is lent:
            host = self._adopt(Host(lent.address, self._rng))
            host.gate = lent.gate

    def packets(self, now: float) -> Iterator[bytes]:
        """What they send."""
        speaking, self._speaking = self._speaking, {}
        for address in speaking:
            host = self.by_address.get(address)
            if host is not None:
                yield from host.packets(now)
                self._agenda.stir(address)  # what was sent may have to be sent again

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
        return self._agenda.next()

    def handle_timer(self, now: float) -> None:
        for address in self._agenda.due(now):
            self.by_address[address].handle_timer(now)
