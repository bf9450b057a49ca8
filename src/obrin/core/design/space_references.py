"""Names and values about address space that must fit together: pools, roles, translation."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator

from obrin.core.design.mistakes import Mistake, unknown
from obrin.core.design.model import Cloud, Design, Link
from obrin.core.design.reader import Location
from obrin.core.design.sites import Site


def space_problems(design: Design) -> Iterator[Mistake]:
    """Every mistake that needs more than one entity to be seen."""
    yield from _pools(design)
    for name, role in design.roles.items():
        if role.hosts is not None and role.length is not None:
            yield _both(("roles", name))
    for name, site in design.sites.items():
        yield from _wishes(design, site, ("sites", name, "networks"))
    for name, cloud in design.clouds.items():
        yield from _wishes(design, cloud, ("clouds", name, "subnets"))
    for name, link in design.links.items():
        end = design.sites.get(link.site)
        if end is not None:
            yield from _link(link, end, ("links", name))


def _pools(design: Design) -> Iterator[Mistake]:
    listed = [(p, name) for name, pool in design.pools.items() for p in pool.prefixes]
    for (one, first), (other, second) in itertools.combinations(sorted(listed), 2):
        if one.overlaps(other):
            yield Mistake(
                ("pools", second),
                f"{other} of pool '{second}' overlaps {one} of pool '{first}'"
                if first != second
                else f"{other} and {one} of pool '{second}' overlap",
                "Make them disjoint: what is free in one must not be taken from the other",
            )
    regions = {site.region for site in design.sites.values()}
    regions |= {cloud.region for cloud in design.clouds.values()}
    for name, pool in design.pools.items():
        if pool.region is not None and pool.region not in regions:
            known = [region for region in regions if region]
            yield unknown("region", pool.region, known, ("pools", name, "region"))


def _both(location: Location) -> Mistake:
    return Mistake(location, "'hosts' and 'length' say the same thing twice", "Keep one of the two")


def _wishes(design: Design, entity: Site | Cloud, here: Location) -> Iterator[Mistake]:
    wishes = entity.networks if isinstance(entity, Site) else entity.subnets
    for name, wish in wishes.items():
        if wish.role is not None and wish.role not in design.roles:
            yield unknown("role", wish.role, design.roles, (*here, name, "role"))
        if wish.hosts is not None and wish.length is not None:
            yield _both((*here, name))


def _named(link: Link) -> tuple[tuple[str, Iterable[str]], ...]:
    """Check the networks of its site that a link names."""
    return ("seen-as", link.seen_as), ("seen-as6", link.seen_as6), ("only", link.only)


def _link(link: Link, site: Site, here: Location) -> Iterator[Mistake]:
    for key, named in _named(link):
        for network in named:
            if network not in site.networks:
                place = (*here, key, network)
                yield unknown(f"network of {link.site}", network, site.networks, place)
            elif link.networks is not None and network not in link.networks:
                yield Mistake(
                    (*here, key, network),
                    f"'{network}' does not use this link",
                    "Add it to the link's 'networks', or take it out here",
                )
