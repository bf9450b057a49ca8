"""Routes that do what nobody wished: preferences that do not hold, limits, leaks, transit."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.check.finding import Finding, Severity
from obrin.core.design.reader import Location
from obrin.core.naming import some
from obrin.core.routing.model import state_of
from obrin.core.settled.links import Bundle
from obrin.core.settled.model import Settled
from obrin.core.settled.telling import announced_by_cloud, announced_by_site


def routing(settled: Settled) -> Iterator[Finding]:
    yield from _preferences(settled)
    yield from _limits(settled)
    yield from _transit(settled)
    yield from _internal(settled)
    yield from _circuits(settled)
    yield from _zones(settled)


def _preferences(settled: Settled) -> Iterator[Finding]:
    """A longer prefix, or a static route, wins over any preference."""
    bundles = {b.name: b for b in settled.bundles()}
    for site in settled.sites.values():
        order = [name for name in site.ways if name in bundles]
        for number, name in enumerate(order):
            for earlier in (bundles[o] for o in order[:number]):
                yield from _against(settled, earlier, bundles[name])
                yield from _own_first(settled, earlier, bundles[name])


def _against(settled: Settled, first: Bundle, later: Bundle) -> Iterator[Finding]:
    if first.routing == "bgp" and later.routing == "static" and same_networks(first, later):
        yield Finding(
            Severity.WARNING,
            "preference-unheeded",
            (*later.place, "routing"),
            f"{first.name} is preferred and learns by BGP; {later.name} has static routes to the "
            "same networks",
            "static routes come before what BGP brings: the traffic takes the way that was meant "
            "as the backup",
            f"use BGP on {later.name} too, or prefer it",
        )
        return
    both = [("the cloud", announced_by_cloud(first), announced_by_cloud(later))]
    if _clouds(settled, first) & _clouds(settled, later):  # somebody hears both
        both.append(("the site", announced_by_site(first), announced_by_site(later)))
    for what, one, other in both:
        inside = [p for p in other if p not in one and any(o.covers(p) for o in one)]
        if inside:
            yield Finding(
                Severity.WARNING,
                "preference-unheeded",
                later.place,
                f"{first.name} is preferred, and {later.name} advertises a longer prefix of {what}"
                f": {some(inside, 3)}",
                "the longest match wins before any preference: this traffic takes the other way",
                "let both advertise the same prefixes: the same networks, parts and summaries",
            )


def _clouds(settled: Settled, bundle: Bundle) -> set[str]:
    """The clouds that learn what a site advertises."""
    return {bundle.cloud, *settled.clouds[bundle.cloud].members}


def _own_first(settled: Settled, first: Bundle, later: Bundle) -> Iterator[Finding]:
    """A cloud answers by its own gateway before it answers by a hub."""
    if later.cloud in settled.clouds[first.cloud].members:
        yield Finding(
            Severity.WARNING,
            "preference-unheeded",
            later.place,
            f"{first.name} over hub {first.cloud} is preferred, and {later.name} ends at "
            f"{later.cloud} itself",
            f"{later.cloud} answers by its own gateway first: the two directions part",
            f"prefer {later.name}, or lead it to the hub too",
        )


def same_networks(one: Bundle, other: Bundle) -> bool:
    """Whether two ways lead to some network alike, by the name that the site has for it."""
    mine = {part.seen for part in one.cloud_exposures}
    return any(part.seen in mine for part in other.cloud_exposures)


def _limits(settled: Settled) -> Iterator[Finding]:
    if all(g.maximum_prefixes is None for g in settled.gateways.values()):
        return
    for session in state_of(settled).over_limit():
        gateway = settled.gateways[session.receiver]
        yield Finding(
            Severity.ERROR,
            "route-limit",
            ("sites", gateway.site, "gateways", gateway.name, "maximum-prefixes"),
            f"{session.sender} advertises more than {gateway.maximum_prefixes} prefixes to "
            f"{gateway.name} over {session.via}",
            "the session ends as soon as it has come up (RFC 4486), and all its routes with it",
            "have them summarised (cloud-summaries), or learn less in the hub's route table",
        )


def _transit(settled: Settled) -> Iterator[Finding]:
    """Hubs that lead from site to site where no expectation asks for it."""
    asked = {
        frozenset((w.source.place, w.destination.place))
        for w in settled.expectations
        if w.must == "work"
    }
    sites = {b.name: b.site for b in settled.bundles()}
    for hub in settled.clouds.values():
        for table in hub.hub_tables:
            users = {sites[u] for u in table.users if u in sites}
            heard = {sites[u] for u in table.learns if u in sites}
            if not users or not heard:
                continue
            pairs = (
                (one, other)
                for one in sorted(users)
                for other in sorted(heard)
                if one != other and frozenset((one, other)) not in asked
            )
            first = next(pairs, None)
            if first is not None:
                more = ", and more pairs" if next(pairs, None) is not None else ""
                yield Finding(
                    Severity.WARNING,
                    "transit-unasked",
                    ("clouds", hub.name, "hub", "tables", table.name),
                    f"table {table.name} of {hub.name} leads from {first[0]} to {first[1]}, "
                    f"and no expectation asks for it{more}",
                    "only filters keep the sites apart; whoever opens one joins them",
                    "take them out of 'learns', or write down what must work between them",
                )


def _internal(settled: Settled) -> Iterator[Finding]:
    for name, site in settled.sites.items():
        if not site.internal_bgp:
            continue
        here: Location = ("sites", name, "internal-bgp")
        numbers = {g: settled.gateways[g].asn for g in site.gateways}
        if len(set(numbers.values())) > 1 or len(numbers) == 1:
            listed = ", ".join(f"{g} has AS {n}" for g, n in numbers.items())
            yield Finding(
                Severity.ERROR,
                "internal-as",
                here,
                f"internal BGP at {name} needs several gateways of one AS: {listed}",
                "they exchange no routes, and a gateway that lost its tunnels cannot forward",
                "give them one AS number, or leave 'internal-bgp' out",
            )
        bare = [g for g in site.gateways if settled.gateways[g].loopback is None]
        if bare and len(numbers) > 1:
            yield Finding(
                Severity.ERROR,
                "internal-loopback",
                here,
                f"internal BGP at {name} runs between loopbacks; without one: {', '.join(bare)}",
                "they exchange no routes: a gateway that lost its tunnels has no way on by itself",
                "give each a 'loopback': they are IPv4, so 'stack' has to have it",
            )


def _circuits(settled: Settled) -> Iterator[Finding]:
    for name, circuit in settled.circuits.items():
        if circuit.routing == "static" and circuit.bfd is None:
            yield Finding(
                Severity.ERROR,
                "static-unmonitored",
                ("circuits", name, "routing"),
                f"circuit {name} has static routes, and nothing watches the line",
                "when it dies the routes stay: everything sent into it is lost",
                "use BGP or BFD on it",
            )


def _zones(settled: Settled) -> Iterator[Finding]:
    for name, cloud in settled.clouds.items():
        if len(cloud.zones) > 1 and len(set(cloud.zones)) == 1:
            yield Finding(
                Severity.WARNING,
                "zone-shared",
                ("clouds", name, "gateway", "zones"),
                f"both instances of {name} run in zone {cloud.zones[0]}",
                "when the zone fails, both fail with it",
                "put them into two zones",
            )
