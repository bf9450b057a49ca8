"""What is advertised over a link or circuit, at both ends, before any session speaks."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping

from obrin.core.address.prefix import Prefix
from obrin.core.settled.clouds import SettledCloud
from obrin.core.settled.links import Bundle


def summarised(prefixes: Collection[Prefix], summaries: Collection[Prefix]) -> tuple[Prefix, ...]:
    """The prefixes with each summary in the place of what lies inside it."""
    kept = [p for p in prefixes if not any(s.covers(p) for s in summaries)]
    useful = [s for s in summaries if any(s.covers(p) for p in prefixes)]
    return tuple(sorted({*kept, *useful}))


def summaries_of(bundle: Bundle) -> tuple[tuple[Prefix, ...], tuple[Prefix, ...]]:
    """Summaries that the site advertises, and those that it learns."""
    return bundle.summaries, bundle.cloud_summaries


def announced_by_site(bundle: Bundle) -> tuple[Prefix, ...]:
    """The site's networks as the cloud knows them."""
    seen = {part.seen for part in bundle.exposures}
    return summarised(seen, summaries_of(bundle)[0])


def announced_by_cloud(bundle: Bundle) -> tuple[Prefix, ...]:
    """The cloud's space as the site knows it."""
    seen = tuple(part.seen for part in bundle.cloud_exposures)
    summaries = summaries_of(bundle)[1]
    return summarised(seen, summaries) if summaries else seen


def led_through(
    clouds: Mapping[str, SettledCloud], bundles: Iterable[Bundle], bundle: Bundle
) -> list[Prefix]:
    """What other sites advertise to a hub and its table for this way learns; nothing elsewhere."""
    table = clouds[bundle.cloud].table_of(bundle.name)
    if table is None or all(name in clouds for name in table.learns):
        # Most tables of sites learn members only; then there is no need to walk all that is joined.
        return []
    return [
        prefix
        for other in bundles
        if other.cloud == bundle.cloud and other.name in table.learns
        for prefix in announced_by_site(other)
    ]
