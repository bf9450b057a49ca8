"""Text to a `Document`: the design, and where everything stands in its file."""

from __future__ import annotations

import contextlib
import difflib
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from pydantic import BaseModel, ValidationError

from obrin.core.design.migrating import new_name
from obrin.core.design.mistakes import Mistake
from obrin.core.design.model import Design
from obrin.core.design.positions import Locator
from obrin.core.design.reader import Location, read_tolerantly
from obrin.core.design.references import reference_problems
from obrin.core.errors import DesignError, Problem

Where = Callable[[Location], str]


@dataclass(frozen=True, slots=True)
class Document:
    """A design as read. `locator` answers `where` for messages."""

    design: Design
    locator: Locator = field(repr=False)


def load_design(text: str, source: str) -> Document:
    """Read and validate. Raises DesignError with every mistake that this reading can find."""
    values, problems = read_tolerantly(text, source)
    locator = Locator(text, source)
    if not isinstance(values, dict):
        what = "the file is empty" if values is None else "the file is not a mapping of keys"
        raise DesignError([Problem(source, what, "Start one with 'obrin new'")])
    design, found = judge_values(values, locator.where)
    problems += found
    if problems or design is None:
        raise DesignError(sorted(problems, key=_position))
    return Document(design, locator)


def judge_values(values: dict[str, Any], where: Where) -> tuple[Design | None, list[Problem]]:
    """The design, if it can be made, and every mistake in the values; `where` says where a path of
    keys stands.

    What did not validate is taken out of `values`.
    """
    problems: list[Problem] = []
    design: Design | None = None
    dropped: set[str] = set()
    try:
        design = Design.model_validate(values)
    except ValidationError as error:
        problems += problems_of(error, values, where, Design)
        dropped = _drop_mistakes(error, values)
        with contextlib.suppress(ValidationError):
            design = Design.model_validate(values)
    if design is not None:
        problems += [
            Problem(where(mistake.location), mistake.what, mistake.fix)
            for mistake in reference_problems(design)
            if not _follows_from(mistake, dropped)
        ]
    return design, problems


def _position(problem: Problem) -> tuple[int, ...]:
    """Line and column, so that mistakes are listed in the order of the file."""
    return tuple(int(n) for n in problem.where.rsplit(":", 2)[1:] if n.isdigit())


def _drop_mistakes(error: ValidationError, values: Any) -> set[str]:
    """Take what did not validate out of `values`, so that names can still be checked.

    The names that went are returned: what seems to miss them is not a mistake of its own.
    """
    dropped: set[str] = set()
    for entry in error.errors(include_url=False):
        steps = _written(entry["loc"], values)
        here: Any = values
        for step in steps[:-1]:
            inside = here[step] if isinstance(here, dict) and step in here else None
            if isinstance(here, list) and isinstance(step, int) and step < len(here):
                inside = here[step]
            here = inside
        if steps and isinstance(here, dict) and steps[-1] in here:
            dropped |= {str(steps[-1]), str(here.pop(steps[-1]))}
        elif steps and isinstance(here, list) and isinstance(steps[-1], int):
            here[steps[-1] :] = []
    return dropped


def _written(location: Location, values: Any) -> Location:
    """A path as far as the file goes: the key of an entity written short is not in the file."""
    steps = [step for step in location if step != "[key]" and not _is_branch(step)]
    here = values
    for depth, step in enumerate(steps):
        if not isinstance(here, dict | list):
            return tuple(steps[:depth])
        inside = here.get(step) if isinstance(here, dict) else None
        if isinstance(here, list) and isinstance(step, int) and step < len(here):
            inside = here[step]
        if inside is None:
            break
        here = inside
    return tuple(steps)


_FALSE = "literal[False]"


def _is_branch(step: str | int) -> bool:
    """Whether it names one of several things that a value may be, and no key: keys are in lower
    case."""
    return isinstance(step, str) and (step == _FALSE or step[:1].isupper())


def _follows_from(mistake: Mistake, dropped: set[str]) -> bool:
    words = mistake.what.split("'")[1::2]
    return any(part in dropped for word in words for part in (word, *word.split("/")))


def problems_of(
    error: ValidationError, values: Any, where: Where, root: type[BaseModel]
) -> list[Problem]:
    """What the library found, in words of the file and with positions in it."""
    found = []
    entries = error.errors(include_url=False)
    may_be_false = {_written(e["loc"], values) for e in entries if e["loc"][-1:] == (_FALSE,)}
    for entry in entries:
        if entry["loc"][-1:] == (_FALSE,):
            continue  # said with the other thing that it may be
        location = _written(entry["loc"], values)
        what, fix = _explain(dict(entry), location, root)
        if location in may_be_false:
            fix += ", or 'false'"
        found.append(Problem(where(location), what, fix))
    return found


