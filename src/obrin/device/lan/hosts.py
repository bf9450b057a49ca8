"""The hosts behind a device: one in every network, and more where somebody asks for them.

A network stands for all its addresses: whatever address in it is spoken to, or is to ask something,
has a host from then on. Of those at most MOST_ASKED_FOR are kept, the latest.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import partial
from typing import TypeVar

from obrin.core.address.prefix import Address, Prefix
from obrin.core.json_text import Json
from obrin.core.reach.filters import Rule, RuleSet
from obrin.core.settled.model import host_of
from obrin.device.lan.lent import LentHost
from obrin.wire.agenda import Agenda
from obrin.wire.host import Host

H = TypeVar("H", Host, LentHost, Host | LentHost)
MOST_ASKED_FOR = 256
NO_FIREWALLS: Mapping[Prefix, tuple[Rule, ...]] = {}


class Hosts:
    """Hosts by their addresses, some of which may be lent to somebody. `rng` gives so many random
    bytes."""

    def __init__(self, networks: Iterable[Prefix], rng: Callable[[int], bytes]) -> None:
        self._rng = rng
        self.by_address: dict[Address, Host | LentHost] = {}
        self._agenda: Agenda[Address] = Agenda(self._timer_of)
        self._speaking: dict[Address, None] = {}
        self._asked_for: dict[Address, None] = {}
        self._networks: tuple[Prefix, ...] = ()
        self._firewalls: Mapping[Prefix, tuple[Rule, ...]] = NO_FIREWALLS
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
        self,
        networks: Iterable[Prefix],
        firewalls: Mapping[Prefix, tuple[Rule, ...]] = NO_FIREWALLS,
    ) -> None:
        """Other networks; hosts that are still in one stay as they are, but for the firewalls of
        those whose network has an entry in `firewalls`."""
        self._networks, self._firewalls = tuple(dict.fromkeys(networks)), firewalls
        self._asked_for = {a: None for a in self._asked_for if self._is_of_host(a)}
        wanted = dict.fromkeys(host_of(network) for network in self._networks)
        before, self.by_address = self.by_address, {}
        for address in (*wanted, *self._asked_for):
            self._adopt(before.get(address) or Host(address, self._rng))
        for host in self.by_address.values():
            self._guard(host)

    def _guard(self, host: Host | LentHost) -> None:
        rules = next((r for p, r in self._firewalls.items() if p.holds(host.address)), None)
        host.firewall = None if rules is None else RuleSet(rules)

    def _is_of_host(self, address: Address) -> bool:
        """Whether it is in a network, and neither its first nor its last address (of a link
        between two both are hosts', RFC 3021)."""
        return any(
            p.holds(address)
            and (p.length >= p.bits - 1 or p.value < address.value < p.value + p.size - 1)
            for p in self._networks
        )

    def get(self, address: Address) -> Host | LentHost | None:
        found = self.by_address.get(address)
        if found is not None or not self._is_of_host(address):
            return found
        host = self._adopt(Host(address, self._rng))
        self._guard(host)
        self._asked_for[address] = None
        while len(self._asked_for) > MOST_ASKED_FOR:
            oldest = next(iter(self._asked_for))
            del self._asked_for[oldest]
            self.by_address.pop(oldest, None)
            self._agenda.forget(oldest)
        return host

    def own(self, address: Address) -> Host | None:
        """One that can be made to ask something, also where a program plays that host."""
        found = self.get(address)
        return found.own if isinstance(found, LentHost) else found

    def lend(self, address: Address, send: Callable[[bytes], None]) -> LentHost:
        """Let somebody else play a host. Raises KeyError where there is none."""
        own = self.own(address)
        if own is None:
            raise KeyError(address)
        lent = LentHost(own, send)
        lent.firewall = own.firewall
        return self._adopt(lent)

    def take_back(self, lent: LentHost) -> None:
        """A host of our own in its place."""
        if self.by_address.get(lent.address) is lent:
            self._adopt(lent.own)
            self._guard(lent.own)

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
