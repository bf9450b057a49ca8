"""What predictions assume, since the design does not say it."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.settled.model import Settled


def assumptions(settled: Settled) -> Iterator[str]:
    """Each in a sentence, with the key that would say it."""
    for name, site in settled.sites.items():
        if site.follow_is_assumed and any(map(settled.legs_at, site.gateways)):
            gateways = " or ".join(site.gateways)
            yield (
                f"hosts of {name} are taken to leave {gateways} when it has lost its tunnels. Find "
                f"out whether they do, and say it: sites.{name}.hosts-follow"
            )
