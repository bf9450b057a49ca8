"""Failures that do not need each other, in worlds side by side: one world for each who works."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path

from obrin.core.catalogue.offering import Offered
from obrin.core.crew import Crew, Job
from obrin.core.drill.elements import Element
from obrin.core.handover.pack import Pack
from obrin.core.handover.secrets import Secrets
from obrin.core.settled.model import Settled
from obrin.live.rehearse.play import Rehearsal
from obrin.live.rehearse.recorder import Recorder
from obrin.live.rehearse.scenes import Scene
from obrin.live.rehearse.virtual import VirtualWorld
from obrin.live.rehearse.virtual_stage import VirtualStage

WORTH = 4
"""Failures for each world, at least: making one takes about as long as a failure."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Planned:
    """What a world is made from; what happens there is `kept` in a folder."""

    settled: Settled
    secrets: Secrets = field(repr=False)
    packs: Mapping[str, Pack] = field(repr=False)
    start: datetime
    offering: Offered
    kept: Path | None = None

    def make(self) -> Rehearsal:
        """A world of its own, about to come up."""
        world = VirtualWorld(
            self.settled, self.secrets, packs=self.packs, start=self.start, offering=self.offering
        )
        recorder = None if self.kept is None else Recorder(world, self.kept)
        return Rehearsal(VirtualStage(world, recorder))


def worlds_for(failures: int) -> int:
    """How many are worth it on this machine."""
    return max(1, min(os.cpu_count() or 1, failures // WORTH))


def fail_side_by_side(
    crew: Crew, planned: Planned, failures: Sequence[Sequence[Element]]
) -> Iterator[Scene]:
    """Run them in the order given. Each who works makes a world, and waits until all is up
    there."""
    return crew.each(_FAIL, planned, [tuple(failed) for failed in failures])


def _begun(planned: Planned) -> Rehearsal:
    rehearsal = planned.make()
    rehearsal.begin(aside=True)
    return rehearsal


def _fail(rehearsal: Rehearsal, failed: tuple[Element, ...]) -> Scene:
    return rehearsal.fail(failed)


_FAIL: Job[Planned, Rehearsal, tuple[Element, ...], Scene] = Job(_begun, _fail)
