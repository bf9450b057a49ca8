"""A change as a plan: its steps in order, who does what, and what works after each."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from obrin.core.change.order import best_order
from obrin.core.change.outlook import Outlook, Outlooks
from obrin.core.change.states import CLEAR, LEG, READY, Between, Done, Flow, Step
from obrin.core.handover.blocks import Value, values_of
from obrin.core.handover.sheet import value_sheet
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
    def words(self) -> str:
        value = {
            ADDED: self.new,
            CHANGED: f"{self.new} (now {self.old})",
            REMOVED: self.old,
        }[self.what]
        return f"{self.part}: {self.row}: {value}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Planned:
    """`lost` must work and does not, from the end of this step until that of the next, with the
    reason; `opened` must not work and does meanwhile; `moves` go over to another way, from and to.
    `look` is what to see before going on. `for_good` is whether going back needs another way from
    here."""

    number: int
    step: Step
    owner: str
    lines: tuple[Line, ...]
    works: tuple[Flow, ...]
    lost: tuple[tuple[Flow, str], ...]
    opened: tuple[Flow, ...]
    moves: tuple[tuple[Flow, str, str], ...]
    look: str
    for_good: bool = False


@dataclass(frozen=True, slots=True)
class Plan:
    """`flows` are those that both designs wish alike; `side_by_side` are numbers of steps that may
    be done at once, in groups of several."""

    steps: tuple[Planned, ...]
    flows: tuple[Flow, ...]
    side_by_side: tuple[tuple[int, ...], ...]
    before: Outlook

    @property
    def loses(self) -> bool:
        """Whether anything is not as both designs wish in between."""
        return any(planned.lost or planned.opened for planned in self.steps)


def make_plan(before: Settled, after: Settled) -> Plan:
    """Nothing in it where nothing is to be entered."""
    between = Between(before, after)
    looks = Outlooks(between)
    sheets = _Sheets(before, after)
    done: Done = frozenset()
    planned: list[Planned] = []
    last = looks.of(done)
    first = last
    for number, step in enumerate(best_order(looks), 1):
        done |= {step}
        now = looks.of(done)
        planned.append(
            Planned(
                number=number,
                step=step,
                owner=_owner(between, step.place),
                lines=tuple(sheets.lines(step)),
                works=tuple(now.works),
                lost=tuple((flow, now.why[flow]) for flow in looks.lost(done)),
                opened=tuple(looks.opened(done)),
                moves=tuple(_moves(last, now)),
                look=_look(between, step, done),
                for_good=_for_good(between, step),
            )
        )
        last = now
    return Plan(tuple(planned), tuple(between.flows), tuple(_side_by_side(planned)), first)


def _owner(between: Between, place: str) -> str:
    for settled in (between.after, between.before):
        cloud = settled.clouds.get(place)
        if cloud is not None:
            return cloud.owner or f"cloud {place}"
        if place in settled.gateways:
            return f"site {settled.gateways[place].site}"
    return place


def _moves(before: Outlook, now: Outlook) -> Iterator[tuple[Flow, str, str]]:
    for flow, way in now.works.items():
        was = before.works.get(flow)
        if was is not None and was != way:
            yield flow, was, way


def _look(between: Between, step: Step, done: Done) -> str:
    if step.kind == LEG:
        version = between.version(step.leg, done)
        if version == "none":
            gone = step.leg not in between.after.index.by_label
            return (
                f"{step.leg} is {'gone' if gone else 'down'} at this end, and what used it goes on"
            )
        return f"{step.leg} is up at both ends"
    if step.kind == READY:
        return "what is listed is there, and nothing else has changed"
    return "what is listed is gone, and everything works"


def _for_good(between: Between, step: Step) -> bool:
    """A cloud gateway that is taken away gives its public addresses back."""
    old = between.before.clouds.get(step.place)
    new = between.after.clouds.get(step.place)
    return (
        step.kind == CLEAR
        and old is not None
        and old.gateway is not None
        and (new is None or new.gateway is None)
    )


def _side_by_side(planned: Sequence[Planned]) -> Iterator[tuple[int, ...]]:
    """Those that make ready, and those that clear away, wait for none of each other."""
    for kind in (READY, CLEAR):
        numbers = tuple(p.number for p in planned if p.step.kind == kind)
        if len(numbers) > 1:
            yield numbers


class _Sheets:
    """What a step is on the value sheets of both designs."""

    def __init__(self, before: Settled, after: Settled) -> None:
        self._designs = before, after
        self._held: dict[str, tuple[dict[str, Value], dict[str, Value]]] = {}

    def _of(self, place: str) -> tuple[dict[str, Value], dict[str, Value]]:
        if place not in self._held:
            old, new = (
                {v.name: v for v in values_of(value_sheet(settled, place))}
                if place in settled.gateways or place in settled.clouds
                else {}
                for settled in self._designs
            )
            self._held[place] = old, new
        return self._held[place]

    def lines(self, step: Step) -> Iterator[Line]:
        old, new = self._of(step.place)
        legs = {leg.label for settled in self._designs for leg in settled.legs()}
        for name in dict.fromkeys((*new, *old)):
            one, two = old.get(name), new.get(name)
            value = two or one
            if value is None or (one is not None and two is not None and one.text == two.text):
                continue
            mine = _leg_of(value, legs)
            kind = LEG if mine else READY if two is not None else CLEAR
            if (kind, mine) != (step.kind, step.leg):
                continue
            what = ADDED if one is None else REMOVED if two is None else CHANGED
            row = (
                value.row if value.column in ("", "Enter", mine) else f"{value.row}, {value.column}"
            )
            yield Line(
                what,
                value.part,
                row,
                "" if one is None else one.text,
                "" if two is None else two.text,
            )


def _leg_of(value: Value, legs: set[str]) -> str:
    """The tunnel or circuit that a value is of, or nothing."""
    if value.column in legs:
        return value.column
    return next((leg for leg in legs if leg in value.row.split() or leg == value.row), "")
