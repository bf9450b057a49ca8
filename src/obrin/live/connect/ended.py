"""What the clouds and the gateways still hold and the design has no more.

What Obrin built for this design is ended by the next connect: a tunnel whose link is over, or was
taken out, would otherwise go on giving access for ever. What somebody else built, or Obrin for
another design, is left alone and named.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from obrin.core.settled.model import Settled
from obrin.live.connect.execute import PACK
from obrin.live.connect.journal import Journal
from obrin.live.drivers.asking import side_by_side
from obrin.live.drivers.protocol import CloudDriver, Ends, Progress, Report


@dataclass(frozen=True, slots=True)
class Left:
    """Something that stands at a cloud, by its name there."""

    driver: CloudDriver
    name: str


@dataclass(frozen=True, slots=True)
class Ended:
    """`ours` is in the order in which it was built; `others` are only named. `gateways` still have
    what they were given."""

    ours: tuple[Left, ...] = ()
    others: tuple[str, ...] = ()
    gateways: tuple[str, ...] = ()

    def __bool__(self) -> bool:
        return bool(self.ours or self.gateways)

    def words(self) -> str:
        names = [left.name for left in self.ours]
        return ", ".join((*names, *(f"what {name} was given" for name in self.gateways)))


def find_ended(
    settled: Settled, ends: Ends, made: Collection[str], barred: Collection[str]
) -> Ended:
    """`made` are names of what was built or handed over for this design, `barred` gateways that
    are not spoken to any more, since their certificates are revoked."""
    ours: list[Left] = []
    others: list[str] = []
    for driver, clouds in ends.by_driver():
        wanted = driver.wanted(settled, clouds, barred)
        for name in driver.held():
            if name not in wanted and name in made:
                ours.append(Left(driver, name))
            elif name not in wanted:
                others.append(name)
    used = {leg.gateway for leg in settled.legs()} | set(barred)
    left = [name for name in ends.gateways if name not in used and PACK + name in made]
    have = side_by_side(lambda name: ends.gateways[name].has_pack(), left)
    gateways = (name for name, has in zip(left, have, strict=True) if has)
    return Ended(tuple(ours), tuple(others), tuple(gateways))


def end_access(ended: Ended, ends: Ends, journal: Journal, report: Report) -> None:
    """End access at clouds and take packs from gateways, before anything new is built."""
    for left in ended.ours:
        if left.driver.gives_access(left.name):
            _remove(left, journal, report)
    for name in ended.gateways:
        journal.begin(f"end/{name}")
        ends.gateways[name].take_away()
        journal.done(f"end/{name}", "ended")
        report(Progress(PACK + name, "done", "taken away"))


def end_rest(ended: Ended, journal: Journal, report: Report) -> None:
    """What carried the tunnels, once nothing uses it any more; users before what they use."""
    for left in reversed(ended.ours):
        if not left.driver.gives_access(left.name):
            _remove(left, journal, report)


def _remove(left: Left, journal: Journal, report: Report) -> None:
    journal.begin(left.name)
    left.driver.remove(left.name, report)
    journal.removed(left.name)
    report(Progress(left.name, "done", "ended and taken away"))
