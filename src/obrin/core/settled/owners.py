"""What belongs to somebody else, and has to be accepted by them before it works."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import date

from obrin.core.settled.clouds import SettledCloud
from obrin.core.settled.links import Bundle, Leg, SettledCircuit
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
    """Everything that another owner has to accept, in the order of the design."""
    for cloud in settled.clouds.values():
        yield from _cloud(settled, cloud, settled.legs_at(cloud.name))
    for circuit in settled.circuits.values():
        yield from _circuit(circuit)


def owned_at(settled: Settled, place: str) -> list[Owned]:
    """What of another owner meets a site gateway or a cloud; at a gateway its own legs alone are
    named, not those of a thousand other sites at the same hub."""
    legs = settled.legs_at(place)
    members = settled.clouds[place].members if place in settled.clouds else ()
    met = {place, *(leg.cloud for leg in legs), *settled.hubs_of(place), *members}
    found: list[Owned] = []
    for name in (name for name in settled.clouds if name in met):
        own = place in settled.gateways
        asked = [leg for leg in legs if leg.cloud == name] if own else settled.legs_at(name)
        found += _cloud(settled, settled.clouds[name], asked)
    for leg in legs:
        found += _circuit(leg) if isinstance(leg, SettledCircuit) else ()
    return found


def _cloud(settled: Settled, cloud: SettledCloud, legs: Iterable[Leg]) -> Iterator[Owned]:
    if cloud.owner is not None:
        named = {b.name: b for b in map(settled.bundle, legs)}.values()
        bundles = sorted(named, key=lambda b: b.kind, reverse=True)  # links, then circuits
        asks = [ask_for(b) for b in bundles]
        asks += [f"member {member}" for member in cloud.members]
        asks += [f"its place at hub {hub}" for hub in settled.hubs_of(cloud.name)]
        yield Owned(
            kind="hub" if cloud.is_hub else "cloud",
            name=cloud.name,
            owner=cloud.owner,
            accepted=cloud.accepted,
            asks=tuple(asks),
        )


def ask_for(bundle: Bundle) -> str:
    """What the owner of a cloud or hub is asked for it."""
    return f"{bundle.kind} {bundle.name} of {bundle.site}"


def _circuit(circuit: SettledCircuit) -> Iterator[Owned]:
    if circuit.owner is not None:
        yield Owned(
            kind="circuit",
            name=circuit.name,
            owner=circuit.owner,
            accepted=circuit.accepted,
            asks=(f"its use from {circuit.site} to {circuit.cloud}",),
        )
