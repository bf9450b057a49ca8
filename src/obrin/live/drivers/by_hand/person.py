"""Whoever does a step by hand: is shown what to enter, and says when it is done."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Protocol

from obrin.core.errors import OutsideError
from obrin.live.drivers.protocol import Postponed

Judge = Callable[[list[str]], str]
"""Why an answer cannot be right; empty where it can."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Question:
    """Something that only the other side knows, at its place in the design. `usual` is what the
    design has, which somebody wrote there where it is `given`; where it only `stands_in`, it is
    never taken for an answer."""

    place: str
    about: str
    usual: tuple[str, ...]
    stands_in: bool = False
    given: bool = False
    judge: Judge = field(repr=False, compare=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class HandStep:
    """`lines` are what to enter: what it is called, and the value. `look` is what to look at when
    it is done. `who` does it. `secret` is the key among them, which is not shown: another one is to
    be entered anew."""

    name: str
    title: str
    lines: tuple[tuple[str, str], ...]
    look: str
    who: str
    questions: tuple[Question, ...] = ()
    secret: str = field(default="", repr=False)


YES, LATER = ("y", "yes", "done"), ("l", "later", "n", "no")
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
        self.person, self.who = person, who
        self.others: set[str] = set()
        self.left = False

    def do(self, step: HandStep) -> Given:
        if step.who != self.who:
            self.others.add(step.who)
            raise Postponed(f"{step.who} does it")
        try:
            return self.person.do(step)
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
        name = step.name if step.name in self._given else "all"
        if not self._says_yes(name, self._given.get(name, "later")):
            raise Postponed(f"{self._source} does not say that it is done")
        given_texts: dict[str, list[str]] = {}
        for question in step.questions:
            if question.place not in self._given and question.stands_in:
                raise OutsideError(
                    f"{self._source} does not have {question.place}: {question.about}. Obrin has "
                    "only placeholders for them. Write what the cloud assigned, as a list"
                )
            found = self._given.get(question.place, list(question.usual))
            texts = [str(t) for t in found] if isinstance(found, list) else [str(found)]
            fault = question.judge(texts)
            if fault:
                raise OutsideError(f"{self._source}: {question.place}: {fault}. Correct the answer")
            given_texts[question.place] = texts
        return given_texts

    def need_known(self, steps: Iterable[HandStep]) -> None:
        """Raises OutsideError for a name that no step and no question has, and for a word that is
        not an answer: left alone, either would mean something else than was written."""
        steps = list(steps)
        places = {question.place for step in steps for question in step.questions}
        names = {"all", *(step.name for step in steps)}
        for name, said in self._given.items():
            if name in places:
                continue
            if name not in names and not name.startswith(("end/", "anew/")):
                near = difflib.get_close_matches(name, [*names, *places], n=1)
                hint = f"Did you mean '{near[0]}'?" if near else "'obrin connect --todo' lists them"
                raise OutsideError(f"{self._source}: '{name}' is not a step or a value. {hint}")
            self._says_yes(name, said)

    def _says_yes(self, name: str, said: object) -> bool:
        word = {True: "yes", False: "no"}.get(said, said) if isinstance(said, bool) else said
        if word not in YES and word not in LATER:
            raise OutsideError(f"{self._source}: {name}: '{word}' is not 'yes' or 'later'")
        return word in YES
