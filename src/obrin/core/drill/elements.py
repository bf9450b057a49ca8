"""What can fail: a tunnel, circuit, uplink, provider, gateway, instance, zone, cloud or hub."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass

from obrin.core.errors import ObrinError
from obrin.core.naming import those_near
from obrin.core.settled.links import Leg, SettledCircuit
from obrin.core.settled.model import Settled
from obrin.core.settled.ways import Neighbour

KINDS = (
    "tunnel",
    "circuit",
    "uplink",
    "provider",
    "gateway",
    "instance",
    "zone",
    "cloud",
    "hub",
)


@dataclass(frozen=True, slots=True, order=True)
class Element:
    """One thing that fails as a whole; `name` as in the design, `uplink:hh-east/fibre` as text."""

    kind: str
    name: str

    def __str__(self) -> str:
        return f"{self.kind}:{self.name}"


def names_of(settled: Settled, leg: Leg) -> Iterator[Element]:
    """Everything that a tunnel or circuit depends on."""
    cloud = settled.clouds[leg.cloud]
    if isinstance(leg, SettledCircuit):
        provider = leg.provider
        yield Element("circuit", leg.name)
    else:
        provider = leg.uplink.provider
        yield Element("tunnel", leg.label)
        yield Element("uplink", f"{leg.gateway}/{leg.uplink.name}")
        yield Element("instance", f"{leg.cloud}/{leg.instance}")
        if cloud.zones:
            region, zone = cloud.region or "unnamed", cloud.zones[leg.instance - 1]
            yield Element("zone", f"{region}/{zone}")
    if provider is not None:
        yield Element("provider", provider)
    yield Element("gateway", leg.gateway)
    yield Element("hub" if cloud.is_hub else "cloud", leg.cloud)


def takes(settled: Settled) -> dict[Element, frozenset[str]]:
    """The ways that each element takes along when it fails."""
    found: dict[Element, set[str]] = {}
    for leg in settled.legs():
        for element in names_of(settled, leg):
            found.setdefault(element, set()).add(leg.label)
    for way in settled.attachments():
        for element in (Element("hub", way.hub), Element("cloud", way.member)):
            found.setdefault(element, set()).add(way.label)
    for element, ways in found.items():
        if element.kind == "gateway":
            site = settled.sites[settled.gateways[element.name].site]
            if site.internal_bgp or site.leaves_by_order:
                ways.add(Neighbour(element.name).label)
    return {element: frozenset(ways) for element, ways in found.items()}


def elements(settled: Settled, kinds: Collection[str] = KINDS) -> list[Element]:
    """All elements that some way depends on, kind by kind."""
    return of_kinds(takes(settled), kinds)


def of_kinds(found: Iterable[Element], kinds: Collection[str]) -> list[Element]:
    """Elements of some kinds, kind by kind."""
    ranks = {kind: number for number, kind in enumerate(KINDS) if kind in kinds}
    held = (e for e in found if e.kind in ranks)
    return sorted(held, key=lambda e: (ranks[e.kind], e.name))


def parse_elements(settled: Settled, texts: Collection[str]) -> tuple[Element, ...]:
    """`kind:name` each. Raises ObrinError for what the design does not have."""
    if not texts:
        return ()
    known = {str(element): element for element in elements(settled)}
    found = []
    for text in texts:
        if text not in known:
            raise ObrinError(
                f"nothing here is called '{text}'. There are: {those_near(text, known)}"
            )
        found.append(known[text])
    return tuple(found)


def lost_ways(settled: Settled, failed: Collection[Element]) -> frozenset[str]:
    """Everything that the failed elements take along."""
    if not failed:
        return frozenset()
    known = takes(settled)
    return frozenset().union(*(known.get(element, frozenset()) for element in failed))
