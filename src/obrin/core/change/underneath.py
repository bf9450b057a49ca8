"""What stands at one place in a state whatever tunnels there are, in the words of its sheet: its
own values, what joins it to others, the filter, and what hosts let in."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from obrin.core.change.place_parts import kept_names
from obrin.core.change.standing import Entries, Side, by_key
from obrin.core.change.states import NEW, OLD, Between, Done
from obrin.core.handover.ends.records import internal_at
from obrin.core.handover.sheet.blocks import Block, Heading, Table
from obrin.core.handover.sheet.entries import Entry, entries_of, row_entry
from obrin.core.handover.sheet.joining import hub_blocks, internal_blocks
from obrin.core.handover.sheet.sheet import (
    ATTACHED,
    FILTER_HEAD,
    FILTER_PART,
    LAST_RULE,
    OWN_PART,
    cloud_speaker_values,
    hosts_blocks,
    own_values,
    rule_cells,
)
from obrin.core.reach.filters import Rule
from obrin.core.settled.model import Settled

_FILTER = Table(FILTER_HEAD, (), name="filter", listed=True)


def underneath(between: Between, place: str, done: Done, sides: tuple[Side, Side]) -> Entries:
    """Everything at a place that belongs to no tunnel and no circuit, in a state. Raises nothing
    for a place that one of the designs does not have."""
    phase = between.phase(place, done)
    before, after = sides
    if phase == OLD:
        return _of_one(before, between.old[place].rules)
    if phase == NEW:
        return _of_one(after, between.new[place].rules)
    if not (before.there and after.there):
        return _of_one(after if after.there else before, _both_rules(between, place))
    old, new = (by_key(_own(side.settled, place)) for side in sides)
    found = by_key(_own(between.merged(place), place))
    found |= {key: entry for key, entry in old.items() if key not in new and key not in found}
    for blocks in (_internal, _hosts):
        old, new = (by_key(entries_of(blocks(side))) for side in sides)
        there = {entry.cells[0] for entry in new.values()}
        if place in after.settled.clouds:  # a subnet has the firewalls of the new design
            there |= after.settled.clouds[place].subnets.keys()
        found |= {key: e for key, e in old.items() if e.cells[0] not in there} | new
    return found | _filter(_both_rules(between, place))


def _both_rules(between: Between, place: str) -> tuple[Rule, ...]:
    return kept_names(between.old[place].rules, between.new[place].rules)


def _of_one(side: Side, rules: Iterable[Rule]) -> Entries:
    if not side.there:
        return {}
    found = by_key(_own(side.settled, side.place))
    for blocks in (_internal, _hosts):
        found |= by_key(entries_of(blocks(side)))
    return found | _filter(rules)


def _filter(rules: Iterable[Rule]) -> Entries:
    cells = (*map(rule_cells, rules), LAST_RULE)
    return by_key(row_entry(_FILTER, FILTER_PART, row) for row in cells)


def _own(settled: Settled, place: str) -> Iterator[Entry]:
    """To what a cloud is attached is entered at the hub."""
    values = [*own_values(settled, place)]
    if place in settled.clouds:
        values += cloud_speaker_values(settled, place)
    blocks: list[Block] = [Heading(2, OWN_PART), Table(("Value", "Enter"), values)]
    cloud = settled.clouds.get(place)
    if cloud is not None and cloud.is_hub:
        blocks += hub_blocks(cloud)
    yield from (entry for entry in entries_of(blocks) if entry.row != ATTACHED)


def _internal(side: Side) -> Iterator[Block]:
    sessions = internal_at(side.settled, side.place)
    return internal_blocks(sessions) if sessions else iter(())


def _hosts(side: Side) -> Iterator[Block]:
    return hosts_blocks(side.settled, side.place)
