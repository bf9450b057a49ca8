"""Prefixes by which one end of a link knows networks of the other, where these are translated."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from obrin.core.address.prefix import Prefix
from obrin.core.address.space import FreeSpace
from obrin.core.design.model import Design
from obrin.core.errors import SettleError
from obrin.core.settle.blank import Blank, cloud_key, link_key, site_key
from obrin.core.settle.holders import survey
from obrin.core.settle.left import SetAside
from obrin.core.settle.pools import pool_names, pools_of
from obrin.core.settle.work import Work, cloud_space, given_prefix, prefixes_in


def settle_translation(work: Work) -> None:
    """A prefix as long as the network it stands for, that nobody uses. Raises SettleError."""
    blanks = _blanks(work)
    if not blanks:
        return
    used = list(survey(work, 32).hard)
    used += [space for name in work.design.clouds for space in _spaces(work, name)]
    used += [
        block
        for key in work.chosen
        if Blank.of(key).field == "region"
        for block in prefixes_in(work.chosen[key].value)
        if block.bits == 32
    ]
    pools = [p for level in pools_of(work, "translation", None, 32) for p in level]
    spaces = [FreeSpace([pool], used) for pool in pools]
    waiting = []
    shared = {side: (prefixes, link) for link, side, prefixes in _given(work.design)}
    for key, blank in blanks.items():
        earlier = work.earlier_prefixes(key, 32)
        same = [p.length for p in earlier] == [p.length for p in blank.reals]
        known = shared.get(blank.side)
        if same and (
            (known is not None and known[0] == earlier)
            or all(any(s.reserve(p) for s in spaces) for p in earlier)
        ):
            work.chosen[key] = work.previous[key]
            shared.setdefault(blank.side, (earlier, blank.link))
        else:
            waiting.append(key)
    aside = SetAside(spaces, work.left_prefixes(32, inside=False))
    for key in sorted(waiting, key=lambda k: blanks[k].reals[0].length):
        blank = blanks[key]
        reals = ", ".join(map(str, blank.reals))
        if blank.side in shared:
            prefixes, link = shared[blank.side]
            why = f"stands for {reals}, as on link {link}, which can stand in for this one"
        else:
            prefixes = [_take(work, key, spaces, aside, real.length) for real in blank.reals]
            shared[blank.side] = prefixes, blank.link
            why = f"stands for {reals}; nobody else uses it"
        found = list(map(str, prefixes))
        work.choose(key, found[0] if len(found) == 1 else found, why)


Side = tuple[str, str, str]
"""A site, a cloud, and which of the site's networks is known by another prefix; empty for the
cloud's space. All links between the two have one prefix for it, or none could stand in for another:
hosts call it by one address."""


@dataclass(frozen=True, slots=True)
class _Blank:
    """`reals` are the prefixes that are stood for."""

    link: str
    side: Side
    reals: list[Prefix]


def _given(design: Design) -> Iterator[tuple[str, Side, list[Prefix]]]:
    for name, link in design.links.items():
        for network, prefix in link.seen_as.items():
            if prefix is not None:
                yield name, (link.site, link.cloud, network), [prefix]
        if link.cloud_seen_as is not None:
            yield name, (link.site, link.cloud, ""), list(link.cloud_seen_as)


def _take(work: Work, key: str, spaces: list[FreeSpace], aside: SetAside, length: int) -> Prefix:
    def take() -> Prefix | None:
        return next((b for space in spaces if (b := space.take(length)) is not None), None)

    found = aside.taken(take)
    if found is None:
        names = pool_names(work, "translation", None, 32)
        raise SettleError(
            f"{key}: no free /{length} in {names}. Add a pool for 'translation', or give one"
        )
    return found


def _spaces(work: Work, name: str) -> list[Prefix]:
    return work.prefixes_of(cloud_key(name, "space"), cloud_space(work.design.clouds[name], 32))


def _blanks(work: Work) -> dict[str, _Blank]:
    """Blanks by their keys in the settled file."""
    found = {}
    for link_name, link in work.design.links.items():
        site = work.design.sites[link.site]
        for network, given in link.seen_as.items():
            if given is None:
                key = site_key(link.site, "networks", network, "prefix")
                real = work.prefix_of(key, given_prefix(site.networks[network], 32))
                side = link.site, link.cloud, network
                found[link_key(link_name, "seen-as", network)] = _Blank(link_name, side, [real])
        if link.translates_cloud and link.cloud_seen_as is None:
            side, spaces = (link.site, link.cloud, ""), _spaces(work, link.cloud)
            found[link_key(link_name, "cloud-seen-as")] = _Blank(link_name, side, spaces)
    return found
