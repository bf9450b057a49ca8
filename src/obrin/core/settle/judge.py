"""Settled values that cannot be values at all, found before anything is built on them.

The settled file is written by the tool and can be changed by anybody. Each value is judged by what
its place wants, with the same words for every command that reads the file.
"""

from __future__ import annotations

from collections.abc import Callable

from obrin.core.address.prefix import Prefix, parse_address, parse_prefix
from obrin.core.address.special import SPECIAL
from obrin.core.address.ula import UNIQUE_LOCAL
from obrin.core.catalogue.as_numbers import RESERVED_AS
from obrin.core.catalogue.offering import Offered
from obrin.core.design.model import Design
from obrin.core.design.positions import Locator
from obrin.core.design.references import all_suites
from obrin.core.errors import AddressError, DesignError, Problem
from obrin.core.settle.blank import Blank
from obrin.core.settle.choices import Choices, Value
from obrin.core.settle.work import prefixes_in


def judge_choices(design: Design, choices: Choices, offering: Offered, locator: Locator) -> None:
    """Raises DesignError with the place in the settled file of each value that cannot be one."""
    problems = []
    judges = _judges(design, offering)
    for key, choice in choices.items():
        what = _fault(judges, key, choice.value)
        if what:
            where = locator.where(("values", key, "value"))
            fix = f"Put a right value, or have it chosen anew: 'obrin settle --anew {key}'"
            problems.append(Problem(where, f"{key}: {what}", fix))
    if problems:
        raise DesignError(problems)


Judge = Callable[[Value], str]
"""What is wrong with a value, or nothing. Raises AddressError."""


def _judges(design: Design, offering: Offered) -> dict[str, Judge]:
    """Functions that judge a value, by what is blank; all other blanks hold prefixes."""
    names = {c.name: None for cloud in design.clouds for c in offering.of(cloud).classes}
    classes, suites = list(names), list(all_suites(design))
    return {
        "as": _as_number,
        "class": lambda v: _one_of(v, classes, "capacity class"),
        "suite": lambda v: _one_of(v, suites, "suite"),
        "addresses": _addresses,
        "addresses6": _addresses,
        "peers": _addresses,
        "loopback": _host,
        "ula": _ula,
        "inside": lambda v: _inside(v, (30, 31)),
        "inside6": lambda v: _inside(v, (126, 127)),
    }


def _fault(judges: dict[str, Judge], key: str, value: Value) -> str:
    blank = Blank.of(key)
    judge = judges.get(blank.field + "6" * blank.ipv6, _prefixes)
    try:
        return judge(value)
    except AddressError as error:
        return str(error)


def _as_number(value: Value) -> str:
    if not isinstance(value, int):
        return f"{_shown(value)} is not an AS number"
    if not 0 < value < 2**32:
        return f"{_shown(value)} is not an AS number; they go from 1 to 4294967294"
    if value in RESERVED_AS:
        return f"AS number {value} is reserved ({RESERVED_AS[value]})"
    return ""


def _one_of(value: Value, known: list[str], what: str) -> str:
    if isinstance(value, str) and (value in known or what == "suite"):
        return ""
    return f"{_shown(value)} is not a {what}; there are {', '.join(known)}"


def _addresses(value: Value) -> str:
    if not isinstance(value, list) or not value:
        return f"{_shown(value)} is not a list of addresses"
    if len(set(value)) < len(value):
        return "an address stands twice"
    return next(filter(None, map(_host, value)), "")


def _host(value: Value) -> str:
    bits, number = parse_address(_text(value))
    return _place(Prefix(bits, number, bits)) or _link_local(Prefix(bits, number, bits))


def _ula(value: Value) -> str:
    prefix = parse_prefix(_text(value))
    right = prefix.length == 48 and UNIQUE_LOCAL.covers(prefix)
    return "" if right else f"{prefix} is not a /48 of {UNIQUE_LOCAL} (RFC 4193)"


def _inside(value: Value, lengths: tuple[int, ...]) -> str:
    prefix = parse_prefix(_text(value))
    if prefix.length not in lengths:
        return (
            f"{prefix} is not a block for two ends; its length is {' or '.join(map(str, lengths))}"
        )
    return _place(prefix)


def _prefixes(value: Value) -> str:
    prefixes = prefixes_in([_text(v) for v in value] if isinstance(value, list) else _text(value))
    return next(filter(None, (_place(p) or _link_local(p) for p in prefixes)), "")


def _place(prefix: Prefix) -> str:
    for range_ in SPECIAL:
        if not range_.hosts and range_.prefix.overlaps(prefix):
            return f"{prefix} lies in {range_.prefix}, which is {range_.what}"
    return ""


def _link_local(prefix: Prefix) -> str:
    found = next((s for s in SPECIAL if not s.routed and s.prefix.overlaps(prefix)), None)
    return f"{prefix} lies in {found.prefix}, which no router passes on" if found else ""


def _text(value: Value) -> str:
    if not isinstance(value, str):
        raise AddressError(f"{_shown(value)} is not an address")
    return value


def _shown(value: Value) -> str:
    """Short, and without the limit that Python puts on long numbers."""
    if isinstance(value, int):
        return str(value) if abs(value) < 10**20 else "a number of more than 20 digits"
    text = repr(value)
    return text if len(text) <= 60 else text[:57] + "..."
