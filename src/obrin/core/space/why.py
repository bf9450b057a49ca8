"""What a settled range was chosen from, and who kept it from other places: for explanations."""

from __future__ import annotations

from obrin.core.address.prefix import Prefix
from obrin.core.errors import AddressError
from obrin.core.settle.choices import Choices
from obrin.core.settle.pools import DEFAULTS
from obrin.core.settle.work import prefixes_in
from obrin.core.settled.model import Settled
from obrin.core.space.view import USES, SpaceView


def chosen_from(settled: Settled, choices: Choices, key: str) -> list[Prefix]:
    """The ranges that a value could have come from; the first that covers it is where it did."""
    parts = key.split(".")
    try:
        value = prefixes_in(choices[key].value)[0]
    except AddressError:
        return []
    if parts[0] == "clouds" and ("subnets" in parts or "gateway" in parts):
        cloud = settled.clouds[parts[1]]
        return [p for p in cloud.all_spaces if p.bits == value.bits]
    if parts[0] == "sites" and "networks" in parts:
        held = choices.get(f"sites.{parts[1]}.space" + ("6" if value.bits == 128 else ""))
        given = settled.sites[parts[1]].given_spaces
        spaces = [prefix for prefix in given if prefix.bits == value.bits]
        return spaces or (prefixes_in(held.value) if held else [])
    purpose = {"links": "inside", "regions": parts[2] if len(parts) > 2 else ""}.get(
        parts[0], parts[0]
    )
    if "seen-as" in key:
        purpose = "translation"
    pools = settled.surroundings.pools.values()
    named = [
        prefix
        for pool in pools
        if pool.purpose == purpose.rstrip("6")
        for prefix in pool.prefixes
        if prefix.bits == value.bits
    ]
    if named or value.bits == 128:
        return named
    return list(DEFAULTS.get(purpose, ()))


def excluded_by(view: SpaceView, key: str, prefix: Prefix) -> list[tuple[Prefix, str]]:
    """Who uses any of a range, and what, other than what the key itself names."""
    parts = key.split(".")
    mine = {parts[1], f"{parts[1]}/{parts[-2]}"} if len(parts) > 2 else set()
    if parts[0] == "links":
        mine = {f"{parts[1]}/{parts[3]}"} if len(parts) > 3 else set()
    inside_space = "subnets" in parts or "networks" in parts or "gateway" in parts
    kinds = (
        USES
        | {"forbidden by the cloud"}
        | (set() if inside_space else {"cloud space", "site space"})
    )
    if parts[0] == "links" and "inside" in parts[-1]:
        kinds = frozenset({"inside", "reserved by the cloud"})
    found = []
    for entry in (*view.above(prefix), *view.inside(prefix)):
        if entry.kind not in kinds or (entry.owner in mine and entry.kind != "gateway subnet"):
            continue
        if not inside_space and entry.place in mine:
            continue
        found.append((entry.prefix, entry.label))
        if len(found) == 3:
            break
    return found
