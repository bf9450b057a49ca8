"""The routes that a device was seen to use, against those that the model has it use."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from obrin.core.address.prefix import Address, Prefix
from obrin.core.address.table import PrefixTable
from obrin.core.routing.against_dump import Difference
from obrin.core.routing.model import state_of
from obrin.core.routing.tables import IN_USE, SHARES, table_rows
from obrin.core.settled.model import Settled

NOT_KNOWN = "not known"


Routes = Iterable[tuple[Prefix, str]]
"""Prefixes, each with the tunnel, circuit, network or anything else that it leads to; with several
for one that is shared."""


def used_differences(
    settled: Settled, place: str, routes: Routes, unclear: Mapping[Prefix, str] | None = None
) -> Iterator[Difference]:
    """What a packet would meet: a wider route that leads the same way is not a difference, nor is
    anything beyond the design's prefixes. `unclear` are prefixes of which the device lists several
    routes and does not say which it uses, each with why. Raises KeyError for a place without a
    table."""
    model = _table(
        (row.prefix, row.via)
        for row in table_rows(settled, place, state_of(settled))
        if row.state in (IN_USE, SHARES)
    )
    seen, legs = _table(routes), {leg.label for leg in settled.legs_at(place)}
    for prefix, wanted in model.items():
        found = _longest(seen, prefix)
        via = ", ".join(sorted(wanted))
        if found is None:
            yield Difference("missing", prefix, via, "the device has no route there")
        elif found[1] != wanted:
            there = f"leads to {', '.join(sorted(found[1]))}"
            if wanted & found[1] and (why := (unclear or {}).get(found[0])) is not None:
                yield Difference(NOT_KNOWN, prefix, via, f"{there}, and of these, {why}")
                continue
            wider = "" if found[0] == prefix else f" by {found[0]}"
            yield Difference("differs", prefix, via, f"{there}{wider}; the model: {via}")
    for prefix, vias in seen.items():
        over = None if model.get(prefix) else _longest(model, prefix)
        alone = prefix.length == prefix.bits and not vias & legs  # an address of its own
        if over is not None and over[1] != vias and not alone:
            text = f"a part of {over[0]}, which is to lead to {', '.join(sorted(over[1]))}"
            yield Difference("unexpected", prefix, ", ".join(sorted(vias)), text)


def _table(routes: Routes) -> PrefixTable[set[str]]:
    found: PrefixTable[set[str]] = PrefixTable()
    for prefix, via in routes:
        held = found.get(prefix)
        if held is None:
            found[prefix] = {via}
        else:
            held.add(via)
    return found


def _longest(table: PrefixTable[set[str]], prefix: Prefix) -> tuple[Prefix, set[str]] | None:
    """The most specific entry that holds all of a prefix."""
    held = table.matches(Address(prefix.bits, prefix.value))
    return next((entry for entry in held if entry[0].length <= prefix.length), None)
