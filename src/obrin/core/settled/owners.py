"""What belongs to somebody else, and has to be accepted by them before it works."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date

from obrin.core.settled.links import SettledCircuit
from obrin.core.settled.model import Settled


@dataclass(frozen=True, slots=True, kw_only=True)
class Owned:
    """A cloud, hub or circuit of another owner. `accepted` is the day on which the owner did, None
    while that is open; `asks` is what has to be accepted."""

    kind: str
    name: str
    owner: str
    accepted: date | None
    asks: tuple[str, ...]


def owned(settled: Settled) -> Iterator[Owned]:
    """In the order of the design."""
    for name, cloud in settled.clouds.items():
        if cloud.owner is not None:
            asks = [f"link {b.name} of {b.site}" for b in settled.links.values() if b.cloud == name]
            asks += [
                f"circuit {b.name} of {b.site}"
                for b in settled.circuits.values()
                if b.cloud == name
            ]
            asks += [f"member {member}" for member in cloud.members]
            asks += [f"its place at hub {hub}" for hub in settled.hubs_of(name)]
            yield Owned(
                kind="hub" if cloud.is_hub else "cloud",
                name=name,
                owner=cloud.owner,
                accepted=cloud.accepted,
                asks=tuple(asks),
            )
    for name, circuit in settled.circuits.items():
        if circuit.owner is not None:
            yield Owned(
                kind="circuit",
                name=name,
                owner=circuit.owner,
                accepted=circuit.accepted,
                asks=(f"its use from {circuit.site} to {circuit.cloud}",),
            )


def owned_at(settled: Settled, place: str) -> list[Owned]:
    """What of another owner meets a site gateway or a cloud."""
    legs = settled.legs_at(place)
    clouds = {place, *(leg.cloud for leg in legs), *settled.hubs_of(place)}
    if place in settled.clouds:
        clouds |= {*settled.clouds[place].members}
    circuits = {leg.name for leg in legs if isinstance(leg, SettledCircuit)}
    return [o for o in owned(settled) if o.name in (circuits if o.kind == "circuit" else clouds)]
