"""How classes of prefixes look from below: to routers that hear the same routers pass things on.

What such a router makes of a class depends on a few things only: how long the AS path is that each
of those above would advertise, its origin and communities, whether a summary is advertised instead,
and whether the router's lists let it in. Classes that look the same are one group. Left out of
groups, for each router, are the few classes that concern just this one: its own, those advertised
to it alone, and those that come from it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

from obrin.core.address.prefix import Prefix
from obrin.core.routing.held import Held
from obrin.core.routing.network import Network, PrefixClass
from obrin.core.routing.path import ases

Look = tuple[int, int, tuple[int, ...], bool]


def look_of(held: Held) -> Look:
    """All of what a router above has that matters to the choice below."""
    path = held.path
    return len(path.as_path), path.origin, path.communities, held.internal


@dataclass(slots=True)
class View:
    """Groups of classes as seen below some routers, and what makes a class one router's own."""

    groups: dict[object, list[PrefixClass]] = field(default_factory=dict)
    by_way: dict[str, list[PrefixClass]] = field(default_factory=dict)
    by_asn: dict[int, list[PrefixClass]] = field(default_factory=dict)


def make_view(
    network: Network, above: tuple[str, ...], held_by: Callable[[str, PrefixClass], Held | None]
) -> View:
    """`held_by` tells what a router above has."""
    below = [r for r, upstream in network.upstream.items() if upstream == above]
    lists = frozenset[int]().union(*(network.lets_in.get(r, frozenset()) for r in below))
    summed = frozenset[Prefix]().union(*(network.summed.get(r, frozenset()) for r in below))
    view = View()
    for kind in network.classes:
        looks: list[Look | None] = []
        for router in above:
            held = held_by(router, kind)
            if held is None:
                looks.append(None)
                continue
            looks.append(look_of(held))
            view.by_way.setdefault(held.via, []).append(kind)
            for asn in set(ases(held.path.as_path)):
                view.by_asn.setdefault(asn, []).append(kind)
        if any(look is not None for look in looks):
            key = (tuple(looks), kind.lists & lists, kind.summaries & summed, kind.bits)
            view.groups.setdefault(key, []).append(kind)
    return view


def particular(network: Network, view: View, router: str) -> dict[int, PrefixClass]:
    """The classes that concern just this router, by number."""
    numbers = network.advertised_to.get(router, frozenset()) | network.owned_by(router)
    found: list[Iterable[PrefixClass]] = [network.classes_in(n) for n in numbers]
    found += [view.by_way.get(way, ()) for way in network.ways.get(router, ())]
    asn = network.asn_of.get(router)
    if asn is not None:
        found.append(view.by_asn.get(asn, ()))
    return {kind.number: kind for kinds in found for kind in kinds}
