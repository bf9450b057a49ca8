"""A design as boxes and lines: sites, cloud gateways and hubs, cloud networks, and what joins them.

Everything that is said stands in rows of a box, and a line runs from a row to a row, so nothing is
written over anything else. Sites that are built alike are one box with a count.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

from obrin.core.address.dual import Dual
from obrin.core.address.prefix import Prefix
from obrin.core.settled.clouds import SettledCloud
from obrin.core.settled.links import Leg, SettledCircuit, SettledTunnel
from obrin.core.settled.model import Settled
from obrin.core.settled.sites import SettledGateway, SettledSite
from obrin.core.settled.ways import Attachment

UP, DOWN, ODD, REST, LOST = "up", "DOWN", "ends disagree", "at rest", "lost"
"""What a way is, where that is known: seen on the live link, or lost in a failure."""
TUNNEL, CIRCUIT, ATTACHED = "tunnel", "circuit", "attachment"
ALIKE = 3
"""So many sites that are alike become one box, where there are more than FEW."""
FEW = 12
MOST_ROWS = 6
"""Networks of a box that are named; the rest is counted."""


@dataclass(frozen=True, slots=True)
class Row:
    """A line of text in a box. `port` is the way that ends here, if one does; `heading` begins a
    part of the box."""

    text: str
    port: str = ""
    heading: bool = False


@dataclass(frozen=True, slots=True)
class Box:
    """`column` counts from the left: sites, gateways and hubs, networks that only hubs lead to.
    `stands_for` is how many there are of it."""

    name: str
    column: int
    rows: tuple[Row, ...]
    stands_for: int = 1


@dataclass(frozen=True, slots=True)
class Line:
    """A line between the rows of two boxes with this port. `state` is empty where nothing is
    known."""

    way: str
    kind: str
    ends: tuple[str, str]
    state: str = ""
    stands_for: int = 1


@dataclass(frozen=True, slots=True)
class Picture:
    """Everything there is to draw; `title` of it."""

    title: str
    boxes: tuple[Box, ...]
    lines: tuple[Line, ...]


def picture(settled: Settled, states: Mapping[str, str]) -> Picture:
    """`states` are of ways, by label, where they are known."""
    return _Drawing(settled, states).made()


class _Drawing:
    def __init__(self, settled: Settled, states: Mapping[str, str]) -> None:
        self._settled, self._states = settled, states
        self._folded = {sites[0].name: sites for sites in self._groups()}

    def made(self) -> Picture:
        settled = self._settled
        boxes = [self._site(group) for group in self._folded.values()]
        boxes += [self._cloud(cloud) for cloud in settled.clouds.values()]
        return Picture(settled.name, tuple(boxes), tuple(self._lines()))

    # Sites

    def _groups(self) -> Iterator[list[SettledSite]]:
        """Groups of sites in the order of the design; those that are alike stand together."""
        sites = self._settled.sites.values()
        looks = {site.name: self._look(site) for site in sites}
        alike: dict[object, list[SettledSite]] = {}
        for site in sites:
            alike.setdefault(looks[site.name], []).append(site)
        for site in sites:
            group = alike[looks[site.name]]
            if len(sites) <= FEW or len(group) < ALIKE:
                yield [site]
            elif group[0] is site:
                yield group

    def _look(self, site: SettledSite) -> object:
        """All that two sites must have alike to be drawn as one."""
        gateways = {name: number for number, name in enumerate(site.gateways)}
        legs = tuple(
            (
                gateways[leg.gateway],
                leg.kind,
                leg.cloud,
                leg.instance if isinstance(leg, SettledTunnel) else 0,
                leg.preference,
                self._how(leg),
                self._states.get(leg.label, ""),
            )
            for name in site.gateways
            for leg in self._settled.legs_at(name)
        )
        return len(gateways), site.internal_bgp, legs

    def _how(self, leg: Leg) -> str:
        """What a way is, without its name: by which line, in which role, at which place."""
        if isinstance(leg, SettledCircuit):
            parts = [leg.provider or "", leg.routing]
        else:
            parts = [leg.uplink.name, leg.uplink.provider or "", leg.role]
        parts.append(f"preference {leg.preference}")
        return ", ".join(part for part in parts if part)

    def _site(self, group: list[SettledSite]) -> Box:
        site, count = group[0], len(group)
        rows = [Row(site.name if count == 1 else f"{count} sites alike", heading=True)]
        if count > 1:
            rows += [Row(text) for text in _named([one.name for one in group])]
        else:
            networks = [f"{n.name}  {_both(n.prefix)}" for n in site.networks.values()]
            rows += [Row(text) for text in _named(networks)]
        for name in site.gateways:
            rows += self._gateway(self._settled.gateways[name], alone=count == 1)
        return Box(site.name, 0, tuple(rows), count)

    def _gateway(self, gateway: SettledGateway, *, alone: bool) -> Iterator[Row]:
        speaks = "" if gateway.asn is None or not alone else f"  AS {gateway.asn}"
        yield Row(f"{gateway.name}{speaks}" if alone else "gateway", heading=True)
        for leg in self._settled.legs_at(gateway.name):
            words = f"{leg.name}: {self._how(leg)}" if alone else self._how(leg)
            yield Row(self._with_state(words, leg.label), leg.label)
        if self._settled.sites[gateway.site].internal_bgp:
            beside = [other.name for other in self._settled.internal_peers(gateway.name)]
            if beside and alone:
                yield Row(f"internal BGP with {', '.join(beside)}")

    def _with_state(self, text: str, label: str) -> str:
        state = self._states.get(label, "")
        return f"{text}: {state}" if state else text

    # Clouds

    def _cloud(self, cloud: SettledCloud) -> Box:
        legs = list(self._settled.legs_at(cloud.name))
        hubs = self._settled.hubs_of(cloud.name)
        column = 1 if legs or cloud.is_hub else 2
        kind = "hub" if cloud.is_hub else "cloud network"
        speaks = "" if cloud.asn is None else f"  AS {cloud.asn}"
        rows = [Row(f"{kind} {cloud.name}{speaks}", heading=True)]
        if cloud.owner is not None:
            rows.append(Row(f"of {cloud.owner}"))
        if not cloud.is_hub:
            rows += [Row(", ".join(map(str, cloud.all_spaces)))]
            held = [f"{s.name}  {_both(s.prefix)}" for s in cloud.subnets.values()]
            rows += [Row(text) for text in _named(held)]
        for hub in hubs:
            way = Attachment(hub, cloud.name).label
            rows.append(Row(self._with_state(f"attached to {hub}", way), way))
        rows += self._ends(cloud, legs)
        rows += self._tables(cloud)
        return Box(cloud.name, column, tuple(rows))

    def _ends(self, cloud: SettledCloud, legs: list[Leg]) -> Iterator[Row]:
        """Each instance with what ends at it, then circuits."""
        for number, addresses in enumerate(cloud.instances, 1):
            here = [
                leg for leg in legs if isinstance(leg, SettledTunnel) and leg.instance == number
            ]
            zone = f", zone {cloud.zones[number - 1]}" if cloud.zones else ""
            if here:
                listed = ", ".join(map(str, addresses))
                yield Row(f"instance {number}{zone}  {listed}", heading=True)
                yield from self._arrivals(here)
        circuits = [leg for leg in legs if isinstance(leg, SettledCircuit)]
        if circuits:
            yield Row("dedicated lines", heading=True)
            yield from self._arrivals(circuits)

    def _arrivals(self, legs: Iterable[Leg]) -> Iterator[Row]:
        """A row for each that is drawn."""
        for leg in legs:
            site = self._settled.gateways[leg.gateway].site
            if site in self._folded:
                count = len(self._folded[site])
                whose = site if count == 1 else f"{count} sites"
                name = leg.label if isinstance(leg, SettledTunnel) else leg.name
                words = f"{whose}: {name}" if count == 1 else f"{whose}: {leg.name} of each"
                yield Row(words, leg.label)

    def _tables(self, cloud: SettledCloud) -> Iterator[Row]:
        """Rows for a hub's route tables: who uses each, and its members with what they use."""
        if not cloud.is_hub:
            return
        yield Row("route tables", heading=True)
        for table in cloud.hub_tables:
            users = sorted(table.users)
            named = ", ".join(users) if len(users) <= 2 else f"{len(users)} users"
            yield Row(f"{table.name}: {len(table.learns)} fill it, for {named or 'nobody'}")
        if cloud.members:
            yield Row("members", heading=True)
        for member in cloud.members:
            way = Attachment(cloud.name, member).label
            yield Row(member, way)

    # Lines

    def _lines(self) -> Iterator[Line]:
        for leg in self._settled.legs():
            site = self._settled.gateways[leg.gateway].site
            if site in self._folded:
                state = self._states.get(leg.label, "")
                count = len(self._folded[site])
                yield Line(leg.label, leg.kind, (site, leg.cloud), state, count)
        for way in self._settled.attachments():
            state = self._states.get(way.label, "")
            yield Line(way.label, ATTACHED, (way.hub, way.member), state)


def _both(prefixes: Dual[Prefix]) -> str:
    return ", ".join(map(str, prefixes))


def _named(texts: list[str]) -> Iterator[str]:
    """All, or the first and how many more."""
    shown = texts if len(texts) <= MOST_ROWS else texts[: MOST_ROWS - 1]
    yield from shown
    if len(shown) < len(texts):
        yield f"and {len(texts) - len(shown)} more"
