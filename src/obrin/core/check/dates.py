"""What has ended and is still in the design, and keys older than the policy allows."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import date, timedelta

from obrin.core.check.finding import Finding, Severity
from obrin.core.days import day_after
from obrin.core.settled.model import Settled


def ended(settled: Settled, made: Mapping[str, str], today: date) -> Iterator[Finding]:
    """`made` maps tunnel labels to the ISO dates of their keys."""
    for access in settled.granted:
        if access.until >= today:
            continue
        wish, day = access.flow, access.until.isoformat()
        if wish is not None:
            yield Finding(
                Severity.WARNING,
                "access-ended",
                access.place,
                f"access for {wish.flow} from {wish.source} to {wish.destination} ended on {day}",
                "it has left the packs, and devices that were not given new ones still let it "
                "through",
                "hand over, connect and probe; then take it out, or give it a later day",
            )
        else:
            yield Finding(
                Severity.WARNING,
                "access-ended",
                access.place,
                f"link {access.link} ended on {day}",
                "it has left the packs, and devices that were not given new ones still have it",
                "hand over and connect; then take it out, or give it a later day",
            )
    life = settled.standards.key_life
    for tunnel in settled.keyed_tunnels():
        since = made.get(tunnel.label)
        if life is None or since is None:
            continue
        if day_after(date.fromisoformat(since), timedelta(seconds=life)) < today:
            yield Finding(
                Severity.ERROR,
                "key-old",
                ("links", tunnel.link, "tunnels", tunnel.name),
                f"the key of {tunnel.label} was made on {since}, longer ago than the policy allows",
                "whoever has seen it since can still pass for either end",
                f"'obrin keys rotate {tunnel.label}'",
            )
