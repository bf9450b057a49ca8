"""Circuits, internal sessions, hubs and route tables on a gateway's sheet."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence

from obrin.core.address.prefix import Prefix, format_address
from obrin.core.routing.model import (
    accepted_at_site,
    announced_by_site,
    cloud_policy,
    neighbour,
    site_policy,
)
from obrin.core.settled.model import Settled, SettledCircuit

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
    elif hubs := settled.hubs_of(place):
        yield f"Routes come from {' and '.join(hubs)}, where propagation is on (1)."
        yield ""


def beyond_circuits(settled: Settled, place: str) -> Iterator[Prefix]:
    """What a gateway reaches over its circuits."""
    for leg in settled.legs_at(place):
        if isinstance(leg, SettledCircuit):
            at_cloud = place in settled.clouds
            yield from announced_by_site(leg) if at_cloud else accepted_at_site(settled, leg)


def circuit_steps(settled: Settled, place: str) -> Iterator[tuple[str, str, str]]:
    """What to do, the check that shows it worked, and where to look when it did not."""
    for leg in settled.legs_at(place):
        if not isinstance(leg, SettledCircuit):
            continue
        at_cloud = place in settled.clouds
        peer = format_address(leg.site_inside if at_cloud else leg.cloud_inside)
        heard = announced_by_site(leg) if at_cloud else accepted_at_site(settled, leg)
        session = "the session is established and " if leg.routing == "bgp" else ""
        yield (
            f"Enter circuit {leg.name}: its address, and routes by {leg.routing} (sheet, 4)",
            f"{peer} answers a ping; {session}{_listed(heard)} is in the table through it",
            f"no answer: ask {leg.provider or 'its provider'} whether the line is up, and whether "
            "both ends have the addresses of the sheet; established and nothing learned: what the "
            "other end announces, and what this one accepts",
        )


def hub_steps(settled: Settled, place: str) -> Iterator[tuple[str, str, str]]:
    """Likewise for the members and route tables of a hub."""
    hub = settled.clouds[place]
    if hub.is_hub:
        yield (
            f"Attach {', '.join(hub.members) or 'no member yet'}, and make the route tables "
            "(sheet, 4)",
            f"the tables {', '.join(t.name for t in hub.hub_tables)} hold the spaces of the "
            "members that they learn",
            "an attachment may wait for the owner of the member to accept it; a table that learns "
            "from nobody is empty",
        )


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
            ("BFD", *("off" if c.bfd is None else f"every {c.bfd.interval:g} s, dead after "
                      f"{c.bfd.multiplier} missed" for c in circuits)),
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
