"""Doubles that many tests use: seeded random bytes, pairs of engines, a bad network in virtual time.

`Net.forge` is somebody on the path: it sees every datagram and what it returns arrives at once, with
whatever addresses it likes; it cannot take anything away. It looks at the first 60 different ones,
since what it makes is answered, and it would look at the answers, too.
"""

from __future__ import annotations

import heapq
import itertools
import random
from collections.abc import Callable

from hypothesis import strategies as st

from obrin.core.address.prefix import Address
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.design.document import load_design
from obrin.core.design.model import Design
from obrin.core.ipsec.liveness import Liveness
from obrin.core.ipsec.suite import SHIPPED, Suite
from obrin.core.settle.choices import Choice
from obrin.core.settle.settle import settle
from obrin.core.settled.building import build_settled
from obrin.core.settled.model import Settled
from obrin.wire.ike.config import Identity, PeerConfig
from obrin.wire.ike.endpoint import Endpoint
from obrin.wire.ike.tunnel_state import Datagram

SITE, CLOUD = "192.0.2.10", "203.0.113.1"


def seeded(seed: int) -> Callable[[int], bytes]:
    """Random bytes that are the same in every run."""
    return random.Random(seed).randbytes


def pair(
    suites: tuple[Suite, ...] = (SHIPPED["modern"],),
    other: tuple[Suite, ...] | None = None,
    *,
    key: bytes = b"k" * 32,
    other_key: bytes | None = None,
    seed: int = 1,
    places: tuple[str, str] = (SITE, CLOUD),
    **changes: object,
) -> tuple[Endpoint, Endpoint]:
    """Initiator and responder of one tunnel named `t`, at two addresses."""
    one = PeerConfig(
        name="t",
        initiate=True,
        local_address=places[0],
        remote_address=places[1],
        local_identity=Identity.of(SITE),
        remote_identity=Identity.of(CLOUD),
        suites=suites,
        key=key,
        liveness=Liveness(10.0, 1.0, 4),
        **changes,
    )
    two = PeerConfig(
        name="t",
        initiate=False,
        local_address=places[1],
        remote_address=places[0],
        local_identity=Identity.of(CLOUD),
        remote_identity=Identity.of(SITE),
        suites=other or suites,
        key=other_key or key,
        liveness=Liveness(10.0, 1.0, 4),
        **changes,
    )
    return Endpoint([one], seeded(seed)), Endpoint([two], seeded(seed + 1000))


IP_AND_UDP = 28


class Net:
    """Two endpoints and a network that loses, delays and doubles datagrams, all from a seed. `most`
    is the largest IP packet that it carries."""

    def __init__(
        self,
        one: Endpoint,
        two: Endpoint,
        *,
        loss: float = 0.0,
        delay: float = 0.0,
        double: float = 0.0,
        seed: int = 7,
    ) -> None:
        self.ends = (one, two)
        self.now = 0.0
        self.events: list[list[object]] = [[], []]
        self.sent: list[Datagram] = []
        self.cut = False
        self._seen: set[bytes] = set()
        self.forge: Callable[[Datagram], list[Datagram]] | None = None
        self._random = random.Random(seed)
        self._loss, self._delay, self._double = loss, delay, double
        self.most = 65535
        self._count = itertools.count()
        self._flying: list[tuple[float, int, int, Datagram]] = []

    def _drain(self) -> None:
        for index, end in enumerate(self.ends):
            for datagram in end.datagrams():
                self.sent.append(datagram)
                fresh = datagram.data not in self._seen and len(self._seen) < 60
                self._seen.add(datagram.data)
                for forged in self.forge(datagram) if self.forge is not None and fresh else ():
                    target = index if forged.destination == datagram.source else 1 - index
                    heapq.heappush(self._flying, (self.now, next(self._count), target, forged))
                copies = 1 + (self._random.random() < self._double)
                for _ in range(copies):
                    if self.cut or len(datagram.data) + IP_AND_UDP > self.most:
                        continue
                    if self._random.random() < self._loss:
                        continue
                    at = self.now + self._delay * (0.5 + self._random.random())
                    heapq.heappush(self._flying, (at, next(self._count), 1 - index, datagram))
            self.events[index] += end.events()

    def inject(self, target: int, datagram: Datagram) -> None:
        """Hand one end a datagram that nobody sent."""
        self.ends[target].receive(datagram.data, datagram.destination, datagram.source, self.now)

    def run(self, until: float) -> None:
        """Let virtual time pass."""
        while True:
            self._drain()
            timer = min(end.next_timer() for end in self.ends)
            arrival = self._flying[0][0] if self._flying else float("inf")
            due = min(timer, arrival)
            if due > until:
                break
            self.now = max(self.now, due)
            if arrival <= timer:
                _, _, target, d = heapq.heappop(self._flying)
                self.ends[target].receive(d.data, d.destination, d.source, self.now)
            else:
                for end in self.ends:
                    end.handle_timer(self.now)
        self.now = until

    def calm(self) -> None:
        """From now on nothing is lost, late or doubled."""
        self._loss = self._delay = self._double = 0.0

    def names(self, index: int) -> list[str]:
        return [type(event).__name__ for event in self.events[index]]

    def texts(self, index: int) -> str:
        return " | ".join(map(str, self.events[index]))


DESIGN = """\
obrin: 1
name: test
sites:
  quay:
    networks: {desks: 10.20.0.0/22, guests: 10.20.8.0/24}
    gateways:
      quay-gw:
        uplinks:
          fibre: {address: 192.0.2.10, provider: one}
          radio: {address: 198.51.100.20, provider: two}
clouds:
  apps:
    subnets: {web: {hosts: 100}}
links:
  quay-apps:
    site: quay
    cloud: apps
    networks: [desks]
    bgp: {hold-time: 6 s}
    tunnels:
      a: {gateway: quay-gw, uplink: fibre, instance: 1}
      b: {gateway: quay-gw, uplink: radio, instance: 2}
expectations:
  - {from: quay/desks, to: apps/web, flow: tcp/443, must: work}
  - {from: quay/desks, to: apps/web, flow: icmp, must: work}
  - {from: quay/guests, to: apps/web, flow: tcp/443, must: not}
"""


def design_of(text: str = DESIGN) -> Design:
    return load_design(text, "test.yaml").design


def settled_of(text: str = DESIGN, previous: dict[str, Choice] | None = None) -> Settled:
    design = design_of(text)
    return build_settled(design, settle(design, previous or {}, PRACTICE_CLOUD))


def swap(*pairs: tuple[str, str], text: str = DESIGN) -> str:
    """The test design with texts replaced; each must be there."""
    for old, new in pairs:
        if old not in text:
            raise AssertionError(f"{old!r} is not in the design")
        text = text.replace(old, new)
    return text


def in_family(bits: int) -> st.SearchStrategy[Address]:
    """Addresses of one family."""
    return st.integers(0, (1 << bits) - 1).map(lambda value: Address(bits, value))
