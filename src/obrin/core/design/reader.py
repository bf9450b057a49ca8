"""YAML 1.2 text to plain values, fast, with positions looked up only when a message needs them.

The well-kept parser gives events; these become dicts, lists and scalars of the YAML 1.2 core
schema right away (so `no` is a word and `010` is ten, as section 10.3 of the specification has
it). Positions are found by a second, slower pass over the same text, and only for mistakes.
"""

from __future__ import annotations

import contextlib
import functools
import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from obrin.core.collecting import not_collecting
from obrin.core.errors import DesignError, Problem

MAX_DEPTH = 32
MAX_NODES = 5_000_000
MAX_BYTES = 64 * 1024 * 1024

_INTEGER = re.compile(r"[-+]?[0-9]+\Z")
_OTHER_INTEGER = re.compile(r"0o[0-7]+\Z|0x[0-9a-fA-F]+\Z")
_FLOAT = re.compile(r"[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?\Z")
_WORDS: dict[str, bool | float | None] = {
    "": None,
    "~": None,
    "null": None,
    "Null": None,
    "NULL": None,
    "true": True,
    "True": True,
    "TRUE": True,
    "false": False,
    "False": False,
    "FALSE": False,
    ".inf": float("inf"),
    ".Inf": float("inf"),
    ".INF": float("inf"),
    "-.inf": float("-inf"),
    ".nan": float("nan"),
    ".NaN": float("nan"),
    ".NAN": float("nan"),
}
_FIRST = frozenset("+-.0123456789~nNtTfF")

Location = tuple[str | int, ...]
"""Keys and indexes that lead to a value of a design."""


def dotted(place: Location) -> str:
    """The keys and indexes joined by dots."""
    return ".".join(map(str, place))


class _Mistake(Exception):
    def __init__(self, mark: Any, what: str, fix: str) -> None:
        self.line = mark.line + 1 if mark else 1
        self.column = mark.column + 1 if mark else 1
        self.what, self.fix = what, fix

    def problem(self, source: str) -> Problem:
        return Problem(f"{source}:{self.line}:{self.column}", self.what, self.fix)


def _scalar(text: str) -> Any:
    """A plain scalar in the core schema."""
    if text and text[0] not in _FIRST:
        return text
    if text in _WORDS:
        return _WORDS[text]
    if _INTEGER.match(text):
        # Longer numbers than this are nobody's value; a bound keeps hostile files cheap.
        return int(text) if len(text) <= 40 else text
    if _OTHER_INTEGER.match(text) and len(text) <= 40:
        return int(text, 8 if text[1] == "o" else 16)
    if _FLOAT.match(text):
        return float(text)
    return text


_scalar_cached = functools.lru_cache(maxsize=16384)(_scalar)


def read_values(text: str, source: str) -> Any:
    """The one document in `text`. Raises DesignError with every mistake that it can find."""
    values, problems = read_tolerantly(text, source)
    if problems:
        raise DesignError(problems)
    return values


@contextlib.contextmanager
def parsing(text: str) -> Iterator[Any]:
    """The well-kept parser, loaded when there is something to be parsed."""
    import yaml

    with not_collecting():
        loader = getattr(yaml, "CSafeLoader", yaml.SafeLoader)(text)
        try:
            yield loader
        finally:
            loader.dispose()


def read_tolerantly(text: str, source: str) -> tuple[Any, list[Problem]]:
    """The document, and the mistakes that do not keep it from being read: keys that stand twice.

    Raises DesignError for mistakes after which nothing can be read.
    """
    if len(text) > MAX_BYTES:
        raise DesignError(
            [Problem(source, f"the file is larger than {MAX_BYTES} bytes", "Split the design")]
        )
    import yaml

    try:
        with parsing(text) as loader:
            twice: list[_Mistake] = []
            values = _document(loader, twice)
            return values, [mistake.problem(source) for mistake in twice]
    except _Mistake as mistake:
        raise DesignError([mistake.problem(source)]) from None
    except yaml.YAMLError as error:
        raise DesignError([_yaml_problem(error, text, source)]) from error
    except (UnicodeError, ValueError, RecursionError) as error:
        fix = "Save the file as plain UTF-8 text"
        raise DesignError([Problem(source, f"not readable as YAML: {error}", fix)]) from error


def _yaml_problem(error: Exception, text: str, source: str) -> Problem:
    mark = getattr(error, "problem_mark", None) or getattr(error, "context_mark", None)
    what = getattr(error, "problem", None) or getattr(error, "reason", None) or str(error)
    where = f"{source}:{mark.line + 1}:{mark.column + 1}" if mark else source
    lines = text.splitlines()
    if mark and mark.line < len(lines) and lines[mark.line][mark.column : mark.column + 1] == "\t":
        return Problem(where, "a tab stands where YAML wants spaces", "Indent with spaces")
    said, fix = next((ours for part, ours in _IN_OUR_WORDS if part in what), _UNKNOWN)
    return Problem(where, f"not valid YAML: {said}", fix)


