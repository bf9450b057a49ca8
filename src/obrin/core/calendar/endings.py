"""Everything that ends, with the day, what follows, the cure, and how early to act."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from datetime import date, timedelta

from obrin.core.days import day_after
from obrin.core.settled.model import Settled


@dataclass(frozen=True, slots=True, kw_only=True)
class Ending:
    """`subject` names what it is about, stable over renewals; `lead` are days to act before."""

    day: date
    kind: str
    subject: str
    what: str
    then: str
    cure: str
    lead: int

    def state(self, today: date) -> str:
        """`ended`, `act now` within the lead time, or `later`."""
        if self.day < today:
            return "ended"
        return "act now" if self.day <= day_after(today, timedelta(days=self.lead)) else "later"


@dataclass(frozen=True, slots=True)
class Dated:
    """A certificate or a list with its last day: `root`, `issuing`, `gateway` or `list`."""

    kind: str
    name: str
    ends: date


_CERTIFICATES = {
    "root": (
        "the root of the certificate authority",
        "every certificate below it ends with it",
        "'obrin certificates renew root', hand over all packs, then renew the gateways",
        180,
    ),
    "issuing": (
        "the issuing authority",
        "certificates that it issued end with it",
        "'obrin certificates renew issuing', then renew the gateways",
        90,
    ),
    "gateway": (
        "the certificate of {}",
        "its tunnels do not come up again",
        "'obrin certificates renew {}', then hand over and connect",
        30,
    ),
    "list": (
        "the list of revoked certificates",
        "nobody's certificate is believed any more",
        "'obrin certificates renew' of any gateway makes it anew; hand over all packs",
        30,
    ),
}


def endings(
    settled: Settled, made: Mapping[str, str], certificates: Iterable[Dated]
) -> list[Ending]:
    """List endings by day. `made` maps tunnel labels to the ISO dates on which their keys were
    made."""
    found = [*_keys(settled, made), *_certified(certificates), *_access(settled)]
    return sorted(found, key=lambda e: (e.day, e.kind, e.subject))


def _keys(settled: Settled, made: Mapping[str, str]) -> Iterator[Ending]:
    life = settled.standards.key_life
    if life is None:
        return
    for secret in settled.shared_secrets():
        day = made.get(secret.label)
        if day is not None:
            yield Ending(
                day=day_after(date.fromisoformat(day), timedelta(seconds=life)),
                kind="key",
                subject=secret.label,
                what=f"the {secret.words} reaches the age that the policy allows",
                then="an audit finds it; who has seen it can still use it",
                cure=secret.renewal,
                lead=30,
            )


def _certified(certificates: Iterable[Dated]) -> Iterator[Ending]:
    for entry in certificates:
        what, then, cure, lead = _CERTIFICATES[entry.kind]
        yield Ending(
            day=entry.ends,
            kind="certificate",
            subject=f"{entry.kind} {entry.name}",
            what=f"{what.format(entry.name)} ends",
            then=then,
            cure=cure.format(entry.name),
            lead=lead,
        )


def _access(settled: Settled) -> Iterator[Ending]:
    for access in settled.granted:
        if access.link:
            then, cure = (
                "from the next day it is in no pack",
                "hand over and connect on that day; take its tunnels off the devices",
            )
        elif access.flow is not None:
            then, cure = (
                "from the next day it must not work",
                "hand over and connect on that day, then 'obrin probe'; or give it a later day",
            )
        else:
            then, cure = (
                "from the next day it is in no pack",
                "hand over and connect on that day; or give it a later day",
            )
        yield Ending(
            day=access.until,
            kind="access",
            subject=access.subject,
            what=f"{access.about} ends",
            then=then,
            cure=cure,
            lead=7,
        )
