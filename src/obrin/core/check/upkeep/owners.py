"""Other owners who have to accept, before anybody waits for them."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.check.finding import Finding, Severity
from obrin.core.settled.model import Settled
from obrin.core.settled.owners import owned


def owners(settled: Settled) -> Iterator[Finding]:
    for entry in owned(settled):
        if entry.accepted is None and entry.asks:
            part = "circuits" if entry.kind == "circuit" else "clouds"
            yield Finding(
                Severity.WARNING,
                "owner-not-asked",
                (part, entry.name, "owner"),
                f"{entry.kind} {entry.name} belongs to {entry.owner}, who has to accept "
                f"{', '.join(entry.asks)}",
                "everything is built on this side, and nothing passes until somebody there acts",
                "ask them, and write the day on which they agreed under 'accepted'",
            )
