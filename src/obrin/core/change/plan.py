"""A change as a plan: its steps in order, who does what, and what works after each."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from obrin.core.catalogue.offering import PRACTICE_CLOUD, Offered
from obrin.core.change.breaks import Break
from obrin.core.change.gaps import STEP_TIME
from obrin.core.change.groups import Groups
from obrin.core.change.lines import Line, Lines
from obrin.core.change.loads import Loads
from obrin.core.change.order import best_order
from obrin.core.change.outlook import Outlook, interruption
from obrin.core.change.rounds import rounds_of
from obrin.core.change.signs import Sign, sign_of
from obrin.core.change.states import CLEAR, Between, Flow, Step
from obrin.core.change.waits import waits_of
from obrin.core.design.windows import Window
from obrin.core.naming import some
from obrin.core.settled.model import Settled

STOPS_LONG = 60.0
"""Seconds from which on what stops while a step is done counts as lost."""
MOST_FLOWS = 3
"""That are named one by one."""


def some_flows(flows: Iterable[Flow]) -> str:
    """The first few in words, each once, and how many more there are."""
    return some(dict.fromkeys(flow.words for flow in flows), MOST_FLOWS)


@dataclass(frozen=True, slots=True, kw_only=True)
class Planned:
    """`lost` must work and does not, from the end of this step until that of the next, with the
    reason; `opened` must not work and does meanwhile; `moves` go over to another way, from and
    to; `too_much` says what gets more than it carries, from then on. `sign` is what to see
    before going on, `waits` whose acceptance comes before that; `down` is how many tunnels carry
    nothing meanwhile. `breaks` are flows that stop only while it is done. `for_good` is whether
    going back needs another way from here, `windows` are those of its place."""

    number: int
    step: Step
    owner: str
    lines: tuple[Line, ...]
    lost: tuple[tuple[Flow, str], ...]
    opened: tuple[Flow, ...]
    moves: tuple[tuple[Flow, str, str], ...]
    sign: Sign
    waits: tuple[str, ...] = ()
    too_much: tuple[str, ...] = ()
    down: int = 0
    breaks: tuple[Break, ...] = ()
    for_good: bool = False
    windows: tuple[Window, ...] = ()

    @property
    def look(self) -> str:
        """What to see before going on, shortly."""
        return self.sign.look

    @property
    def price(self) -> float:
        """Loss by what is interrupted after it."""
        return interruption(self.wrong, self.down)

    @property
    def wrong(self) -> int:
        """How many flows are not as both designs wish after it."""
        return len(self.lost) + len(self.opened)


@dataclass(frozen=True, slots=True)
class Plan:
    """`flows` are those that both designs wish alike; `rounds` are numbers of steps that may be
    done at once, each when the round before is done."""

    steps: tuple[Planned, ...]
    flows: tuple[Flow, ...]
    rounds: tuple[tuple[int, ...], ...]

    @property
    def side_by_side(self) -> list[tuple[int, ...]]:
        """Rounds of several steps."""
        return [numbers for numbers in self.rounds if len(numbers) > 1]

    def loses(self, done: int = 0) -> bool:
        """Whether anything is not as both designs wish in between, when so many are done, or stops
        for as long as a step."""
        long = any(each.seconds >= STOPS_LONG for each in self.breaks(done))
        return long or any(planned.wrong for planned in self.ahead(done))

    def breaks(self, done: int = 0) -> list[Break]:
        """What stops only while a step is done, in the steps that are left."""
        return [each for planned in self.steps[done:] for each in planned.breaks]

    @property
    def order(self) -> list[Step]:
        return [planned.step for planned in self.steps]

    def ahead(self, done: int = 0) -> tuple[Planned, ...]:
        """The steps that are left when so many are done, and the one whose state it is now."""
        return self.steps[max(done - 1, 0) :]

    def elsewhere(self, flow: Flow) -> list[bool]:
        """After each step, whether a flow takes another way than before the change."""
        home, now, found = "", "", list[bool]()
        for planned in self.steps:
            for was, way in ((was, way) for went, was, way in planned.moves if went == flow):
                home, now = home or was, way
            found.append(now != home)
        return found

    def lost_steps(self, done: int = 0) -> dict[Flow, int]:
        """How many steps go by from there on while a flow is lost; what the last leaves lost is
        lost by it alone."""
        found: dict[Flow, int] = {}
        for planned in self.ahead(done):
            for flow, _ in planned.lost:
                found[flow] = found.get(flow, 0) + 1
        return found


def make_plan(
    before: Settled,
    after: Settled,
    offering: Offered = PRACTICE_CLOUD,
    begins: datetime | None = None,
    begun: Sequence[str] = (),
    each: timedelta = STEP_TIME,
) -> Plan:
    """Nothing in it where nothing is to be entered. `begins` (aware) is when the first step may be
    done, and `each` what a step takes: where places have windows, they decide what comes first.
    `begun` are the names of all steps in the order in which this change was begun, where it was:
    that is kept."""
    groups = Groups(before, after, offering, begins, each)
    between, order = groups.between, _kept(groups, begun) or best_order(groups)
    entered, waits = Lines(between, order), waits_of(before, after, order)
    planned, loads = list[Planned](), Loads(groups, offering)
    lost = {id(group): group.looks.lost(group.done) for group in groups.all}
    opened = {id(group): group.looks.opened(group.done) for group in groups.all}
    down = sum(group.looks.down(group.done) for group in groups.all)
    why: dict[Flow, str] = {}
    for number, step in enumerate(order, 1):
        moves, breaks = list[tuple[Flow, str, str]](), list[Break]()
        for group in groups.by_step.get(step, ()):
            last = group.looks.of(group.done)
            breaks += group.looks.breaks(step, group.done)
            group.done = group.after(step)
            now = group.looks.of(group.done)
            moves += _moves(last, now)
            why |= now.why
            lost[id(group)] = group.looks.lost(group.done)
            opened[id(group)] = group.looks.opened(group.done)
            down += now.down - last.down
        loads.follow(groups.by_step.get(step, ()))
        planned.append(
            Planned(
                number=number,
                step=step,
                owner=_owner(between, step.place),
                lines=tuple(entered.of(step)),
                lost=tuple((flow, why.get(flow, "")) for held in lost.values() for flow in held),
                opened=tuple(flow for held in opened.values() for flow in held),
                moves=tuple(moves),
                sign=sign_of(groups, step),
                waits=tuple(waits.get(step, ())),
                too_much=loads.too_much(),
                down=down,
                breaks=tuple(breaks),
                for_good=_for_good(between, step),
                windows=between.windows(step.place),
            )
        )
    return Plan(tuple(planned), tuple(between.flows), tuple(rounds_of(groups, order)))


def _kept(groups: Groups, begun: Sequence[str]) -> list[Step]:
    """Empty where these are not the steps of this change."""
    by_name = {step.name: step for step in groups.between.steps} if begun else {}
    return [by_name[name] for name in begun] if by_name.keys() == set(begun) else []


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
