"""Maintenance windows of a place, as settled."""

from __future__ import annotations

from collections.abc import Mapping

from obrin.core.design.windows import Window
from obrin.core.settled.model import Settled


def windows_of(settled: Settled, place: str) -> tuple[Window, ...]:
    """Maintenance windows of a cloud, or of the site that a gateway belongs to. Empty where it may
    always be changed."""
    windows: Mapping[str, tuple[Window, ...]] = settled.standards.windows
    gateway = settled.gateways.get(place)
    return windows.get(place if gateway is None else gateway.site, ())
