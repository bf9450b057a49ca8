"""What a table says, held against what the design has: what is new, and what it says better."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from obrin.core.design.wishes import Elsewhere
from obrin.core.gather.ranges import KnownRange, as_name


@dataclass(frozen=True, slots=True)
class Correction:
    """An entry that stands there under the name `was`, and how it is now."""

    was: str
    now: KnownRange


@dataclass(frozen=True, slots=True)
class Compared:
    """`same` is how many say what is known already."""

    added: tuple[KnownRange, ...]
    corrected: tuple[Correction, ...]
    same: int


def compare(
    ranges: Sequence[KnownRange], held: Mapping[str, Elsewhere], *, named: bool
) -> Compared:
    """What the table leaves empty stays as it is; `named` is whether it has names of its own.

    A name is corrected only where it was made up: people's names for a range may stand elsewhere.
    """
    by_prefix = {entry.prefix: name for name, entry in held.items()}
    added: list[KnownRange] = []
    corrected: list[Correction] = []
    for known in ranges:
        was = by_prefix.get(known.prefix)
        if was is None:
            added.append(known)
            continue
        entry = held[was]
        now = KnownRange(
            known.name if named and _made_up(was, entry) else was,
            known.prefix,
            known.owner or entry.owner or "",
            known.place or entry.place or "",
            known.note or entry.note or "",
        )
        if now != _as_known(was, entry):
            corrected.append(Correction(was, now))
    return Compared(tuple(added), tuple(corrected), len(ranges) - len(added) - len(corrected))


def _as_known(name: str, entry: Elsewhere) -> KnownRange:
    return KnownRange(name, entry.prefix, entry.owner or "", entry.place or "", entry.note or "")


def _made_up(name: str, entry: Elsewhere) -> bool:
    base = as_name(entry.owner or entry.place or "range")
    return re.fullmatch(rf"{re.escape(base)}(-[0-9]+)?", name) is not None
