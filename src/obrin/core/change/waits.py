"""Acceptances that a change waits for: what is new at a cloud, hub or circuit of somebody else."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from obrin.core.change.states import LEG, READY, Step
from obrin.core.settled.model import Settled
from obrin.core.settled.owners import Owned, ask_for, owned


def waits_of(before: Settled, after: Settled, order: Sequence[Step]) -> dict[Step, list[str]]:
    """Map the step after which a change waits, in words. Who has accepted on another day than
    before has accepted this change."""
    old = {(one.kind, one.name): one for one in owned(before)}
    found: dict[Step, list[str]] = {}
    for one in owned(after):
        was = old.get((one.kind, one.name))
        if one.accepted is not None and (was is None or was.accepted != one.accepted):
            continue
        for ask in (ask for ask in one.asks if was is None or ask not in was.asks):
            step = next(_steps(after, one, ask, order), None)
            if step is not None:
                found.setdefault(step, []).append(f"{one.owner} accepts {ask}")
    return found


def _steps(after: Settled, one: Owned, ask: str, order: Sequence[Step]) -> Iterator[Step]:
    """Steps that make what has to be accepted, the best first."""
    for step in order:
        if step.kind == LEG and step.leg in after.index.by_label:
            leg = after.index.by_label[step.leg]
            bundle = after.bundle(leg)
            if step.place == leg.cloud and (ask == ask_for(bundle) or one.name == bundle.name):
                yield step
    yield from (step for step in order if step.kind == READY and step.place == one.name)
