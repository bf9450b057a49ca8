"""The configuration of one device or cloud, taken apart: what belongs to a tunnel or circuit, its
filter rules, and the ground below both. And put together again, each part of the old or the new.

The parts of one leg are what its owner enters at once. Of filter rules and the ground there is a
state between in which both the old and the new stand, so that nothing is missing meanwhile.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace

from obrin.core.address.prefix import Address, Prefix
from obrin.core.address.translation import Exposure
from obrin.core.handover.configured import device_config
from obrin.core.handover.standard.bgp import Neighbour, Speaker
from obrin.core.handover.standard.circuits import Circuit
from obrin.core.handover.standard.device import DeviceConfig
from obrin.core.handover.standard.filters import Filter
from obrin.core.handover.standard.hosts import HostFirewall
from obrin.core.handover.standard.interfaces import CIRCUIT, Interface
from obrin.core.handover.standard.ipsec import Tunnel
from obrin.core.handover.standard.routes import Hop, StaticRoute
from obrin.core.handover.standard.translation import Translation
from obrin.core.reach.filters import Rule, named_apart
from obrin.core.settled.links import circuit_label
from obrin.core.settled.model import Settled


@dataclass(frozen=True, kw_only=True)
class LegRecord:
    """One end of a tunnel or circuit. `routes` are static ones: where to, by which next hop, in
    which order."""

    interface: Interface
    tunnel: Tunnel | None = None
    circuit: Circuit | None = None
    neighbours: tuple[Neighbour, ...] = ()
    routes: tuple[tuple[Prefix, Address, int], ...] = ()
    translations: tuple[tuple[Exposure, ...], ...] = ()
    filtered: bool = True


@dataclass(frozen=True, kw_only=True)
class Ground:
    """What stands there whatever tunnels there are; each by its name."""

    interfaces: Mapping[str, Interface] = field(default_factory=dict)
    inner: Mapping[Prefix, StaticRoute] = field(default_factory=dict)
    host_firewalls: Mapping[str, HostFirewall] = field(default_factory=dict)
    internal: Mapping[str, Neighbour] = field(default_factory=dict)
    speaker: tuple[int, Address] | None = None

    def with_old(self, old: Ground) -> Ground:
        """The new with what is only in the old; an interface keeps its address of a family that it
        has no more in the new."""
        interfaces = {
            name: _with_families(interface, old.interfaces.get(name))
            for name, interface in self.interfaces.items()
        }
        return Ground(
            interfaces={**old.interfaces, **interfaces},
            inner={**old.inner, **self.inner},
            host_firewalls={**old.host_firewalls, **self.host_firewalls},
            internal={**old.internal, **self.internal},
            speaker=self.speaker or old.speaker,
        )


def _with_families(new: Interface, old: Interface | None) -> Interface:
    held = {address.bits for address, _ in new.addresses}
    left = () if old is None else tuple(a for a in old.addresses if a[0].bits not in held)
    both = sorted((*new.addresses, *left), key=lambda entry: entry[0].bits)
    return replace(new, addresses=tuple(both)) if left else new


@dataclass(frozen=True, kw_only=True)
class PlaceParts:
    """The whole configuration of one place, in parts."""

    ground: Ground = field(default_factory=Ground)
    rules: tuple[Rule, ...] = ()
    legs: Mapping[str, LegRecord] = field(default_factory=dict)

    def speaking_as(self, other: PlaceParts) -> PlaceParts:
        """The same with the AS number of another, where this has none."""
        if self.ground.speaker is not None or other.ground.speaker is None:
            return self
        return replace(self, ground=replace(self.ground, speaker=other.ground.speaker))


NOTHING = PlaceParts()


def parts_of(settled: Settled, place: str) -> PlaceParts:
    """Nothing for a place that the design does not have."""
    if place not in settled.gateways and place not in settled.clouds:
        return NOTHING
    return taken_apart(device_config(settled, place))


def taken_apart(config: DeviceConfig) -> PlaceParts:
    neighbours = () if config.speaker is None else config.speaker.neighbours
    over: dict[str, list[Neighbour]] = {}
    for neighbour in neighbours:
        if not neighbour.internal:
            over.setdefault(_first_way(neighbour), []).append(neighbour)
    tunnels = {tunnel.name: tunnel for tunnel in config.tunnels}
    circuits = {circuit_label(circuit.name): circuit for circuit in config.circuits}
    routes: dict[str, list[tuple[Prefix, Address, int]]] = {}
    for route in config.routes:
        for hop in () if route.network else route.hops:
            routes.setdefault(hop.interface, []).append((route.prefix, hop.address, hop.order))
    translated: dict[str, list[tuple[Exposure, ...]]] = {}
    for translation in config.translations:
        translated.setdefault(translation.interface, []).append(translation.parts)
    filtered, speaker = set(config.filter.interfaces), config.speaker
    return PlaceParts(
        ground=Ground(
            interfaces={i.name: i for i in config.interfaces if not i.leg},
            inner={r.prefix: r for r in config.routes if r.network},
            host_firewalls={firewall.network: firewall for firewall in config.host_firewalls},
            internal={n.name: n for n in neighbours if n.internal},
            speaker=None if speaker is None else (speaker.asn, speaker.identifier),
        ),
        rules=config.filter.rules,
        legs={
            label: LegRecord(
                interface=interface,
                tunnel=tunnels.get(label),
                circuit=circuits.get(label),
                neighbours=tuple(over.get(label, ())),
                routes=tuple(routes.get(interface.name, ())),
                translations=tuple(translated.get(interface.name, ())),
                filtered=interface.name in filtered,
            )
            for label, interface in ((leg_name(i), i) for i in config.interfaces if i.leg)
        },
    )


def leg_name(interface: Interface) -> str:
    """The label of the tunnel or circuit that an interface is of."""
    return circuit_label(interface.leg) if interface.role == CIRCUIT else interface.leg


def _first_way(neighbour: Neighbour) -> str:
    """A session over several tunnels belongs to the first."""
    return (neighbour.ways or (neighbour.name.removesuffix(":ipv6"),))[0]


def put_together(place_parts: PlaceParts) -> DeviceConfig:
    """The inverse of `taken_apart`, for parts of different designs too."""
    neighbours = [n for record in place_parts.legs.values() for n in record.neighbours]
    neighbours += place_parts.ground.internal.values()
    speaker = place_parts.ground.speaker
    translations = (
        (record.interface.name, parts)
        for record in place_parts.legs.values()
        for parts in record.translations
    )
    return DeviceConfig(
        interfaces=(
            *place_parts.ground.interfaces.values(),
            *(record.interface for record in place_parts.legs.values()),
        ),
        filter=Filter(
            rules=place_parts.rules,
            interfaces=tuple(r.interface.name for r in place_parts.legs.values() if r.filtered),
        ),
        tunnels=tuple(
            _known_only(r.tunnel, place_parts) for r in place_parts.legs.values() if r.tunnel
        ),
        circuits=tuple(r.circuit for r in place_parts.legs.values() if r.circuit),
        speaker=Speaker(asn=speaker[0], identifier=speaker[1], neighbours=tuple(neighbours))
        if speaker is not None and neighbours
        else None,
        routes=(*place_parts.ground.inner.values(), *_static(place_parts.legs.values())),
        translations=tuple(
            Translation(number=number, interface=name, parts=parts)
            for number, (name, parts) in enumerate(translations, 1)
        ),
        host_firewalls=tuple(place_parts.ground.host_firewalls.values()),
    )


def _known_only(tunnel: Tunnel, place_parts: PlaceParts) -> Tunnel:
    """A spare cannot wait for what is not there."""
    waits = tuple(name for name in tunnel.stands_in_for if name in place_parts.legs)
    return replace(tunnel, stands_in_for=waits)


def _static(records: Iterable[LegRecord]) -> Iterator[StaticRoute]:
    """One for each destination, with its ways in their order; numbers that come twice move up."""
    hops: dict[Prefix, list[tuple[int, str, Address]]] = {}
    for record in records:
        for prefix, address, order in record.routes:
            hops.setdefault(prefix, []).append((order, record.interface.name, address))
    for prefix, found in hops.items():
        ordered, last = [], 0
        for order, name, address in sorted(found, key=lambda hop: hop[0]):
            last = max(order, last + 1)
            ordered.append(Hop(interface=name, address=address, order=last))
        yield StaticRoute(prefix=prefix, hops=tuple(ordered))


def both_rules(old: Iterable[Rule], new: Iterable[Rule]) -> tuple[Rule, ...]:
    """Rules of either design, each once and under a name of its own."""
    found: dict[Rule, Rule] = {}
    for rule in (*new, *old):
        found.setdefault(replace(rule, name=""), rule)
    return named_apart(found.values())


def kept_names(old: Iterable[Rule], new: Iterable[Rule]) -> tuple[Rule, ...]:
    """Rules of either design as people enter them: the old keep their names."""
    old = tuple(old)
    known = {replace(rule, name="") for rule in old}
    return named_apart([*old, *(rule for rule in new if replace(rule, name="") not in known)])


def alike(one: Iterable[Rule], other: Iterable[Rule]) -> bool:
    """Whether two lists let the same through; names and order do not matter."""
    return {replace(r, name="") for r in one} == {replace(r, name="") for r in other}
