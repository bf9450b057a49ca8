"""Findings on a settled design: one small module per theme, one function to run them all."""

from __future__ import annotations

from collections.abc import Mapping

from obrin.core.check import (
    algorithms,
    clouds,
    expectations,
    inside,
    keys,
    numbers,
    redundancy,
    sizes,
    spaces,
)
from obrin.core.check.finding import Finding, Severity
from obrin.core.design.offering import Offering
from obrin.core.design.settled import Settled

__all__ = ["Finding", "Severity", "check"]


def check(settled: Settled, offering: Offering, stored_keys: Mapping[str, str]) -> list[Finding]:
    """All findings, the most severe first, otherwise in the order of the themes."""
    found = [
        *spaces.overlaps(settled),
        *spaces.translations(settled),
        *clouds.cloud_networks(settled, offering),
        *clouds.classes(settled, offering),
        *clouds.limits(settled, offering),
        *numbers.as_numbers(settled),
        *inside.inside_blocks(settled, offering),
        *inside.loopbacks(settled),
        *inside.ipv6(settled),
        *algorithms.suites(settled),
        *sizes.inner_sizes(settled),
        *redundancy.tunnels(settled),
        *redundancy.same_ends(settled),
        *keys.keys(settled, stored_keys),
        *expectations.expectations(settled),
    ]
    return sorted(found, key=lambda finding: -finding.severity)
