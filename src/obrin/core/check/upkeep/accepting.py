"""Findings that somebody answers for: accepted in the design, with reason, name and last day.

An acceptance is for one code at one place. It lapses with its last day; and with a fingerprint of
the cause in it (`seen`), as soon as what was found there is something else.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator
from dataclasses import replace
from datetime import date

from obrin.core.check.finding import Finding, Severity
from obrin.core.design.reader import dotted
from obrin.core.design.wishes import AcceptedFinding
from obrin.core.settled.model import Settled

OF_CHANGE = "change-"
"""So begin the codes of what goes wrong on the way from what is built to a design."""


def seen_as(finding: Finding) -> str:
    """A short fingerprint of what was found: it changes when that does."""
    return hashlib.sha256(finding.cause.encode()).hexdigest()[:8]


def answered(
    settled: Settled, findings: Iterable[Finding], today: date | None, unlooked: str | None = None
) -> Iterator[Finding]:
    """All of them, those that are accepted marked as such; and what is accepted to no end, but for
    the codes that begin with `unlooked`: nobody looked for these."""
    by_place: dict[tuple[str, str], list[tuple[int, AcceptedFinding]]] = {}
    for index, accepted in enumerate(settled.accepted_findings):
        by_place.setdefault((accepted.finding, accepted.at), []).append((index, accepted))
    used: set[int] = set()
    places: dict[str, str] = {}
    for finding in findings:
        places.setdefault(finding.code, dotted(finding.place))
        here = by_place.get((finding.code, dotted(finding.place)), []) if by_place else []
        used.update(index for index, _ in here)
        holding = [accepted for _, accepted in here if _holds(accepted, finding, today)]
        yield replace(finding, accepted=holding[-1]) if holding else finding
    for index, accepted in enumerate(settled.accepted_findings):
        skipped = unlooked is not None and accepted.finding.startswith(unlooked)
        if index not in used and not skipped:
            near = places.get(accepted.finding)
            yield Finding(
                Severity.NOTE,
                "acceptance-unused",
                ("accepted-findings", index),
                f"'{accepted.finding}' at {accepted.at} is accepted, and nothing like it is found",
                "if it comes back, nobody is warned",
                f"write 'at: {near}', where there is one, or take it out"
                if near
                else "take it out, or correct its 'finding' and 'at'",
            )


def _holds(accepted: AcceptedFinding, finding: Finding, today: date | None) -> bool:
    over = accepted.until is not None and today is not None and accepted.until < today
    return not over and accepted.seen in (None, seen_as(finding))
