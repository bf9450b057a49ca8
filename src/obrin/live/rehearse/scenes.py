"""What a rehearsal finds, part by part: flows that were gone, beside what was predicted."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

ALL_UP, REKEYS, KEYS, TIME = "everything up", "rekeys of all SAs", "new keys", "time that passes"
ENDED = "access ends"
SLACK, SHARE = 0.5, 0.1
"""Seconds, and a share of the window, by which a measured outage may miss what was predicted."""


@dataclass(frozen=True, slots=True)
class Asked:
    """An expectation, and whether it was answered."""

    flow: str
    must: str
    answered: bool

    @property
    def met(self) -> bool:
        return self.answered == (self.must == "work")


@dataclass(frozen=True, slots=True, kw_only=True)
class Gone:
    """A flow in a failure. `shortest` and `longest` are the predicted seconds without it, `longest`
    None where it is gone until all is mended; `measured` None where it was. `before` and `after`
    are the ways that the model sees it go."""

    flow: str
    longest: float | None
    measured: float | None
    shortest: float = 0.0
    before: str = ""
    after: str = ""
    noticed_by: str = ""

    @property
    def met(self) -> bool:
        if self.longest is None or self.measured is None:
            return self.longest is self.measured
        slack = max(SLACK, SHARE * self.longest)
        return self.shortest - slack <= self.measured <= self.longest + slack


class Share(NamedTuple):
    """How many probes of a flow were sent, and how many were answered."""

    flow: str
    asked: int
    answered: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Scene:
    """One part of a rehearsal. `apart` are tables that were not the model's, `mended` seconds until
    all stood as before, None where it did not; `took` is how long it lasted there. Of a fault,
    which nothing predicts, there is what was `answered`, and what `status` `noted`."""

    what: str
    gone: tuple[Gone, ...] = ()
    apart: tuple[str, ...] = ()
    mended: float | None = 0.0
    took: float = 0.0
    answered: tuple[Share, ...] = ()
    noted: tuple[str, ...] = ()

    @property
    def good(self) -> bool:
        return not self.apart and self.mended is not None and all(flow.met for flow in self.gone)
