"""Lifetimes that were meant in another unit, or for the other SA."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.check.finding import Finding, Severity
from obrin.core.ipsec.suite import Suite
from obrin.core.quantity import plain
from obrin.core.settled.model import Settled

USUAL = {"IKE SA": (28800.0, 86400.0), "child SA": (3600.0, 28800.0)}
"""What devices take by themselves, in seconds."""


def lifetimes(settled: Settled) -> Iterator[Finding]:
    """Once for each suite, at the first link that uses it."""
    reported: set[str] = set()
    for link in settled.links.values():
        if link.suite.name not in reported:
            reported.add(link.suite.name)
            yield from _of(link.name, link.suite)


def _of(link: str, suite: Suite) -> Iterator[Finding]:
    here = ("links", link, "suite")
    ike, child = suite.ike.lifetime, suite.esp.lifetime
    if ike < child:
        yield Finding(
            Severity.WARNING,
            "lifetime-order",
            here,
            f"suite {suite.name}: the IKE SA lives {plain(ike)} s, its child SA {plain(child)} s",
            "the IKE SA is made anew before the child needs it, with a new key exchange each time; "
            "the two are often mixed up",
            "give the IKE SA the longer life, 8 h beside 1 h for instance",
        )
    for what, life in (("IKE SA", ike), ("child SA", child)):
        for words, usual in _meant(life, USUAL[what]):
            yield Finding(
                Severity.WARNING,
                "lifetime-unit",
                here,
                f"suite {suite.name}: its {what} lives {plain(life)} s, {words} the usual "
                f"{plain(usual)} s",
                "a number of minutes was taken for seconds, or the other way round: rekeys come at "
                "times that nobody expects",
                "write the lifetime with the unit that was meant",
            )


def _meant(life: float, usual: tuple[float, ...]) -> Iterator[tuple[str, float]]:
    """Which of the usual lifetimes a number was meant for, if another unit makes it that."""
    for seconds in () if life in usual else usual:
        if life == seconds / 60:
            yield "a sixtieth of", seconds
        elif life == seconds * 60:
            yield "sixty times", seconds
