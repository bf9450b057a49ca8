"""Filling the blanks: deterministic, complete, and stable because what was chosen once is kept.

Every blank is a `place` in the design. `settle` visits them in a fixed order: suites, AS numbers,
classes, address spaces, subnets, public addresses, translated prefixes, inside blocks, loopbacks.
At each it takes, in this order, what the design says, what was chosen before if it still fits, the
first value that fits. Only one value is drawn at random, once: the unique local prefix of a
dual-stack design (RFC 4193 wants that).
"""

from __future__ import annotations

from dataclasses import replace
from types import MappingProxyType

from obrin.core.address.prefix import parse_prefix
from obrin.core.address.ula import UNIQUE_LOCAL, unique_local_prefix
from obrin.core.catalogue.offering import PRACTICE_CLOUD, Offered
from obrin.core.design.model import Design
from obrin.core.design.needs import needs_of
from obrin.core.design.references import all_suites
from obrin.core.settle.choices import Choice, Choices, Value
from obrin.core.settle.classes import settle_class
from obrin.core.settle.inside import settle_inside_blocks, settle_loopbacks
from obrin.core.settle.numbers import settle_as_numbers, settle_peers, settle_public_addresses
from obrin.core.settle.spaces import settle_spaces
from obrin.core.settle.suites import settle_suites
from obrin.core.settle.translation import settle_translation
from obrin.core.settle.work import Work, families

__all__ = ["settle", "without"]


def settle(
    design: Design,
    previous: Choices = MappingProxyType({}),
    offering: Offered = PRACTICE_CLOUD,
    random: bytes = bytes(5),
) -> dict[str, Choice]:
    """A choice for every blank, by place; those of `previous` are kept where they still do.

    What is given up by this is given to nobody by the same settling, as long as there is other: the
    tunnel, site or cloud that had it stands until the change is made, beside what comes instead.

    `offering` are the classes and rules of the clouds, `random` five bytes for the unique local
    prefix (RFC 4193).

    Raises SettleError naming the bottleneck.
    """
    work = Work(
        design=design,
        previous=previous,
        offering=offering,
        suites=all_suites(design),
        needs=needs_of(design),
        random=random,
    )
    chosen = _settled(work)
    left = {key: old for key, old in previous.items() if not _has(chosen, key, old)}
    if not left or chosen.keys() <= previous.keys() - left.keys():
        return chosen
    return _settled(replace(work, left=left, chosen={}))


def _has(chosen: Choices, key: str, old: Choice) -> bool:
    return key in chosen and chosen[key].value == old.value


def _settled(work: Work) -> dict[str, Choice]:
    design = work.design
    settle_suites(work)
    settle_as_numbers(work)
    for name, cloud in design.clouds.items():
        settle_class(work, name, cloud)
    _unique_local(work)
    for bits in families(design):
        settle_spaces(work, bits)
    for bits in (32, 128):
        settle_public_addresses(work, bits)
    settle_peers(work)
    settle_translation(work)
    for bits in families(design):
        settle_inside_blocks(work, bits)
    settle_loopbacks(work)
    return work.chosen


def _unique_local(work: Work) -> None:
    if 128 not in families(work.design) or work.design.ula is not None:
        return

    def fits(value: Value) -> bool:
        prefix = parse_prefix(str(value))
        return prefix.length == 48 and UNIQUE_LOCAL.covers(prefix)

    if not work.keep("ula", fits):
        drawn = unique_local_prefix(work.random)
        work.choose("ula", str(drawn), "drawn at random, as RFC 4193 wants; it stays")


def without(previous: Choices, places: tuple[str, ...]) -> dict[str, Choice]:
    """Earlier choices but for those at or below some places (`all` for every one)."""
    return {
        key: choice
        for key, choice in previous.items()
        if not any(p in ("all", key) or key.startswith(f"{p}.") for p in places)
    }
