"""Why a value was settled as it is: the candidates, what excluded each, and what decided."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from obrin.core.address.prefix import Prefix, parse_prefix
from obrin.core.catalogue.offering import Offered
from obrin.core.design.model import Design
from obrin.core.design.references import all_suites
from obrin.core.settle.blank import Blank, cloud_key, site_key
from obrin.core.settle.choices import Choices
from obrin.core.settle.classes import demand_of, judge_classes
from obrin.core.settle.numbers import as_pools
from obrin.core.settle.suites import common_suites

MOST_SHOWN = 12
OwnersOf = Callable[[Prefix], list[tuple[Prefix, str]]]


@dataclass(frozen=True, slots=True)
class Candidate:
    """`excluded` is empty for the one that was taken and for those after it."""

    value: str
    excluded: str


@dataclass(frozen=True, slots=True)
class Explanation:
    """`decided` says in a sentence what decided between the candidates that were left."""

    key: str
    value: str
    why: str
    candidates: tuple[Candidate, ...]
    decided: str


def explain(
    design: Design,
    offering: Offered,
    choices: Choices,
    key: str,
    holders: list[Prefix],
    owners: OwnersOf,
) -> Explanation:
    """Explain a key of `choices`. `holders` are the ranges it was chosen from; `owners` tells who
    uses a range.

    Raises KeyError.
    """
    choice = choices[key]
    value = ", ".join(choice.value) if isinstance(choice.value, list) else str(choice.value)
    blank = Blank.of(key)
    if blank.field == "class":
        candidates, decided = _classes(design, offering, blank.owner)
    elif blank.field == "suite":
        candidates, decided = _suites(design, blank.owner)
    elif blank.field == "as":
        candidates, decided = _numbers(design, choices, key)
    elif "/" in value and holders:
        first = parse_prefix(value.split(", ")[0])
        candidates, decided = (
            tuple(_ranges(first, holders, owners)),
            (
                "the lowest place in the smallest free block that holds it, so that large free "
                "blocks stay whole"
            ),
        )
        if blank.gateway_subnet:
            decided = "the last free place of the space, out of the way of the workloads"
    else:
        candidates, decided = (), "the first value that nobody else has"
    return Explanation(key, value, choice.why, candidates, decided)


def _classes(design: Design, offering: Offered, cloud: str) -> tuple[tuple[Candidate, ...], str]:
    judged = judge_classes(demand_of(design, cloud), offering.of(cloud))
    return tuple(Candidate(j.entry.name, j.lacks) for j in judged), "the lowest monthly cost"


def _suites(design: Design, link_name: str) -> tuple[tuple[Candidate, ...], str]:
    suites = all_suites(design)
    common = common_suites(design, link_name, suites)
    found = [Candidate(name, "") for name in common]
    found += [Candidate(n, "not offered by both ends") for n in suites if n not in common]
    return tuple(found), "the strongest, and among equals the one that the site names first"


def _numbers(design: Design, choices: Choices, key: str) -> tuple[tuple[Candidate, ...], str]:
    used: dict[int, str] = {}
    entities = [
        (f"cloud {name}", cloud_key(name, "gateway", "as"), cloud.gateway.asn)
        for name, cloud in design.clouds.items()
    ]
    entities += [
        (f"site {name}", site_key(name, "gateways", gateway, "as"), entity.asn)
        for name, site in design.sites.items()
        for gateway, entity in site.gateways.items()
    ]
    for owner, place, given in entities:
        number = given or (choices[place].value if place in choices else None)
        if number is not None:
            used.setdefault(int(str(number)), owner)
    mine = int(str(choices[key].value))
    found: list[Candidate] = []
    for pool in as_pools(design, "cloud" if Blank.of(key).part == "clouds" else "site"):
        for number in pool:
            if number == mine:
                return (*found[-MOST_SHOWN:], Candidate(str(mine), "")), "the lowest free number"
            found.append(Candidate(str(number), f"has {used.get(number, 'been free since')}"))
    return (Candidate(str(mine), ""),), "kept from before"


def _ranges(taken: Prefix, holders: list[Prefix], owners: OwnersOf) -> Iterator[Candidate]:
    """The places of this length up to the one taken; runs with the same owner are one line."""
    shown = 0
    for holder in holders:
        inside = holder.covers(taken)
        size = 1 << (taken.bits - max(taken.length, holder.length))
        value, end = holder.value, taken.value if inside else holder.last + 1
        while value < end and shown < MOST_SHOWN:
            place = Prefix(taken.bits, value, max(taken.length, holder.length))
            found = owners(place)
            if found:
                after = max(prefix.last for prefix, _ in found) + 1
                words = " and ".join(f"{prefix} of {label}" for prefix, label in found)
                reason = f"used by {words}"
            else:
                after = _free_block(place, holder, owners).last + 1
                reason = "free, but in a larger free block"
            value = min(max(-(-after // size) * size, value + size), end)
            last = Prefix(taken.bits, value - size, place.length)
            yield Candidate(str(place) if last == place else f"{place} to {last}", reason)
            shown += 1
        if inside:
            break
    yield Candidate(str(taken), "")


def _free_block(place: Prefix, holder: Prefix, owners: OwnersOf) -> Prefix:
    """The largest free range that begins here."""
    wide = place
    while wide.length > holder.length:
        parent = wide.widened(wide.length - 1)
        if parent.value != wide.value or owners(parent):
            break
        wide = parent
    return wide
