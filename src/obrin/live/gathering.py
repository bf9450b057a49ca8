"""A design made of exports, and what they said last time: kept beside it in `DESIGN.gathered.yaml`.

The file is machine-written and belongs into version control, like the settled one.
"""

from __future__ import annotations

import copy
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from obrin.core.design.document import judge_values
from obrin.core.design.reader import Location, dotted, read_values
from obrin.core.errors import DesignError, Problem
from obrin.core.gather.compose import Composed
from obrin.core.gather.since import OPEN, Change, changes
from obrin.core.gather.written import as_yaml
from obrin.live.edited import edited
from obrin.live.files import write_whole
from obrin.live.project import Project, read_text

Ask = Callable[[str, str], str | None]
"""Asks for the value of a place, with why it is missing. None where nobody answers."""
BY_HAND = "Bring them into it by hand: 'obrin gather' without --take lists them"
HEAD = "What exports said when they were last gathered. Written by Obrin; keep it with the design."


@dataclass(slots=True)
class Kept:
    """`answers` are values by place that no export has."""

    values: dict[str, Any] = field(default_factory=dict)
    answers: dict[str, Any] = field(default_factory=dict)

    def write(self, path: Path) -> None:
        data = {"values": self.values, "answers": self.answers}
        write_whole(path, as_yaml(data, HEAD), 0o644)


def kept_path(project: Project) -> Path:
    return project.design_path.with_name(f"{project.design_path.stem}.gathered.yaml")


def read_kept(path: Path) -> Kept:
    """Nothing where there is no such file. Raises DesignError for what is none."""
    if not path.exists():
        return Kept()
    data = read_values(read_text(path), str(path))
    parts = (data.get("values"), data.get("answers")) if isinstance(data, dict) else (None, None)
    if not all(isinstance(part, dict) for part in parts):
        fix = "Take it from version control, or remove it: everything then counts as new"
        raise DesignError([Problem(f"{path}:1:1", "it is not what was gathered last", fix)])
    values, answers = parts
    return Kept(dict(values or {}), {str(place): value for place, value in (answers or {}).items()})


def completed(made: Composed, answers: Mapping[str, Any], ask: Ask) -> Kept:
    """The values with answers for what the exports lack and a design must have; those that are new
    are asked for. Raises DesignError for everything that does not fit."""
    given = dict(answers)
    while True:
        values = copy.deepcopy(made.values)
        for place, value in given.items():
            _put(values, tuple(place.split(".")), value)
        kept = copy.deepcopy(values)
        asked: dict[str, Location] = {}

        def where(location: Location, asked: dict[str, Location] = asked) -> str:
            text = made.where(location)
            asked.setdefault(text, tuple(location))
            return text

        _, problems = judge_values(values, where)
        lacking = {
            asked[p.where]: p
            for p in problems
            if p.where in asked and _lacks(made, asked[p.where], given)
        }
        if not problems:
            return Kept(kept, given)
        answered = False
        for lack in lacking:
            value = ask(dotted(lack), made.blanks.get(lack, "no export has it"))
            if value is None:
                break
            given[dotted(lack)] = value
            answered = True
        if not answered:
            raise DesignError([_explained(p, asked.get(p.where), lacking) for p in problems])


def _lacks(made: Composed, place: Location, given: Mapping[str, Any]) -> bool:
    """Whether somebody may be asked for it: a value that a cell was to give, and did not, or one
    that was answered and will not do."""
    return place in made.blanks or dotted(place) in given


def _explained(
    problem: Problem, place: Location | None, lacking: Mapping[Location, Problem]
) -> Problem:
    if place is None or place not in lacking:
        return problem
    fix = f"Fill the cell, or give --answers a file with '{dotted(place)}: VALUE'"
    return Problem(problem.where, problem.what, fix)


def _put(values: Any, place: Sequence[str], value: Any) -> None:
    """An answer for what the exports do not have any more is left out."""
    here = values
    for step in place[:-1]:
        here = here.get(step) if isinstance(here, dict) else None
    if isinstance(here, dict):
        here[place[-1]] = value


@dataclass(frozen=True, slots=True)
class Since:
    """What changed since the last gathering; `text` is the design with what is open taken in."""

    changes: tuple[Change, ...]
    text: str

    @property
    def open(self) -> list[Change]:
        return [change for change in self.changes if change.standing == OPEN]


def since(project: Project, before: Kept, now: Kept) -> Since:
    """Raises DesignError where the design cannot be read, or the changes not be placed."""
    source = str(project.design_path)
    text = read_text(project.design_path)
    design = read_values(text, source)
    found = changes(before.values, now.values, design)
    wanted = [change for change in found if change.standing == OPEN]
    return Since(tuple(found), edited(text, wanted, source, BY_HAND) if wanted else text)
