"""Gateways that stand in for each other: what passes at one of them has to pass at all."""

from __future__ import annotations

import re
from collections.abc import Iterator

from obrin.core.check.finding import Finding, Severity
from obrin.core.reach.model import ReachModel
from obrin.core.reach.trace import Trace, stopped, there_and_back
from obrin.core.settled.model import Settled
from obrin.core.settled.sites import SettledSite


def filters_alike(settled: Settled, model: ReachModel) -> Iterator[Finding]:
    """Check this only where a gateway brings its own rules: those made from expectations are all
    alike."""
    for site in settled.sites.values():
        gateways = [settled.gateways[name] for name in site.gateways]
        if len(gateways) > 1 and any(g.filters is not None for g in gateways):
            yield from _of_site(settled, model, site)


def _of_site(settled: Settled, model: ReachModel, site: SettledSite) -> Iterator[Finding]:
    wishes = [
        (wish, there_and_back(model, wish))
        for wish in settled.expectations_at(site.name)
        if wish.must == "work"
    ]
    for alone in site.gateways:
        others = [g for g in site.gateways if g != alone]
        left = model.without([leg.label for g in others for leg in settled.legs_at(g)])
        for wish, usual in wishes:
            reason = "" if stopped(*usual) else stopped(*there_and_back(left, wish))
            if not reason.startswith(f"filter at {alone}:"):
                continue
            passes = next((found for g in others if (found := _rule(usual, g))), "the others")
            yield Finding(
                Severity.WARNING,
                "filter-lacks",
                ("sites", site.name, "gateways", alone, "filters"),
                f"{wish.words} passes at {passes}, and no rule of {alone} lets it through",
                f"it stops as soon as it has to go by {alone}, when something before it fails",
                f"give {alone} the same rule, or leave 'filters' out at both",
            )


def _rule(found: tuple[Trace, Trace | None], gateway: str) -> str:
    """The gateway with its rule that let the flow through, if it went that way."""
    for direction in found:
        for hop in direction.hops if direction is not None else ():
            match = re.fullmatch(rf"{re.escape(gateway)}: filter rule (.+?)(-replies)?", hop)
            if match:
                return f"{gateway} by {match[1]}"
    return ""
