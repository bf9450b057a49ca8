"""Steps that a person does: shown on the terminal and asked for, read from a file, or listed."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click

from obrin.core.errors import ObrinError

if TYPE_CHECKING:
    from obrin.live.connect.whole import Plan
    from obrin.live.drivers.by_hand.person import HandStep, Person, Question, Told
    from obrin.live.drivers.protocol import Ends

YES, LATER = ("y", "yes", "done", ""), ("l", "later", "n", "no")


def person_for(answers: str | None) -> Person:
    """Whoever sits here, or a file of answers, or nobody."""
    from obrin.live.drivers.by_hand.person import Answers, Nobody

    if answers is not None:
        return Answers(_answers(answers), answers)
    return Terminal() if sys.stdin.isatty() else Nobody()


def _answers(name: str) -> dict[str, object]:
    from obrin.core.design.reader import read_values
    from obrin.live.project import read_text

    found = read_values(read_text(Path(name)), name)
    if not isinstance(found, dict):
        raise ObrinError(f"{name} is no mapping of steps. Write lines such as 'all: yes'")
    return {str(key): value for key, value in found.items()}


class Terminal:
    """One step at a time, on stderr, so that what a command prints stays apart."""

    def do(self, step: HandStep) -> Told:
        from obrin.live.drivers.protocol import Postponed

        for line in shown(step):
            click.echo(line, err=True)
        while True:
            said = click.prompt(
                "  Entered? [yes/later]", default="yes", show_default=False, err=True
            )
            if said.strip().lower() in LATER:
                raise Postponed(f"{step.who} does it later")
            if said.strip().lower() in YES:
                break
        return {question.place: self._ask(question) for question in step.questions}

    @staticmethod
    def _ask(question: Question) -> list[str]:
        usual = " ".join(question.usual)
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


def todo_lines(ends: Ends, plan: Plan) -> Iterator[str]:
    """What is open, for whom."""
    from obrin.live.connect.execute import CloudTask
    from obrin.live.drivers.by_hand.drivers import ByHandCloud, ByHandGateway

    open_for: dict[str, list[str]] = {}
    steps: list[tuple[ByHandCloud | ByHandGateway, HandStep]] = []
    for task in plan.tasks:
        if isinstance(task, CloudTask) and isinstance(task.driver, ByHandCloud):
            steps.append((task.driver, task.step.body))
    for gateway in ends.gateways.values():
        if isinstance(gateway, ByHandGateway):
            steps += [(gateway, step) for step in gateway.parts()]
    for driver, step in steps:
        stands = driver.standing_step(step)
        if stands is not True:
            what = "to be entered" if stands is None else "to be changed"
            open_for.setdefault(step.who, []).append(f"{step.name}: {what}, {step.title}")
    for who, lines in open_for.items():
        yield f"{who}:"
        yield from (f"  {line}" for line in lines)
    if not open_for:
        yield "Nothing is open by hand."
