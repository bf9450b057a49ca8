"""Predict when the loss of what a flow depends on is noticed, so that it goes another way.

A failure that takes several ways is noticed bit by bit: what was on a circuit may go on by a tunnel
that is just as dead, until that is noticed as well. All of it counts from the failure on.
"""

from __future__ import annotations

from collections.abc import Collection

from obrin.core.design.arrangement import SPARE
from obrin.core.drill.detection import SPARE_START, Detector, detectors
from obrin.core.drill.elements import Element
from obrin.core.settled.model import Settled
from obrin.core.settled.sessions import INTERNAL_HOLD
from obrin.core.settled.sites import NOTHING
from obrin.core.settled.ways import Attachment

ATTACHMENT = Detector("the cloud itself", 0.0, 1.0)
"""A cloud's own tables leave an attachment that failed: the cloud knows at once."""


INTERNAL = Detector(
    f"internal BGP hold time {INTERNAL_HOLD} s", INTERNAL_HOLD * 2 / 3, INTERNAL_HOLD
)


class Noticing:
    """Tells how soon the loss of each path of a design is noticed."""

    def __init__(self, settled: Settled) -> None:
        self._settled = settled
        self._known: dict[str, Detector | None] = {}
        self._lost: frozenset[str] | None = None
        self._then: dict[float, frozenset[str]] = {}

    def of(self, label: str) -> Detector | None:
        """What notices that a way is dead; None where nothing does."""
        if label not in self._known:
            self._known[label] = self._find(label)
        return self._known[label]

    def _find(self, label: str) -> Detector | None:
        leg = self._settled.index.by_label.get(label)
        if leg is None:
            attached = isinstance(self._settled.way(label), Attachment)
            return ATTACHMENT if attached else INTERNAL
        found = detectors(self._settled, self._settled.bundle(leg), leg)
        if not found:
            return None
        return Detector(found[0].name, min(d.shortest for d in found), found[0].longest)

    def last(self, label: str) -> Detector | None:
        """The last thing that notices it: until then some routes may still lead there."""
        leg = self._settled.index.by_label.get(label)
        if leg is None:
            return self.of(label)
        return next(reversed(detectors(self._settled, self._settled.bundle(leg), leg)), None)

    def by_then(self, lost: frozenset[str], seconds: float) -> frozenset[str]:
        """Tunnels and circuits of `lost` whose loss is detected within `seconds` at the latest."""
        if self._lost is not lost:
            self._lost, self._then = lost, {}
        if seconds not in self._then:
            found = {label: self.of(label) for label in lost}
            self._then[seconds] = frozenset(
                n for n, d in found.items() if d is not None and d.longest <= seconds
            )
        return self._then[seconds]

    def first_hop(self, failed: Collection[Element], begins: Collection[str]) -> Detector | None:
        """What has hosts leave a gateway that failed, if they used it: `begins` are the gateways
        that a flow leaves its sites by."""
        for element in failed:
            if element.kind == "gateway" and element.name in begins:
                site = self._settled.sites[self._settled.gateways[element.name].site]
                if len(site.gateways) > 1 and site.hosts_follow != NOTHING:
                    return Detector("the shared first hop", site.first_hop * 2 / 3, site.first_hop)
        return None

    def spare(self, ways: Collection[str]) -> float:
        """Seconds until one of them is up that waits for others to fail."""
        legs = (self._settled.index.by_label.get(way) for way in ways)
        rests = any(leg is not None and leg.role == SPARE for leg in legs)
        return SPARE_START if rests else 0.0


def both(one: Detector | None, other: Detector) -> Detector:
    """Say when both have been noticed, by the later one's name."""
    if one is None:
        return other
    last = max(one, other, key=lambda d: d.longest)
    return Detector(last.name, max(one.shortest, other.shortest), last.longest)
