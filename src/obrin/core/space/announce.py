"""What to announce: the fewest prefixes that cover exactly what a place or region has."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.address.prefix import Prefix
from obrin.core.address.space import summaries
from obrin.core.space.view import SpaceView


@dataclass(frozen=True, slots=True)
class Announcement:
    """`exact` covers the networks and nothing else. `held` are the prefixes kept for the group:
    shorter to announce, where nobody else uses what lies between."""

    kind: str
    name: str
    networks: int
    exact: tuple[Prefix, ...]
    held: tuple[Prefix, ...]


def announcements(view: SpaceView) -> list[Announcement]:
    """Announcements for every region, site and cloud; regions first."""
    found = []
    uses = view.of_kind("network", "cloud space")
    regions = dict.fromkeys(e.region for e in uses if e.region)
    for region in regions:
        mine = [e.prefix for e in uses if e.region == region]
        held = [e.prefix for e in view.of_kind("region") if e.owner == region]
        found.append(_group("region", region, mine, held))
    for kind, holder in (("network", "site space"), ("cloud space", "cloud space")):
        entries = view.of_kind(kind)
        holders: dict[str, list[Prefix]] = {}
        for entry in view.of_kind(holder):
            holders.setdefault(entry.place, []).append(entry.prefix)
        by_place: dict[str, list[Prefix]] = {}
        for entry in entries:
            by_place.setdefault(entry.place, []).append(entry.prefix)
        name = "site" if kind == "network" else "cloud"
        for place, prefixes in by_place.items():
            found.append(_group(name, place, prefixes, holders.get(place, [])))
    return found


def _group(kind: str, name: str, mine: list[Prefix], held: list[Prefix]) -> Announcement:
    whole = all(any(block.covers(p) for block in held) for p in mine)
    return Announcement(
        kind, name, len(mine), tuple(summaries(mine)), tuple(summaries(held)) if whole else ()
    )
