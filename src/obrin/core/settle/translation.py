"""Prefixes by which one end of a link knows networks of the other, where these are translated."""

from __future__ import annotations

from obrin.core.address.prefix import Prefix
from obrin.core.address.space import FreeSpace
from obrin.core.errors import SettleError
from obrin.core.settle.blank import Blank
from obrin.core.settle.holders import survey
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
    for key, reals in blanks.items():
        earlier = work.earlier_prefixes(key, 32)
        same = [p.length for p in earlier] == [p.length for p in reals]
        if same and all(any(s.reserve(p) for s in spaces) for p in earlier):
            work.chosen[key] = work.previous[key]
        else:
            waiting.append(key)
    for key in sorted(waiting, key=lambda k: blanks[k][0].length):
        found = [_take(work, key, spaces, real.length) for real in blanks[key]]
        why = f"stands for {', '.join(map(str, blanks[key]))}; nobody else uses it"
        work.choose(key, found[0] if len(found) == 1 else found, why)


def _take(work: Work, key: str, spaces: list[FreeSpace], length: int) -> str:
    found = next((b for space in spaces if (b := space.take(length)) is not None), None)
    if found is None:
        names = pool_names(work, "translation", None, 32)
        raise SettleError(
            f"{key}: no free /{length} in {names}. Add a pool for 'translation', or give one"
        )
    return str(found)


def _spaces(work: Work, name: str) -> list[Prefix]:
    return work.prefixes_of(f"clouds.{name}.space", cloud_space(work.design.clouds[name], 32))


def _blanks(work: Work) -> dict[str, list[Prefix]]:
    """Keys without a value, with the real prefixes that each stands for."""
    found = {}
    for link_name, link in work.design.links.items():
        site = work.design.sites[link.site]
        for network, given in link.seen_as.items():
            if given is None:
                key = f"sites.{link.site}.networks.{network}.prefix"
                real = work.prefix_of(key, given_prefix(site.networks[network], 32))
                found[f"links.{link_name}.seen-as.{network}"] = [real]
        if link.translates_cloud and link.cloud_seen_as is None:
            found[f"links.{link_name}.cloud-seen-as"] = _spaces(work, link.cloud)
    return found
