"""What a design may have and the practice world has not."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.errors import ObrinError
from obrin.core.settled.model import Settled


def beyond_practice(settled: Settled) -> Iterator[str]:
    """What a design has and the practice world has not."""
    for name, cloud in settled.clouds.items():
        if cloud.is_hub:
            yield f"hubs ({name})"
    for name in settled.circuits:
        yield f"circuits ({name})"
    for name, site in settled.sites.items():
        if site.internal_bgp:
            yield f"internal BGP ({name})"


def refuse_beyond(settled: Settled) -> None:
    """Raises ObrinError for the first thing that cannot be built."""
    for what in beyond_practice(settled):
        raise ObrinError(
            f"the practice world has no {what}. 'check', 'routes', 'reach', 'drill' and 'handover' "
            "know it; to connect, leave it out"
        )
