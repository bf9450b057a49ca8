"""Values in the words of a screen."""

from __future__ import annotations

import re
from typing import Any

from obrin.core.address.dual import Dual
from obrin.core.address.prefix import Address, Prefix, parse_address, parse_prefix
from obrin.core.ipsec.liveness import Bfd

NONE = {"", "none", "does not apply"}


def number(text: str) -> float:
    found = re.search(r"(\d+(?:\.\d+)?) s\b", text)
    assert found, text
    return float(found[1])


def count(text: str) -> int:
    found = re.match(r"\d+", text)
    assert found, text
    return int(found[0])


def several(text: str) -> list[str]:
    return [] if text in NONE else re.split(r", | and ", text)


def addresses(text: str) -> list[Address]:
    return [parse_address(one) for one in several(text)]


def prefixes(text: str) -> tuple[Prefix, ...]:
    return tuple(parse_prefix(one) for one in several(text))


def with_lengths(text: str) -> tuple[tuple[Address, int], ...]:
    pairs = (one.split("/") for one in several(text))
    return tuple((parse_address(address), int(length)) for address, length in pairs)


def dual(values: Any) -> Dual[Any]:
    held = {value.bits: value for value in values}
    return Dual(held.get(32), held.get(128))


def bfd_of(text: str) -> Bfd | None:
    found = re.match(r"every ([\d.]+) s, dead after (\d+) missed", text)
    return Bfd(float(found[1]), int(found[2])) if found else None


def first(text: str) -> str:
    """What is entered, without the remark behind it."""
    return text.split(" (", 1)[0]


def interface_of(label: str, row: dict[str, str]) -> str:
    """A tunnel by policy has an interface of its own choice."""
    return row.get("Tunnel interface", "tunnel-" + label.replace("/", "-"))
