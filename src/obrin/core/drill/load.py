"""What the ways of flows carry, against what uplinks, devices and instances are able to."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass

from obrin.core.catalogue.offering import Offered
from obrin.core.design.arrangement import SHARED
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
        """In words, when it gets more than it can carry; or empty."""
        if self.rate <= self.most:
            return ""
        return f"{self.name} gets {self.rate:g} Mbit/s, it carries {self.most:g}"


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
    loads: dict[tuple[str, str], float] = defaultdict(float)
    for leg, rate in spread(settled, carried, lost):
        loads["gateway", leg.gateway] += rate
        if isinstance(leg, SettledCircuit):
            loads["circuit", leg.name] += rate
        else:
            loads["tunnel", leg.label] += rate
            loads["uplink", f"{leg.gateway}/{leg.uplink.name}"] += rate
            loads["instance", f"{leg.cloud}/{leg.instance}"] += rate
    for (kind, name), rate in sorted(loads.items()):
        most = _limit(settled, offering, kind, name)
        if most:
            yield Use(f"{kind} {name}", rate, most)


def single_uses(
    settled: Settled, offering: Offered, flows: Iterable[tuple[str, tuple[str, ...], float]]
) -> Iterator[Use]:
    """`flows` are (name, ways, Mbit/s of the largest connection), which is held against the
    narrowest thing that it crosses: a connection is not spread over several ways."""
    for name, ways, largest in flows:
        limits = []
        for leg in (settled.leg(way) for way in ways if way in settled.index.by_label):
            limits.append(_limit(settled, offering, "gateway", leg.gateway))
            if isinstance(leg, SettledCircuit):
                limits.append(leg.rate)
                continue
            limits += [leg.uplink.rate, _limit(settled, offering, "tunnel", leg.label)]
            found = offering.of(leg.cloud).find_class(settled.clouds[leg.cloud].gateway_class)
            limits.append(None if found is None else found.per_flow)
        known = [limit for limit in limits if limit]
        if known and largest:
            yield Use(f"one connection of {name}", largest, min(known))


def _limit(settled: Settled, offering: Offered, kind: str, name: str) -> float | None:
    """None where nobody said."""
    place, _, part = name.partition("/")
    if kind == "circuit":
        return settled.circuits[name].rate
    if kind == "uplink":
        return settled.gateways[place].uplinks[part].rate
    if kind == "gateway":
        return settled.gateways[place].profile.throughput
    cloud = settled.clouds[settled.leg(name).cloud if kind == "tunnel" else place]
    found = offering.of(cloud.name).find_class(cloud.gateway_class)
    if found is None or kind == "tunnel":
        return None if found is None else found.per_tunnel
    return found.throughput / found.instances
