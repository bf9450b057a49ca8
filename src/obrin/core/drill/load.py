"""What the ways of flows carry, against what uplinks, devices and instances are able to."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator

from obrin.core.design.offering import Offering
from obrin.core.design.settled import Settled, SettledCircuit


def overloads(
    settled: Settled, offering: Offering, carried: Iterable[tuple[str, float]]
) -> Iterator[str]:
    """`carried` are (way, Mbit/s). In words, everything that gets more than it can carry."""
    loads: dict[tuple[str, str], float] = defaultdict(float)
    for label, rate in carried:
        if rate and label in settled.index.by_label:
            leg = settled.leg(label)
            loads["gateway", leg.gateway] += rate
            if isinstance(leg, SettledCircuit):
                loads["circuit", leg.name] += rate
            else:
                loads["uplink", f"{leg.gateway}/{leg.uplink.name}"] += rate
                loads["instance", f"{leg.cloud}/{leg.instance}"] += rate
    for (kind, name), rate in sorted(loads.items()):
        most = _limit(settled, offering, kind, name)
        if most is not None and rate > most:
            yield f"{kind} {name} gets {rate:g} Mbit/s, it carries {most:g}"


def _limit(settled: Settled, offering: Offering, kind: str, name: str) -> float | None:
    """None where nobody said."""
    place, _, part = name.partition("/")
    if kind == "circuit":
        return settled.circuits[name].rate
    if kind == "uplink":
        return settled.gateways[place].uplinks[part].rate
    if kind == "gateway":
        return settled.gateways[place].profile.throughput
    cloud = settled.clouds[place]
    found = offering.find_class(cloud.gateway_class)
    return None if found is None else found.throughput / found.instances
