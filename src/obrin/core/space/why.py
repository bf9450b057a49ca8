"""What a settled range was chosen from, and who kept it from other places: for explanations."""

from __future__ import annotations

from obrin.core.address.prefix import Prefix
from obrin.core.errors import AddressError
from obrin.core.settle.blank import Blank, site_key
from obrin.core.settle.choices import Choices
from obrin.core.settle.pools import DEFAULTS
from obrin.core.settle.work import prefixes_in
from obrin.core.settled.model import Settled
from obrin.core.space.view import USES, SpaceView


def chosen_from(settled: Settled, choices: Choices, key: str) -> list[Prefix]:
    """The ranges that a value could have come from; the first that covers it is where it did."""
    blank = Blank.of(key)
    try:
        value = prefixes_in(choices[key].value)[0]
    except AddressError:
        return []
    if blank.part == "clouds" and blank.inside_space:
        cloud = settled.clouds[blank.owner]
        return [p for p in cloud.all_spaces if p.bits == value.bits]
    if blank.part == "sites" and blank.inside_space:
        held = choices.get(site_key(blank.owner, "space") + ("6" if value.bits == 128 else ""))
        given = settled.sites[blank.owner].given_spaces
        spaces = [prefix for prefix in given if prefix.bits == value.bits]
        return spaces or (prefixes_in(held.value) if held else [])
    pools = settled.surroundings.pools.values()
    named = [
        prefix
        for pool in pools
        if pool.purpose == blank.purpose
        for prefix in pool.prefixes
        if prefix.bits == value.bits
    ]
    if named or value.bits == 128:
        return named
    return list(DEFAULTS.get(blank.purpose, ()))


def excluded_by(view: SpaceView, key: str, prefix: Prefix) -> list[tuple[Prefix, str]]:
    """Say who uses any of a range, and what, other than what the key itself names."""
    blank = Blank.of(key)
    mine = _own(blank)
    kinds = USES | {"forbidden by the cloud"}
    if not blank.inside_space:
        kinds |= {"cloud space", "site space"}
    if blank.field == "inside":
        kinds = frozenset({"inside", "reserved by the cloud"})
    found = []
    for entry in (*view.above(prefix), *view.inside(prefix)):
        if entry.kind not in kinds or (entry.owner in mine and entry.kind != "gateway subnet"):
            continue
        if not blank.inside_space and entry.place in mine:
            continue
        found.append((entry.prefix, entry.label))
        if len(found) == 3:
            break
    return found


def _own(blank: Blank) -> set[str]:
    """What in the view the blank itself is, which keeps nobody out."""
    if blank.part == "links":
        return {f"{blank.owner}/{blank.member}"} if blank.member else set()
    return {blank.owner, f"{blank.owner}/{blank.member or blank.group}"}
