"""Which keys of a design would make what stands at an end: found by trying them.

There is no second list of what comes from where: each key at the place that a thing is made from is
given what is there now, the whole is settled, and what would be built is compared with what is.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from obrin.core.design.document import judge_values
from obrin.core.design.reader import Location, read_values
from obrin.core.design.settings import can_be, settings
from obrin.core.errors import ObrinError
from obrin.core.gather.since import ABSENT, Change, with_changes
from obrin.core.handover.configured import device_config
from obrin.core.handover.secrets import Secrets
from obrin.core.handover.standard.device import encode
from obrin.core.quantity import plain
from obrin.core.settled.building import build_settled
from obrin.core.settled.model import Settled
from obrin.live.drivers.differing import Differing, differing, of_data
from obrin.live.drivers.protocol import Ends
from obrin.live.edited import edited
from obrin.live.project import Project, read_text
from obrin.live.reshape.drift import Drifted

MOST_HELD = 8
"""Settled designs that are kept."""


@dataclass(frozen=True, slots=True)
class Taken:
    """`changes` are keys of the design with the values that are there now; `left` what no key of it
    explains. `text` is the design with them."""

    changes: tuple[Change, ...]
    left: tuple[tuple[str, Differing], ...]
    text: str


def taking(project: Project, found: Sequence[Drifted], ends: Ends, secrets: Secrets) -> Taken:
    """Raises DesignError where the design cannot be read, or the keys not be placed."""
    text, source = read_text(project.design_path), str(project.design_path)
    trying = _Trying(project, read_values(text, source), found, ends, secrets)
    for drift in found:
        trying.take(drift)
    wanted = trying.changes
    left = [(drift.name, part) for drift in found for part in trying.left(drift)]
    by_hand = "Bring them into it by hand: 'obrin reshape --drift' lists them"
    new = edited(text, wanted, source, by_hand) if wanted else text
    return Taken(tuple(wanted), tuple(left), new)


Moved = set[tuple[str, Differing]]
"""Values by the name of what they are of."""


class _Trying:
    """`changes` are those that were found so far; what they explain of the next thing is not looked
    for again."""

    def __init__(
        self,
        project: Project,
        values: Any,
        found: Sequence[Drifted],
        ends: Ends,
        secrets: Secrets,
    ) -> None:
        self.changes: list[Change] = []
        self._project, self._values = project, values
        self._ends, self._secrets = ends, secrets
        self._design = project.read().design
        self._choices = project.read_choices(self._design)
        self._there = {(drift.name, part) for drift in found for part in drift.differing}
        self._held: dict[str, Settled | None] = {}
        self._said = {_said_of(part) for _, part in self._there}

    def left(self, drift: Drifted) -> list[Differing]:
        """What the changes so far do not explain."""
        moved = self._moved(drift, self.changes) or set()
        return [part for part in drift.differing if (drift.name, part) not in moved]

    def take(self, drift: Drifted) -> None:
        """Add changes that explain more of it, as long as there are any."""
        left = self.left(drift)
        for place in self._places(drift) if left else ():
            for value in (v for part in left for v in _values(part.there)):
                if can_be(self._design, place, value) and left:
                    tried = [*self.changes, Change(place, ABSENT, value, "")]
                    moved = self._moved(drift, tried) or set()
                    if self._fits(moved) and any((drift.name, part) in moved for part in left):
                        self.changes, left = tried, self.left(drift)

    def _fits(self, moved: Moved) -> bool:
        """One key may say the same of several tunnels; it must not say anything else."""
        return all(one in self._there or _said_of(one[1]) in self._said for one in moved)

    def _moved(self, drift: Drifted, changes: Sequence[Change]) -> Moved | None:
        """What would be another than by the design as it is, at the same end; None where that
        cannot be, or has other things there."""
        now, then = self._settled(()), self._settled(changes)
        if now is None or then is None:
            return None
        old, new = self._things(drift, now), self._things(drift, then)
        if old.keys() != new.keys():
            return None
        compare = of_data if drift.at == drift.name else differing
        return {(name, part) for name in old for part in compare(new[name], old[name])}

    def _things(self, drift: Drifted, settled: Settled) -> dict[str, Any]:
        """All that is at the same end by a design: of a cloud's driver, or of a gateway."""
        if drift.at == drift.name:
            here = drift.at in settled.gateways
            return {drift.at: encode(device_config(settled, drift.at))} if here else {}
        driver = self._ends.clouds[drift.at]
        clouds = [name for name in settled.clouds if self._ends.clouds.get(name) is driver]
        return {step.name: step.body for step in driver.steps(settled, clouds, self._secrets)}

    def _places(self, drift: Drifted) -> Iterable[Location]:
        """Keys of what it is made from; of a gateway, those of its links, too."""
        found, now = list(settings(self._design, drift.place)), self._settled(())
        if drift.at == drift.name and now is not None:
            for name in dict.fromkeys(now.bundle(leg).name for leg in now.legs_at(drift.at)):
                group = "links" if name in now.links else "circuits"
                found += settings(self._design, (group, name))
        return dict.fromkeys(found)

    def _settled(self, changes: Sequence[Change]) -> Settled | None:
        """Return None for what the design cannot say, or what cannot be settled."""
        key = repr([(change.place, change.now) for change in changes])
        if key not in self._held:
            if len(self._held) > MOST_HELD:
                self._held.clear()
            self._held[key] = self._made(changes)
        return self._held[key]

    def _made(self, changes: Sequence[Change]) -> Settled | None:
        design, problems = judge_values(with_changes(self._values, changes), lambda place: "")
        if design is None or problems:
            return None
        try:
            choices = self._project.settle(design, self._choices)
            return build_settled(design, choices, self._project.today)
        except ObrinError:
            return None


def _said_of(part: Differing) -> tuple[str, str]:
    """The value, and the name that it has wherever it stands."""
    name = re.sub(r"\[[^\]]*\]$", "", re.split(r"[/:] ?", part.part)[-1])
    return name, part.there


def _values(there: str) -> Iterator[Any]:
    """What those words may be in a design."""
    fixed = {"on": True, "off": False}
    if there in fixed:
        yield fixed[there]
        return
    try:
        number = float(there)
    except ValueError:
        pass
    else:
        yield int(number) if number.is_integer() else number
        yield from (f"{plain(number)} {unit}" for unit in ("s", "Mbit/s"))
    yield there
    if there not in ("none", "missing", ""):
        yield there.split(", ")
