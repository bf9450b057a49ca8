"""How far a change is carried out: which steps are done, and which was begun."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from obrin.core.change.states import Between, Step
from obrin.core.errors import ObrinError
from obrin.core.json_text import parse_json
from obrin.live.files import write_whole
from obrin.live.project import Project


@dataclass(slots=True)
class Record:
    """`order` are all steps by name, `done` those that are done in that order, `begun` one that
    may be. `change` is which change it is."""

    change: str
    order: list[str]
    done: list[str] = field(default_factory=list)
    begun: str = ""

    @property
    def words(self) -> str:
        return f"{len(self.done)} of {len(self.order)} steps are done"

    def check(self) -> None:
        """Raises ValueError for what was never written so."""
        texts = (self.change, self.begun, *self.order, *self.done)
        if not isinstance(self.order, list) or not all(isinstance(text, str) for text in texts):
            raise ValueError("it is not a record of steps")
        if self.order[: len(self.done)] != self.done or self.begun not in ("", *self.order):
            raise ValueError("its steps are not in order")

    def write(self, path: Path) -> None:
        data = {"change": self.change, "order": self.order, "done": self.done, "begun": self.begun}
        write_whole(path, json.dumps(data, indent=1) + "\n", 0o600, durable=True)


def record_path(project: Project) -> Path:
    return project.own_folder / f"reshape-{project.design_path.stem}.json"


def read_record(project: Project) -> Record | None:
    """Return None where no change is under way. Raises ObrinError for a damaged one."""
    path = record_path(project)
    try:
        data = parse_json(path.read_text(encoding="utf-8"))
        record = Record(**{key: data[key] for key in ("change", "order", "done", "begun")})
        record.check()
        return record
    except FileNotFoundError:
        return None
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise ObrinError(
            f"{path} cannot be read: {error}. Restore it, or remove it and run 'obrin connect'"
        ) from None


def change_of(between: Between, order: Sequence[Step]) -> str:
    """The same for the same change."""
    parts = [(s.name, repr(between.old[s.place]), repr(between.new[s.place])) for s in order]
    return hashlib.sha256(repr(sorted(parts)).encode()).hexdigest()[:24]


def under_way(record: Record | None, between: Between, order: Sequence[Step]) -> Record:
    """Say where a change with these steps stands, begun or not. Raises ObrinError where the
    record is of another one."""
    change = change_of(between, order)
    if record is None:
        return Record(change, [step.name for step in order])
    if not order and set(record.done) == set(record.order):
        return Record(change, [])  # killed after all was done, before this was forgotten
    if record.change != change or set(record.order) != {step.name for step in order}:
        raise ObrinError(
            f"another change is under way, {record.words}. Bring the design back to what it was "
            "then, and go on or back with it"
        )
    return record


def forget(project: Project) -> None:
    """No change is under way any more."""
    record_path(project).unlink(missing_ok=True)
