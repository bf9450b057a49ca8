"""What the practice cloud calls the ways of a design."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.settled.links import Leg, SettledCircuit
from obrin.core.settled.model import Settled
from obrin.core.settled.ways import Attachment


def cloud_name(label: str) -> str:
    """`link/tunnel` or `name/circuit` as a resource's name."""
    return label.replace("/", ".")


def resource_of(way: Leg | Attachment) -> str:
    """Resource of a tunnel, circuit or attachment, as `kind/name`."""
    if isinstance(way, Attachment):
        return f"attachments/{way.hub}.{way.member}"
    return f"{way.kind}s/{cloud_name(way.label)}"


def agreed(settled: Settled) -> Iterator[str]:
    """What all other owners have accepted by the design, as `kind/name`."""
    clouds = settled.clouds

    def accepted(cloud: str) -> bool:
        return clouds[cloud].owner is None or clouds[cloud].accepted is not None

    for leg in settled.legs():
        asked = isinstance(leg, SettledCircuit) and leg.owner is not None and leg.accepted is None
        if accepted(leg.cloud) and not asked:
            yield resource_of(leg)
    for way in settled.attachments():
        if accepted(way.hub) and accepted(way.member):
            yield resource_of(way)