_LOOK = "Check the indentation and the punctuation on this line and the one before"
_UNKNOWN = "what stands here does not belong to what is before it", _LOOK
# Parts of what the YAML library says, each with what is wrong and the cure.
_IN_OUR_WORDS = (
    ("expected ',' or '}'", ("the braces are not closed", "Close them with }, or add a comma")),
    ("expected ',' or ']'", ("the brackets are not closed", "Close them with ], or add a comma")),
    (
        "expected node content",
        ("a value is missing here", "Write the value, or take the comma out"),
    ),
    ("expected key", ("a key was expected here", _LOOK)),
    ("expected '-' indicator", ("an entry of the list was expected here", _LOOK)),
    ("could not find expected ':'", ("a colon is missing after a key", "Write 'key: value'")),
    (
        "mapping values are not allowed",
        (
            "a colon stands where no key is",
            "Put the value in quotes, or its key on a line of its own",
        ),
    ),
    ("sequence entries are not allowed", ("a list begins where none can be", _LOOK)),
    ("unexpected end of stream", ("the quotes are not closed", "Close them")),
    ("cannot start any token", ("no value can begin with this character", "Put it in quotes")),
    ("escape character", ("an escape that YAML does not have", "Use single quotes")),
    ("control characters", ("a character that cannot be in a text", "Take it out")),
    ("special characters", ("a character that cannot be in a text", "Take it out")),
    ("found undefined alias", ("an anchor that is not there", "Define it before it is used")),
    ("document indicator", ("a document ends inside a value", "Close the quotes before it")),
)


@dataclass(slots=True)
class _Frame:
    """An open mapping or sequence."""

    value: Any
    anchor: str | None
    key: Any = None
    has_key: bool = False
    nodes: int = 1


def _key(event: Any, value: Any, held: dict[str, Any], twice: list[_Mistake]) -> str:
    """A value that stands where a key should, as one: as it is written."""
    if type(value) is not str:
        if isinstance(value, dict | list):
            raise _Mistake(event.start_mark, "a key must be one word", "Give it a name")
        written = getattr(event, "value", None)  # an alias has none
        value = str(value) if written is None else written
    if value in held:
        what = f"'{value}' stands twice here"
        twice.append(_Mistake(event.start_mark, what, "Remove or rename one of them"))
    return str(value)


def _anchored(event: Any, anchors: dict[str, tuple[Any, int]]) -> tuple[Any, int]:
    """What an alias stands for, and of how many values it consists."""
    if event.anchor not in anchors:
        raise _Mistake(
            event.start_mark,
            f"*{event.anchor} stands before or inside its anchor",
            f"Put &{event.anchor} earlier",
        )
    return anchors[event.anchor]


def _document(loader: Any, twice: list[_Mistake]) -> Any:
    import yaml

    get, scalar_event = loader.get_event, yaml.ScalarEvent
    map_start, seq_start = yaml.MappingStartEvent, yaml.SequenceStartEvent
    map_end, seq_end, alias_event = yaml.MappingEndEvent, yaml.SequenceEndEvent, yaml.AliasEvent
    anchors: dict[str, tuple[Any, int]] = {}
    stack: list[_Frame] = []
    get()  # stream start
    event = get()
    if isinstance(event, yaml.StreamEndEvent):
        return None
    result: Any = None
    total = 0
    while True:
        event = get()
        kind = type(event)
        if kind is scalar_event:
            value: Any = event.value
            if event.implicit[0] and not event.style:
                value = _scalar_cached(value)
            elif event.tag is not None and event.tag != "!" and not event.tag.endswith(":str"):
                raise _Mistake(event.start_mark, f"the tag {event.tag} is not used here", "Drop it")
            if event.anchor is not None:
                anchors[event.anchor] = (value, 1)
            nodes = 1
        elif kind is map_start or kind is seq_start:
            if len(stack) >= MAX_DEPTH:
                deep = f"nested deeper than {MAX_DEPTH} levels"
                raise _Mistake(event.start_mark, deep, "Flatten it")
            stack.append(_Frame({} if kind is map_start else [], event.anchor))
            continue
        elif kind is map_end or kind is seq_end:
            frame = stack.pop()
            value, nodes = frame.value, frame.nodes
            if frame.anchor is not None:
                anchors[frame.anchor] = (value, nodes)
        elif kind is alias_event:
            value, nodes = _anchored(event, anchors)
        else:
            break
        total += nodes if kind is alias_event else 1
        if total > MAX_NODES:
            raise _Mistake(event.start_mark, f"more than {MAX_NODES} values", "Split the design")
        if not stack:
            result = value
            continue
        top = stack[-1]
        top.nodes += nodes
        if type(top.value) is list:
            top.value.append(value)
        elif top.has_key:
            top.value[top.key] = value
            top.has_key = False
        else:
            top.key, top.has_key = _key(event, value, top.value, twice), True
    event = get()
    if not isinstance(event, yaml.StreamEndEvent):
        raise _Mistake(
            event.start_mark, "a second document begins here", "Keep one design in one file"
        )
    return result
