"""Which steps of a plan may be done at the same time, by several people.

Two steps wait for each other where a group of sites has both: what one does may change what the
other finds. Making ready takes nothing away, and clearing away is missed by nobody, so these do not
wait for each other; nor do the two ends of something new, which carries nothing before both stand.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from obrin.core.change.groups import Groups
from obrin.core.change.states import CLEAR, LEG, READY, Step


def rounds_of(groups: Groups, order: Sequence[Step]) -> list[tuple[int, ...]]:
    """Numbers of steps, from 1, by rounds: all of a round may be done at once when all of the round
    before are done."""
    last: dict[int, list[tuple[Step, int]]] = {}
    found: list[list[int]] = []
    for number, step in enumerate(order, 1):
        touched = groups.by_step.get(step, ())
        waited = (turn for group in touched for turn in _before(groups, step, last, group))
        turn = max(waited, default=-1) + 1
        for group in touched:
            last.setdefault(id(group), []).append((step, turn))
        while len(found) <= turn:
            found.append([])
        found[turn].append(number)
    return [tuple(numbers) for numbers in found]


def _before(
    groups: Groups, step: Step, last: dict[int, list[tuple[Step, int]]], group: object
) -> Iterator[int]:
    """The rounds of the steps that it waits for."""
    for other, turn in last.get(id(group), ()):
        if not _side_by_side(groups, other, step):
            yield turn


def _side_by_side(groups: Groups, one: Step, other: Step) -> bool:
    if one.kind == other.kind and one.kind in (READY, CLEAR):
        return not any(groups.between.renumbers(step.place) for step in (one, other))
    new = one.kind == other.kind == LEG and one.leg == other.leg
    return new and one.leg not in groups.between.before.index.by_label
