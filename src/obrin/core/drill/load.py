"""What the ways of flows carry, against what uplinks, devices and instances are able to."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass
from typing import NamedTuple

from obrin.core.catalogue.offering import Offered
from obrin.core.design.arrangement import SHARED
from obrin.core.quantity import plain
from obrin.core.settled.links import Leg, SettledCircuit, SettledTunnel
from obrin.core.settled.model import Settled


@dataclass(frozen=True, slots=True)
class Use:
    """What one thing carries at the busiest hour, and the most that it can; both in Mbit/s."""

    name: str
    rate: float
    most: float

    @property
    def share(self) -> float:
        return self.rate / self.most

    @property
    def too_much(self) -> str:
        """Describe an overload; empty where there is none."""
        if self.rate <= self.most:
            return ""
        return f"{self.name} gets {plain(self.rate)} Mbit/s, it carries {plain(self.most)}"


def spread(
    settled: Settled, carried: Iterable[tuple[str, float]], lost: Collection[str]
) -> Iterator[tuple[Leg, float]]:
    """Loads of tunnels and circuits. Many connections spread over tunnels that share: what a flow
    carries is theirs in equal parts, as far as they are up."""
    for label, rate in carried:
        leg = settled.index.by_label.get(label)
        if leg is None or not rate:
            continue
        legs: list[Leg] = [leg]
        if isinstance(leg, SettledTunnel) and leg.role == SHARED:
            legs = [
                t
                for t in settled.links[leg.link].tunnels
                if t.role == SHARED and t.gateway == leg.gateway and t.label not in lost
            ]
        for one in legs:
            yield one, rate / len(legs)


def uses(
    settled: Settled,
    offering: Offered,
    carried: Iterable[tuple[str, float]],
    lost: Collection[str] = (),
) -> Iterator[Use]:
    """`carried` are (way, Mbit/s), `lost` the ways that failed. Everything with a known limit that
    carries something."""
    loads = loaded(settled, offering, carried, lost)
    for thing, rate in sorted(loads.items(), key=lambda item: (item[0].kind, item[0].name)):
        if thing.most:
            yield Use(thing.words, rate, thing.most)


def loaded(
    settled: Settled,
    offering: Offered,
    carried: Iterable[tuple[str, float]],
    lost: Collection[str] = (),
) -> dict[Thing, float]:
    """Mbit/s by everything that carries something, limit or not."""
    by_leg: dict[str, float] = defaultdict(float)
    for leg, rate in spread(settled, carried, lost):
        by_leg[leg.label] += rate
    loads: dict[Thing, float] = defaultdict(float)
    for label, rate in by_leg.items():
        leg = settled.leg(label)
        loads[_gateway(settled, leg.gateway)] += rate
        if isinstance(leg, SettledCircuit):
            loads[Thing("circuit", leg.name, leg.rate)] += rate
        else:
            for thing in _of_tunnel(settled, offering, leg):
                loads[thing] += rate
    return loads


class Thing(NamedTuple):
    """What carries something, and its limit in Mbit/s; None where nobody said."""

    kind: str
    name: str
    most: float | None

    @property
    def words(self) -> str:
        return f"{self.kind} {self.name}"


def _gateway(settled: Settled, name: str) -> Thing:
    return Thing("gateway", name, settled.gateways[name].profile.throughput)


def _of_tunnel(settled: Settled, offering: Offered, tunnel: SettledTunnel) -> Iterator[Thing]:
    """The tunnel itself, its uplink and its instance."""
    found = offering.of(tunnel.cloud).find_class(settled.clouds[tunnel.cloud].gateway_class)
    uplink = tunnel.uplink
    yield Thing("tunnel", tunnel.label, None if found is None else found.per_tunnel)
    yield Thing("uplink", f"{tunnel.gateway}/{uplink.name}", uplink.rate)
    each = None if found is None else found.throughput / found.instances
    yield Thing("instance", f"{tunnel.cloud}/{tunnel.instance}", each)


def single_uses(
    settled: Settled, offering: Offered, flows: Iterable[tuple[str, tuple[str, ...], float]]
) -> Iterator[Use]:
    """`flows` are (name, ways, Mbit/s of the largest connection), which is held against the
    narrowest thing that it crosses: a connection is not spread over several ways."""
    for name, ways, largest in flows:
        limits: list[float | None] = []
        for leg in (settled.leg(way) for way in ways if way in settled.index.by_label):
            limits.append(_gateway(settled, leg.gateway).most)
            if isinstance(leg, SettledCircuit):
                limits.append(leg.rate)
                continue
            found = offering.of(leg.cloud).find_class(settled.clouds[leg.cloud].gateway_class)
            limits.append(leg.uplink.rate)
            limits += () if found is None else (found.per_tunnel, found.per_flow)
        known = [limit for limit in limits if limit]
        if known and largest:
            yield Use(f"one connection of {name}", largest, min(known))
