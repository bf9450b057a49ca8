"""The whole configuration of one device, but for its secrets; the modules put together."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace

from obrin.core.handover.standard import (
    bgp,
    circuits,
    filters,
    hosts,
    interfaces,
    ipsec,
    routes,
    translation,
)
from obrin.core.json_text import Json


@dataclass(frozen=True, slots=True, kw_only=True)
class DeviceConfig:
    """What its modules say; `speaker` None is a device without BGP."""

    interfaces: tuple[interfaces.Interface, ...] = ()
    filter: filters.Filter = field(default_factory=filters.Filter)
    tunnels: tuple[ipsec.Tunnel, ...] = ()
    circuits: tuple[circuits.Circuit, ...] = ()
    speaker: bgp.Speaker | None = None
    routes: tuple[routes.StaticRoute, ...] = ()
    translations: tuple[translation.Translation, ...] = ()
    host_firewalls: tuple[hosts.HostFirewall, ...] = ()


def encode(config: DeviceConfig) -> Json:
    """Instance data of all modules; those of which there is nothing to say are left out."""
    data: Json = {
        interfaces.MODULE: interfaces.encode(config.interfaces),
        filters.MODULE: filters.encode(config.filter),
        ipsec.MODULE: ipsec.encode(config.tunnels),
    }
    if config.circuits:
        data[circuits.MODULE] = circuits.encode(config.circuits)
    if config.speaker is not None:
        data[bgp.MODULE] = bgp.encode(config.speaker)
    if config.routes:
        data[routes.MODULE] = routes.encode(config.routes)
    if config.translations:
        data[translation.MODULE] = translation.encode(config.translations)
    if config.host_firewalls:
        data[hosts.MODULE] = hosts.encode(config.host_firewalls)
    return data


def decode(data: Json) -> DeviceConfig:
    """The inverse of `encode`, for data that fits its modules.

    Raises ObrinError, LookupError or TypeError for what fits and cannot be, as an algorithm that
    there is not.
    """
    speaker = data.get(bgp.MODULE)
    return DeviceConfig(
        interfaces=interfaces.decode(data.get(interfaces.MODULE, {})),
        filter=filters.decode(data.get(filters.MODULE, {})),
        tunnels=ipsec.decode(data.get(ipsec.MODULE, {})),
        circuits=circuits.decode(data.get(circuits.MODULE, {})),
        speaker=None if speaker is None else bgp.decode(speaker),
        routes=routes.decode(data.get(routes.MODULE, {})),
        translations=translation.decode(data.get(translation.MODULE, {})),
        host_firewalls=hosts.decode(data.get(hosts.MODULE, {})),
    )


_FEW = 8


def parts(config: DeviceConfig, size: int) -> Iterator[DeviceConfig]:
    """The same in parts of at most `size` tunnels and filter rules, each whole in itself.

    Sharing no names, they are valid exactly if the whole is.
    """
    most = max(len(config.tunnels), len(config.filter.rules), 1)
    if most > size * _FEW:  # each is looked for in what it is taken from
        for large in parts(config, size * _FEW):
            yield from parts(large, size)
        return
    for start in range(0, most, size):
        yield _part(config, slice(start, start + size))


def _part(config: DeviceConfig, where: slice) -> DeviceConfig:
    tunnels = config.tunnels[where]
    labels = {tunnel.name for tunnel in tunnels}
    others = {tunnel.name for tunnel in config.tunnels} - labels
    names = {tunnel.interface for tunnel in tunnels}
    names |= {circuit.interface for circuit in config.circuits}
    speaker = config.speaker
    if speaker is not None:
        here = tuple(n for n in speaker.neighbours if n.name not in others)
        speaker = replace(speaker, neighbours=here)
    routes = (
        replace(route, hops=tuple(hop for hop in route.hops if hop.interface in names))
        if not route.network
        else route
        for route in config.routes
    )
    kept = tuple(name for name in config.filter.interfaces if name in names)
    return replace(
        config,
        interfaces=tuple(i for i in config.interfaces if i.leg == "" or i.name in names),
        filter=filters.Filter(rules=config.filter.rules[where], interfaces=kept),
        tunnels=tunnels,
        speaker=speaker,
        routes=tuple(route for route in routes if route.hops),
        translations=tuple(t for t in config.translations if t.interface in names),
    )
