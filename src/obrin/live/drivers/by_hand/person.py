"""Whoever does a step by hand: is shown what to enter, and says when it is done."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Protocol

from obrin.core.errors import OutsideError
from obrin.live.drivers.protocol import Postponed

Judge = Callable[[list[str]], str]
"""Why an answer cannot be right; empty where it can."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Question:
    """Something that only the other side knows, at its place in the design; `usual` stands in."""

    place: str
    about: str
    usual: tuple[str, ...]
    judge: Judge = field(repr=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class HandStep:
    """`lines` are what to enter: what it is called, and the value. `look` is what to look at when
    it is done. `who` does it."""

    name: str
    title: str
    lines: tuple[tuple[str, str], ...]
    look: str
    who: str
    questions: tuple[Question, ...] = ()


Given = Mapping[str, list[str]]
"""What was answered, by place in the design."""


class Person(Protocol):
    def do(self, step: HandStep) -> Given:
        """Have a step done. Raises Postponed where it is not done now, OutsideError where nobody
        is there."""
        ...


class Alone:
    """Does the steps of one person; those of others are left to them, and counted in `others`."""

    def __init__(self, person: Person, who: str) -> None:
        self._person, self.who = person, who
        self.others: set[str] = set()
        self.left = False

    def do(self, step: HandStep) -> Given:
        if step.who != self.who:
            self.others.add(step.who)
            raise Postponed(f"{step.who} does it")
        try:
            return self._person.do(step)
        except Postponed:
            self.left = True
            raise


class Nobody:
    """Neither a terminal nor answers."""

    def do(self, step: HandStep) -> Given:
        raise Postponed(
            f"it is done by hand, by {step.who}. Run 'obrin connect' at a terminal, or with "
            "'--answers FILE'; 'obrin connect --todo' prints what is open"
        )


class Answers:
    """Read answers from a file: `yes` or `later` by the name of a step, and what was assigned,
    by its place."""

    def __init__(self, given: Mapping[str, object], source: str) -> None:
        self._given, self._source = given, source

    def do(self, step: HandStep) -> Given:
        said = self._given.get(step.name, self._given.get("all", "later"))
        if said not in (True, "yes", "done"):
            raise Postponed(f"{self._source} does not say that it is done")
        given_texts: dict[str, list[str]] = {}
        for question in step.questions:
            found = self._given.get(question.place, list(question.usual))
            texts = [str(t) for t in found] if isinstance(found, list) else [str(found)]
            fault = question.judge(texts)
            if fault:
                raise OutsideError(f"{self._source}: {question.place}: {fault}. Correct the answer")
            given_texts[question.place] = texts
        return given_texts
