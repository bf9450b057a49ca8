"""What has ended and is still in the design, and keys older than the policy allows."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import date, timedelta

from obrin.core.check.finding import Finding, Severity
from obrin.core.days import day_after
from obrin.core.design.model import Expectation
from obrin.core.settled.granting import Granted
from obrin.core.settled.model import Settled


def ended(settled: Settled, made: Mapping[str, str], today: date) -> Iterator[Finding]:
    """`made` maps tunnel labels to the ISO dates of their keys."""
    for access in settled.granted:
        if access.until >= today:
            continue
        still = "still have it" if access.link else "still let it through"
        yield Finding(
            Severity.WARNING,
            "access-ended",
            access.place,
            f"{access.about} ended on {access.until.isoformat()}",
            f"it has left the packs, and devices that were not given new ones {still}",
            "hand over, connect and probe; then take it out, or give it a later day",
        )
    yield from _mistyped(settled, today)
    yield from _outlived(settled)
    yield from _kept_open(settled)
    life = settled.standards.key_life
    for secret in settled.shared_secrets():
        since, tunnel = made.get(secret.label), secret.tunnel
        if life is None or since is None:
            continue
        if day_after(date.fromisoformat(since), timedelta(seconds=life)) < today:
            yield Finding(
                Severity.ERROR,
                "key-old",
                ("links", tunnel.link, "tunnels", tunnel.name),
                f"the {secret.words} was made on {since}, longer ago than the policy allows",
                "whoever has seen it since can still pass for either end",
                secret.renewal,
            )


FAR = timedelta(days=3653)
"""Ten years: nobody grants access for longer and means it."""


def _mistyped(settled: Settled, today: date) -> Iterator[Finding]:
    for access in settled.granted:
        if access.until > day_after(today, FAR):
            yield Finding(
                Severity.WARNING,
                "day-far",
                access.place,
                f"{access.until.isoformat()} is {access.until.year - today.year} years away",
                "access stays open for as long; most often the year was mistyped",
                "correct the year, or leave 'until' out where no end is meant",
            )


def _outlived(settled: Settled) -> Iterator[Finding]:
    """Access that is granted for longer than the only links that carry it."""
    ends = {access.link: access.until for access in settled.granted if access.link}
    for access in settled.granted:
        wish = access.flow
        if wish is None:
            continue
        pair = frozenset((wish.source.place, wish.destination.place))
        links = [bundle.name for bundle in settled.index.links_between.get(pair, ())]
        if links and all(name in ends and ends[name] < access.until for name in links):
            last = max(ends[name] for name in links)
            yield Finding(
                Severity.WARNING,
                "access-outlives-link",
                access.place,
                f"{access.about} is granted until "
                f"{access.until.isoformat()}, and {', '.join(links)} ends on {last.isoformat()}",
                "from the day after, what must work has no way",
                "end both on one day, or let the link stay",
            )


def _kept_open(settled: Settled) -> Iterator[Finding]:
    """Access that ends, and another expectation without an end for the same flow."""
    for access in settled.granted:
        if access.flow is not None:
            yield from _kept_open_by_others(settled, access, access.flow)


def _kept_open_by_others(settled: Settled, access: Granted, wish: Expectation) -> Iterator[Finding]:
    reported: set[int] = set()
    for other in settled.expectations_at(wish.source.place):
        number = other.number
        covered = other.source.covers(wish.source) and other.destination.covers(wish.destination)
        if (
            covered
            and other.until is None
            and other.must == "work"
            and other.flow.overlaps(wish.flow)
            and number not in reported
        ):
            reported.add(number)
            yield Finding(
                Severity.WARNING,
                "access-kept-open",
                access.place,
                f"{access.about} ends on "
                f"{access.until.isoformat()}, and expectation {number} wants {other.flow} between "
                "them without an end",
                "the filters let it through for as long as the other one stands there",
                "give the other an end, or narrow its ports",
            )
