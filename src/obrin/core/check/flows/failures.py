"""More reach than anybody asked for, and loads that what is left after a failure cannot carry."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.catalogue.offering import Offered
from obrin.core.check.finding import Finding, Severity
from obrin.core.design.reader import Location
from obrin.core.drill.elements import elements
from obrin.core.drill.sweep import Sweep
from obrin.core.reach.matrix import matrix
from obrin.core.reach.model import ReachModel
from obrin.core.settled.model import Settled

_NAMED = 4
"""Failures with one and the same effect that are named; the rest is counted."""


def wider(settled: Settled) -> Iterator[Finding]:
    """Check this only where the design brings its own rules: those made from expectations are
    never wider."""
    own: dict[str, Location] = {
        g.site: ("sites", g.site, "gateways", g.name, "filters")
        for g in settled.gateways.values()
        if g.filters is not None
    }
    own |= {n: ("clouds", n, "filters") for n, c in settled.clouds.items() if c.filters is not None}
    if not own:
        return
    for cell in matrix(ReachModel(settled)):
        if cell.wider:
            here = next(place for place in (*cell.places, *own) if place in own)
            yield Finding(
                Severity.WARNING,
                "reach-wider",
                own[here],
                f"{', '.join(cell.wider)} passes from {cell.source} to {cell.destination}, and no "
                "expectation asks for it",
                "whoever gets hold of a host on one side gets at more than was meant on the other",
                "narrow the filter rules, or write down that it must work; 'obrin reach' has all",
            )


def overloads(settled: Settled, offering: Offered) -> Iterator[Finding]:
    """Findings about overload, with all up and with each thing failed; only where loads are
    given."""
    if not any(wish.load or wish.largest for wish in settled.expectations):
        return
    sweep = Sweep(settled, offering)
    here: Location = ("expectations",)
    usual = sweep.try_one(()).too_much
    for what in usual:
        yield Finding(
            Severity.ERROR,
            "overload",
            here,
            f"with everything up, {what}",
            "packets are lost at the busiest hour, every day",
            "order more, spread the flows over shared tunnels, or correct 'load' and 'rate'",
        )
    after: dict[str, list[str]] = {}
    for element in elements(settled):
        for what in sweep.try_one((element,)).too_much:
            if what not in usual:
                after.setdefault(what, []).append(str(element))
    for what, failed in after.items():
        named = failed[:_NAMED] + [f"any of {len(failed) - _NAMED} more"] * (len(failed) > _NAMED)
        yield Finding(
            Severity.WARNING,
            "overload-after-failure",
            here,
            f"when {' or '.join(named)} fails, {what}",
            "what was to save the flows chokes them at the busiest hour",
            "give the other way the same rate, or accept it for the time of the failure",
        )
