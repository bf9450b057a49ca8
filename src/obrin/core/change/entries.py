"""What a step of a change is on the value sheets: what its owner enters, changes or takes away."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from obrin.core.change.states import CLEAR, LEG, READY, Step
from obrin.core.handover.sheet.blocks import values_of
from obrin.core.handover.sheet.sheet import NOT_APPLYING, value_sheet
from obrin.core.settled.model import Settled

ADDED, CHANGED, REMOVED = "enter", "change", "take away"


@dataclass(frozen=True, slots=True)
class Line:
    """One value of a sheet that its owner enters, changes or takes away."""

    what: str
    part: str
    row: str
    old: str
    new: str

    @property
    def value(self) -> str:
        """What is entered, or taken away."""
        if self.what == CHANGED:
            return f"{self.new} (now {self.old})"
        return self.new if self.what == ADDED else self.old


class Sheets:
    """What a step is on the value sheets of both designs; `order` are all steps of the change."""

    def __init__(self, before: Settled, after: Settled, order: Sequence[Step]) -> None:
        self._designs = before, after
        self._steps: dict[str, list[Step]] = {}
        for step in order:
            self._steps.setdefault(step.place, []).append(step)
        self._held: dict[str, dict[Step, list[Line]]] = {}

    def lines(self, step: Step) -> list[Line]:
        if step.place not in self._held:
            self._held[step.place] = self._of(step.place)
        return self._held[step.place].get(step, [])

    def _of(self, place: str) -> dict[Step, list[Line]]:
        """Lines to enter, by the step in which they are entered."""
        old, new = (
            {v.name: v for v in values_of(value_sheet(settled, place))}
            if place in settled.gateways or place in settled.clouds
            else {}
            for settled in self._designs
        )
        found: dict[Step, list[Line]] = {}
        for name in dict.fromkeys((*new, *old)):
            one, two = old.get(name), new.get(name)
            value = two or one
            texts = {"" if v is None or v.text == NOT_APPLYING else v.text for v in (one, two)}
            if value is None or len(texts) == 1:
                continue
            leg = value.leg
            kind = LEG if leg else READY if two is not None else CLEAR
            what = ADDED if one is None else REMOVED if two is None else CHANGED
            plain = value.column in ("", "Enter") or (leg and leg == value.column)
            line = Line(
                what,
                value.part,
                value.row if plain else f"{value.row}, {value.column}",
                "" if one is None else one.text,
                "" if two is None else two.text,
            )
            found.setdefault(self._taken_to(Step(kind, place, leg), what), []).append(line)
        return found

    def _taken_to(self, step: Step, what: str) -> Step:
        """What is entered for no tunnel comes with the first step at its place, and goes with the
        last: a suite that several tunnels use, say."""
        here = self._steps.get(step.place, [])
        if step in here or not here:
            return step
        return here[-1] if what == REMOVED else here[0]
