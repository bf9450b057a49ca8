"""Circuits, internal sessions, hubs and route tables on a gateway's sheet."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence

from obrin.core.address.prefix import Prefix, format_address
from obrin.core.design.settled import Settled, SettledCircuit
from obrin.core.routing.model import (
    accepted_at_site,
    announced_by_site,
    cloud_policy,
    neighbour,
    site_policy,
)

Table = Callable[[Sequence[str], Iterable[Sequence[str]]], Iterator[str]]


def joining(settled: Settled, place: str, table: Table) -> Iterator[str]:
    """Parts that only some designs have; nothing for the others."""
    circuits = [leg for leg in settled.legs_at(place) if isinstance(leg, SettledCircuit)]
    if circuits:
        yield from _circuits(settled, place, circuits, table)
    if place in settled.gateways:
        yield from _internal(settled, place, table)
    elif settled.clouds[place].is_hub:
        yield from _hub(settled, place, table)


def _listed(prefixes: Iterable[Prefix]) -> str:
    return ", ".join(map(str, prefixes)) or "none"


def _circuits(
    settled: Settled, place: str, circuits: list[SettledCircuit], table: Table
) -> Iterator[str]:
    at_cloud = place in settled.clouds
    policies = [(cloud_policy if at_cloud else site_policy)(settled, c) for c in circuits]
    tells = [accepted_at_site(settled, c) if at_cloud else announced_by_site(c) for c in circuits]
    hears = [announced_by_site(c) if at_cloud else accepted_at_site(settled, c) for c in circuits]
    ends = [(c.cloud_inside, c.site_inside) for c in circuits]
    own = [format_address(cloud if at_cloud else site) for cloud, site in ends]
    peer = [format_address(site if at_cloud else cloud) for cloud, site in ends]
    yield "### Circuits"
    yield ""
    yield from table(
        ("Value", *(c.name for c in circuits)),
        [
            ("Provider", *(c.provider or "not said" for c in circuits)),
            ("MTU in bytes", *(str(c.mtu) for c in circuits)),
            ("Own address on it",
             *(f"{a}/{c.inside.length}" for a, c in zip(own, circuits, strict=True))),
            ("Address of the far end", *peer),
            ("Routes by", *(c.routing for c in circuits)),
            ("Own AS number", *(str(p.local_as) for p in policies)),
            ("Peer's AS number", *(str(p.peer_as) for p in policies)),
            ("Hold time in s", *(str(c.hold) for c in circuits)),
            ("Local preference of what it tells", *(str(p.local_pref) for p in policies)),
            ("Own AS in front, more often", *(str(p.prepend or "none") for p in policies)),
            ("Announce to it", *map(_listed, tells)),
            ("Accept from it", *map(_listed, hears)),
        ],
    )  # fmt: skip
    yield ""


def _internal(settled: Settled, place: str, table: Table) -> Iterator[str]:
    mine = settled.gateways[place]
    if not settled.design.sites[mine.site].internal_bgp:
        return
    others = [
        g for g in settled.gateways.values()
        if g.site == mine.site and g is not mine and g.asn == mine.asn
    ]  # fmt: skip
    if not others:
        return
    yield "### Internal BGP, over the site's own network"
    yield ""
    yield from table(
        ("Neighbour", "AS number", "Its BGP identifier", "Next hop", "Tell it"),
        [
            (neighbour(g.name).removeprefix("lan:"), str(g.asn), format_address(g.router_id),
             "this gateway itself", "everything that the clouds told")
            for g in others
        ],
    )  # fmt: skip
    yield ""


def _hub(settled: Settled, place: str, table: Table) -> Iterator[str]:
    hub = settled.clouds[place]
    yield "### Route tables of the hub"
    yield ""
    yield from table(
        ("Table", "Used by", "Learns from"),
        [(t.name, ", ".join(sorted(t.users)) or "nobody", ", ".join(sorted(t.learns)) or "nobody")
         for t in hub.hub_tables],
    )  # fmt: skip
    yield ""
    yield f"Members, to be attached: {', '.join(hub.members) or 'none'}."
    yield ""