def _explain(entry: dict[str, Any], location: Location, root: type[BaseModel]) -> tuple[str, str]:
    """(what is wrong, how to put it right) in words of the design, not of the library."""
    kind, value = entry["type"], entry.get("input")
    key = _named(location)
    context = entry.get("ctx", {})
    if kind == "extra_forbidden":
        if new := new_name(location):
            return f"'{key}' is called '{new}' now", "Run 'obrin migrate' on this file"
        known = _known_keys(location[:-1], root)
        near = difflib.get_close_matches(key, known, n=1)
        fix = f"Did you mean '{near[0]}'?" if near else f"Known here: {', '.join(known)}"
        return f"'{key}' is not a key of this place", fix
    if kind == "missing":
        return f"'{key}' is missing here", f"Add '{key}:' with a value"
    if kind == "string_pattern_mismatch" and entry["loc"][-1] == "[key]":
        return f"'{key}' is not a name", "Use lower-case letters, digits and hyphens"
    if kind == "string_pattern_mismatch":
        return f"'{value:.60}' is not a name", "Use lower-case letters, digits and hyphens"
    if kind == "value_error":
        what, _, fix = str(context.get("error", entry["msg"])).partition("; ")
        return f"'{key}': {what}", (fix[:1].upper() + fix[1:]) or "Correct the value"
    if kind == "literal_error":
        return f"'{key}' is {_shown(value)}", f"Write {context.get('expected')}"
    if kind in _SIZES:
        what, limit = _SIZES[kind]
        shown = f"{value}" if isinstance(value, int | float) else _amount(value)
        return f"'{key}' is {shown}", f"{what} {context[limit]}"
    return f"'{key}' is {_shown(value)}", f"It must be {_WANTED.get(kind, kind.partition('_')[0])}"


def _shown(value: Any) -> str:
    """Write a value as in a design file."""
    if value is None:
        return "blank"
    return str(value).lower() if isinstance(value, bool) else f"{value!r:.60}"


# What the library found, by its name for it: how to begin the cure, and which limit ends it.
_SIZES = {
    "greater_than_equal": ("Use at least", "ge"),
    "less_than_equal": ("Use at most", "le"),
    "greater_than": ("Use more than", "gt"),
    "too_short": ("Give at least", "min_length"),
    "too_long": ("Give at most", "max_length"),
    "string_too_short": ("Its length is at least", "min_length"),
    "string_too_long": ("Its length is at most", "max_length"),
}
_WANTED = {
    "dict_type": "a mapping of names",
    "model_type": "a mapping of keys",
    "list_type": "a list",
    "string_type": "a text; put it in quotes",
    "int_type": "a whole number",
    "int_parsing": "a whole number",
    "int_parsing_size": "a smaller number",
    "int_from_float": "a whole number",
    "float_type": "a number",
    "float_parsing": "a number",
    "finite_number": "a number with an end",
    "bool_type": "true or false",
    "bool_parsing": "true or false",
}


def _named(location: Location) -> str:
    """The key that a mistake is at; of a list, which of it."""
    if not location:
        return "the design"
    if isinstance(location[-1], int) and len(location) > 1:
        return f"{location[-2]} number {location[-1] + 1}"
    return f"{location[-1]:.60}"


def _amount(value: Any) -> str:
    """How much there is in a list, a mapping or a text."""
    if isinstance(value, str):
        return f"of {len(value)} characters" if value else "empty"
    return f"a list of {len(value)}" if value else "empty"


def _known_keys(location: Location, root: type[BaseModel]) -> list[str]:
    """Keys that the schema allows at a place."""
    schema = root.model_json_schema(by_alias=True)
    here: Any = schema
    for step in location:
        here = _resolve(schema, here)
        if isinstance(step, int):
            here = here.get("items", {})
        elif step in here.get("properties", {}):
            here = here["properties"][step]
        else:
            extra = here.get("additionalProperties")
            patterns = here.get("patternProperties", {})
            here = extra if isinstance(extra, dict) else next(iter(patterns.values()), {})
    return sorted(_resolve(schema, here).get("properties", {}))


def _resolve(schema: Any, here: Any) -> Any:
    while True:
        if "$ref" in here:
            here = schema["$defs"][here["$ref"].rsplit("/", 1)[-1]]
        elif "anyOf" in here:
            here = next((o for o in here["anyOf"] if o.get("type") != "null"), {})
        elif "allOf" in here:
            here = here["allOf"][0]
        else:
            return here
