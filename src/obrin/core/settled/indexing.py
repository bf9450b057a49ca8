"""What belongs to which place in a settled design, found once."""

from __future__ import annotations

from obrin.core.design.model import Expectation
from obrin.core.settled.model import (
    Leg,
    SettledCircuit,
    SettledCloud,
    SettledIndex,
    SettledLink,
    SettledTunnel,
)


def make_index(
    wishes: tuple[Expectation, ...],
    links: dict[str, SettledLink],
    circuits: dict[str, SettledCircuit],
    clouds: dict[str, SettledCloud],
) -> SettledIndex:
    """A link to a hub also stands between its site and each member of the hub."""
    tunnels_at: dict[str, list[SettledTunnel]] = {}
    legs_at: dict[str, list[Leg]] = {}
    by_label: dict[str, Leg] = {}
    between: dict[frozenset[str], list[SettledLink | SettledCircuit]] = {}
    hubs_of: dict[str, dict[str, None]] = {}
    for circuit in circuits.values():
        by_label[circuit.label] = circuit
        for place in (circuit.gateway, circuit.cloud):
            legs_at.setdefault(place, []).append(circuit)
    for link in links.values():
        for tunnel in link.tunnels:
            by_label[tunnel.label] = tunnel
            for place in (tunnel.gateway, tunnel.cloud):
                tunnels_at.setdefault(place, []).append(tunnel)
                legs_at.setdefault(place, []).append(tunnel)
    bundles: list[SettledLink | SettledCircuit] = [*circuits.values(), *links.values()]
    for bundle in bundles:
        cloud = clouds[bundle.cloud]
        for far in (bundle.cloud, *cloud.members):
            between.setdefault(frozenset((bundle.site, far)), []).append(bundle)
        if cloud.is_hub:
            hubs_of.setdefault(bundle.site, {})[cloud.name] = None
    for cloud in clouds.values():
        for member in cloud.members:
            hubs_of.setdefault(member, {})[cloud.name] = None
    expectations_at: dict[str, list[tuple[int, Expectation]]] = {}
    for number, wish in enumerate(wishes, 1):
        for place in {r.partition("/")[0] for r in (wish.source, wish.destination)}:
            expectations_at.setdefault(place, []).append((number, wish))
    return SettledIndex(
        {place: tuple(found) for place, found in tunnels_at.items()},
        {place: tuple(found) for place, found in legs_at.items()},
        by_label,
        {pair: tuple(found) for pair, found in between.items()},
        {place: tuple(found) for place, found in hubs_of.items()},
        {place: tuple(found) for place, found in expectations_at.items()},
    )
