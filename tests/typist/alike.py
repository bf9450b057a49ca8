"""Two configurations held against each other, in the order of names."""

from __future__ import annotations

from dataclasses import fields, is_dataclass, replace
from typing import Any

from obrin.core.handover.standard.device import DeviceConfig
from obrin.core.handover.standard.routes import Hop

POLICY = "policy"


def normal(config: DeviceConfig) -> DeviceConfig:
    """Without what only the order of writing decides, and without what nobody enters: the interface
    of a tunnel by policy, and names of rules at hosts."""
    by_policy = {tunnel.interface for tunnel in config.tunnels if tunnel.selection == POLICY}
    shared = {tunnel.interface for tunnel in config.tunnels if tunnel.role == "shared"}
    interfaces = (
        replace(i, addresses=(), mtu=0) if i.name in by_policy else i for i in config.interfaces
    )
    routes = []
    for route in config.routes:
        hops = tuple(hop for hop in route.hops if hop.interface not in by_policy)
        if hops:
            # Which of those that share the flows comes first does not matter, and only the order does.
            ordered = sorted(hops, key=lambda hop: (_rank(hop, hops, shared), hop.interface))
            numbered = (replace(hop, order=number) for number, hop in enumerate(ordered, 1))
            routes.append(replace(route, hops=tuple(numbered)))
    speaker = config.speaker
    if speaker is not None:
        ordered = tuple(sorted(speaker.neighbours, key=lambda n: n.name))
        speaker = replace(speaker, neighbours=ordered)
    return DeviceConfig(
        interfaces=tuple(sorted(interfaces, key=lambda i: i.name)),
        filter=replace(
            config.filter,
            rules=tuple(sorted(config.filter.rules, key=lambda r: r.name)),
            interfaces=tuple(sorted(config.filter.interfaces)),
        ),
        tunnels=tuple(sorted(config.tunnels, key=lambda t: t.name)),
        circuits=tuple(sorted(config.circuits, key=lambda c: c.name)),
        speaker=speaker,
        routes=tuple(sorted(routes, key=lambda r: (r.prefix, r.network))),
        translations=tuple(
            replace(t, number=number)
            for number, t in enumerate(
                sorted(config.translations, key=lambda t: (t.interface, t.parts[0].real)), 1
            )
        ),
        host_firewalls=tuple(
            replace(f, rules=tuple(replace(rule, name="") for rule in f.rules))
            for f in sorted(config.host_firewalls, key=lambda f: f.network)
        ),
    )


def _rank(hop: Hop, hops: tuple[Hop, ...], shared: set[str]) -> int:
    alike = [other for other in hops if {hop.interface, other.interface} <= shared] or [hop]
    return min(hops.index(other) for other in alike)


def differences(typed: Any, meant: Any, path: str = "") -> list[str]:
    """Where two values differ, down to single leaves."""
    if typed == meant:
        return []
    if is_dataclass(typed) and type(typed) is type(meant):
        pairs = ((f.name, getattr(typed, f.name), getattr(meant, f.name)) for f in fields(typed))
        return [
            text for name, one, two in pairs for text in differences(one, two, f"{path}.{name}")
        ]
    if isinstance(typed, tuple) and isinstance(meant, tuple) and len(typed) == len(meant):
        pairs = enumerate(zip(typed, meant, strict=True))
        return [t for n, (one, two) in pairs for t in differences(one, two, f"{path}[{n}]")]
    return [f"{path}: typed {typed}, meant {meant}"]
