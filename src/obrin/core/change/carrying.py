"""What things carry in a state between two designs, by the names that they have in both."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import cached_property

from obrin.core.catalogue.offering import Offered
from obrin.core.change.states import Between
from obrin.core.drill.load import Use, loaded
from obrin.core.settled.model import Settled

SLACK = 1e-9
"""Rounding error allowed in sums that are added to and taken from."""


def designed(settled: Settled, way: str) -> str:
    """What the design calls a way, where an old and a new version of it are there at once."""
    leg = settled.index.by_label.get(way)
    return way if leg is None else leg.designed


class Limits:
    """What a thing can carry is what the new design says of it."""

    def __init__(self, between: Between, offering: Offered) -> None:
        self._after, self._offering = between.after, offering

    @cached_property
    def _of_after(self) -> dict[str, float | None]:
        legs = ((leg.label, 1.0) for leg in self._after.legs())
        return {t.words: t.most for t in loaded(self._after, self._offering, legs)}

    def used(self, settled: Settled, carried: Iterable[tuple[str, float]]) -> Iterator[Use]:
        """Use of everything that has a known limit and carries something."""
        for thing, rate in loaded(settled, self._offering, carried).items():
            name = f"{thing.kind} {designed(settled, thing.name)}"
            if most := self._of_after.get(name, thing.most):
                yield Use(name, rate, most)

    def full(self, settled: Settled, carried: Iterable[tuple[str, float]]) -> frozenset[str]:
        """What gets more than it carries."""
        rates: dict[str, float] = {}
        most: dict[str, float] = {}
        for use in self.used(settled, carried):
            rates[use.name] = rates.get(use.name, 0.0) + use.rate
            most[use.name] = use.most
        return frozenset(name for name, rate in rates.items() if rate > most[name] + SLACK)
