"""Steps that a person does: shown on the terminal and asked for, read from a file, or listed."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

import click

from obrin.cli.shared.common import echo_json
from obrin.core.errors import ObrinError

if TYPE_CHECKING:
    from obrin.core.settled.model import Settled
    from obrin.live.connect.whole import Plan
    from obrin.live.drivers.by_hand.person import Given, HandStep, Person, Question
    from obrin.live.drivers.protocol import Ends
    from obrin.live.project import Project


LOOK_EVERY = 0.5
"""Seconds between two looks at what others have done."""
T = TypeVar("T")


def person_for(answers: str | None, who: str | None = None) -> Person:
    """Whoever sits here, or a file of answers, or nobody; for the steps of one person alone."""
    from obrin.live.drivers.by_hand.person import Alone, Answers, Nobody

    person: Person = Terminal() if sys.stdin.isatty() else Nobody()
    if answers is not None:
        person = Answers(read_answers(answers, "'all: yes'"), answers)
    return person if who is None else Alone(person, who)


def at_terminal(person: Person) -> bool:
    """Whether somebody sits here, who looks at what a step does."""
    from obrin.live.drivers.by_hand.person import Alone

    return isinstance(person.person if isinstance(person, Alone) else person, Terminal)


def read_answers(name: str, such_as: str) -> dict[str, object]:
    """Raises ObrinError for a file that is not a mapping."""
    from obrin.core.design.reader import read_values
    from obrin.live.project import read_text

    found = read_values(read_text(Path(name)), name)
    if not isinstance(found, dict):
        raise ObrinError(f"{name} is not a mapping. Write lines such as {such_as}")
    return {str(key): value for key, value in found.items()}


def need_known(person: Person, ends: Ends, settled: Settled) -> None:
    """Raises UsageError for somebody who does nothing by hand, OutsideError for answers to what
    nobody asks."""
    from obrin.live.drivers.by_hand.drivers import ByHand, ByHandCloud, ByHandGateway
    from obrin.live.drivers.by_hand.hand_steps import parts_of
    from obrin.live.drivers.by_hand.person import Alone, Answers

    asked = person.person if isinstance(person, Alone) else person
    if isinstance(asked, Answers):
        every = {**ends.clouds, **ends.gateways}
        places = {n: d for n, d in every.items() if isinstance(d, ByHand)}
        asked.need_known(
            part.step
            for name, driver in places.items()
            for part in parts_of(settled, name, driver.who, frozenset())
        )

    if isinstance(person, Alone):
        drivers = [*ends.clouds.values(), *ends.gateways.values()]
        known = {d.who for d in drivers if isinstance(d, ByHandCloud | ByHandGateway)}
        if person.who not in known:
            listed = ", ".join(sorted(known)) or "nobody"
            raise click.UsageError(f"--as: {person.who} does nothing by hand. There are: {listed}")


def together(project: Project, person: Person, run: Callable[[Person], T]) -> T:
    """Run, and again whenever others have done something that it waits for. Raises Postponed where
    the person left a step of their own."""
    from obrin.live.drivers.by_hand.done_file import record_of, stamp_of
    from obrin.live.drivers.by_hand.person import Alone
    from obrin.live.drivers.protocol import Postponed
    from obrin.live.lock import apart

    explained, path = False, record_of(project)
    while True:
        seen = stamp_of(path)
        try:
            return run(person)
        except Postponed:
            if not isinstance(person, Alone) or person.left or not person.others:
                raise
            if not explained:
                waited = ", ".join(sorted(person.others))
                click.echo(
                    f"Waiting for {waited}. End with Ctrl-C; it is taken up later.", err=True
                )
            explained = True
            with apart():
                while stamp_of(path) == seen:
                    time.sleep(LOOK_EVERY)


class Terminal:
    """One step at a time, on stderr, so that what a command prints stays apart."""

    def do(self, step: HandStep) -> Given:
        from obrin.live.lock import apart

        for line in shown(step):
            click.echo(line, err=True)
        with apart():
            return self._asked(step)

    def _asked(self, step: HandStep) -> Given:
        from obrin.live.drivers.by_hand.person import LATER, YES
        from obrin.live.drivers.protocol import Postponed

        while True:
            said = click.prompt(
                "  Entered? [yes/later]", default="yes", show_default=False, err=True
            )
            if said.strip().lower() in LATER:
                raise Postponed(f"{step.who} does it later")
            if said.strip().lower() in ("", *YES):
                break
        return {question.place: self._ask(question) for question in step.questions}

    @staticmethod
    def _ask(question: Question) -> list[str]:
        usual = None if question.stands_in else " ".join(question.usual)
        while True:
            said = click.prompt(f"  Which {question.about}?", default=usual, err=True)
            texts = said.replace(",", " ").split()
            fault = question.judge(texts)
            if not fault:
                return list(texts)
            click.echo(f"  {fault}.", err=True)


def shown(step: HandStep) -> Iterator[str]:
    """What a step is, in lines."""
    yield ""
    yield f"{step.title} (by {step.who}, {len(step.lines)} values)"
    width = min(max((len(name) for name, _ in step.lines), default=0), 48)
    for name, value in step.lines:
        yield f"    {name.ljust(width)}  {value}"
    yield f"  Then look at {step.look}."


@dataclass(frozen=True, slots=True)
class Todo:
    """A step by hand that is open."""

    who: str
    step: HandStep
    what: str


def todo_of(ends: Ends, plan: Plan) -> list[Todo]:
    """What is open, for whom."""
    from obrin.live.connect.execute import CloudTask
    from obrin.live.drivers.by_hand.drivers import ByHandCloud, ByHandGateway

    steps: list[tuple[ByHandCloud | ByHandGateway, HandStep]] = []
    for task in plan.tasks:
        if isinstance(task, CloudTask) and isinstance(task.driver, ByHandCloud):
            steps.append((task.driver, task.step.body))
    for gateway in ends.gateways.values():
        if isinstance(gateway, ByHandGateway):
            steps += [(gateway, step) for step in gateway.parts()]
    found = []
    for driver, step in steps:
        stands = driver.standing_step(step)
        if stands is not True:
            what = "to be entered" if stands is None else "to be changed"
            found.append(Todo(step.who, step, what))
    return found


def print_todo(found: Sequence[Todo], *, as_json: bool) -> None:
    if as_json:
        echo_json(
            [
                {
                    "who": todo.who,
                    "step": todo.step.name,
                    "what": todo.what,
                    "title": todo.step.title,
                    "values": len(todo.step.lines),
                }
                for todo in found
            ]
        )
        return
    for who in dict.fromkeys(todo.who for todo in found):
        click.echo(f"{who}:")
        for todo in found:
            if todo.who == who:
                click.echo(f"  {todo.step.name}: {todo.what}, {todo.step.title}")
    if not found:
        click.echo("Nothing is open by hand.")
