"""Texts that nobody filled in."""

from __future__ import annotations

import re
from collections.abc import Iterator

from obrin.core.check.finding import Finding, Severity
from obrin.core.design.reader import Location
from obrin.core.ipsec.guessing import UNFILLED
from obrin.core.settled.model import Settled

_PLACEHOLDER = re.compile(
    rf"<[^>]*>|\{{[^}}]*\}}|fix.?me|{UNFILLED}|(?<![^\W_])(tba|insert)(?![^\W_])", re.IGNORECASE
)


def placeholders(settled: Settled) -> Iterator[Finding]:
    for here, text in _texts(settled):
        if _PLACEHOLDER.search(text):
            yield Finding(
                Severity.WARNING,
                "placeholder",
                here,
                f"'{text:.60}' is a placeholder that nobody filled in",
                "it goes onto the sheets as it is, and to the other end",
                "write what belongs here, or take the key out",
            )


def unfilled(text: str) -> Iterator[tuple[int, int, str]]:
    """Line, column (from 1) and words of what stands in a text where something belongs. Only what
    nobody writes for another reason: a configuration may have angle brackets of its own."""
    for number, line in enumerate(text.splitlines(), 1):
        for found in _BLANK.finditer(line):
            yield number, found.start() + 1, found[0]


_BLANK = re.compile(
    rf"<(insert|enter|your|set|put|fill)\b[^<>]*>|fix.?me|{UNFILLED}", re.IGNORECASE
)


def _texts(settled: Settled) -> Iterator[tuple[Location, str]]:
    """Every text of the design that is free to be anything, with its place."""
    for site in settled.sites.values():
        for network in site.networks.values():
            for key in ("owner", "note"):
                yield ("sites", site.name, "networks", network.name, key), getattr(network, key)
    for gateway in settled.gateways.values():
        for name, uplink in gateway.uplinks.items():
            here = (*settled.location_of(gateway.name), "uplinks", name)
            yield (*here, "provider"), uplink.provider or ""
            yield (*here, "identity"), uplink.identity
    for name, circuit in settled.circuits.items():
        yield ("circuits", name, "provider"), circuit.provider or ""
        yield ("circuits", name, "owner"), circuit.owner or ""
    for name, cloud in settled.clouds.items():
        yield ("clouds", name, "owner"), cloud.owner or ""
    for name, entry in settled.surroundings.elsewhere.items():
        for key in ("owner", "place", "note"):
            yield ("elsewhere", name, key), getattr(entry, key) or ""
    yield ("name",), settled.name
    for part, names in (
        ("sites", settled.sites),
        ("clouds", settled.clouds),
        ("links", settled.links),
        ("circuits", settled.circuits),
    ):
        yield from (((part, name), name) for name in names)
