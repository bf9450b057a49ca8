"""What follows from preferences between the ways of a site."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.design.joining_references import ways_of_sites
from obrin.core.design.model import Design


@dataclass(frozen=True, slots=True)
class Rank:
    """`offset` is added to the preferences of a way's tunnels; `prepend` is how often the site's
    AS stands in front once more."""

    offset: int
    prepend: int


def rank_ways(design: Design) -> dict[str, dict[str, Rank]]:
    """List for each site its links and circuits in their order.

    Both ends of a tunnel can be given a preference, so that suffices between ways to one cloud or
    hub. Where two hubs bring the same networks, a member hears of the site from both, and no
    preference reaches that far: only the AS path does, so the later way has a longer one. Ways that
    lead to different networks do not count against each other.
    """
    return {site: _ranked(design, site, mine) for site, mine in ways_of_sites(design).items()}


def _ranked(design: Design, site: str, ways: list[str]) -> dict[str, Rank]:
    first = [way for way in design.sites[site].prefer if way in ways]
    order = list(dict.fromkeys([*first, *ways]))
    found: dict[str, Rank] = {}
    for number, way in enumerate(order):
        before = [o for o in order[:number] if _reached(design, o) & _reached(design, way)]
        offset = sum(_places(design, earlier) for earlier in before)
        others = {_end(design, o) for o in before} - {_end(design, way)}
        found[way] = Rank(offset, len(others))
    return found


def _end(design: Design, way: str) -> str:
    return design.circuits[way].cloud if way in design.circuits else design.links[way].cloud


def _places(design: Design, way: str) -> int:
    return 1 if way in design.circuits else len(design.links[way].tunnels)


def _reached(design: Design, way: str) -> frozenset[str]:
    """The cloud networks that a way leads to."""
    cloud = design.clouds[_end(design, way)]
    return frozenset((_end(design, way),) if cloud.hub is None else cloud.hub.members)
