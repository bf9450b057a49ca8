"""A flow there and back: the ways that both directions take, and what to mind about them."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.address.prefix import Address
from obrin.core.design.places import NetworkRef
from obrin.core.design.values import Flow
from obrin.core.reach.model import ReachModel
from obrin.core.reach.trace import Trace, answer_to, trace
from obrin.core.routing.packet import PacketKey
from obrin.core.settled.links import SettledCircuit, SettledTunnel
from obrin.core.settled.model import Settled
from obrin.core.settled.wrapping import wrapping_of

End = tuple[NetworkRef, Address | None]
"""A network, and an address in it or None for the one that stands for it in probes."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Paths:
    """`mtu` is of packets inside the tunnels and circuits on the way, in bytes; 0 for none."""

    there: Trace
    back: Trace | None
    tunnel_there: str
    tunnel_back: str
    mtu: int
    warnings: tuple[str, ...]

    @property
    def good(self) -> bool:
        return not self.there.dropped and self.back is not None and not self.back.dropped


def all_networks(settled: Settled) -> list[NetworkRef]:
    """Every network of a site and subnet of a cloud."""
    found = [NetworkRef(s.name, name) for s in settled.sites.values() for name in s.networks]
    return found + [NetworkRef(c.name, name) for c in settled.clouds.values() for name in c.subnets]


def key_of(settled: Settled, source: End, destination: End, flow: Flow) -> PacketKey:
    """The first packet of a flow, as the side that sends it knows the addresses."""
    here, there = source[0].place, destination[0].place
    own, _ = settled.host(source[0], there)
    _, seen = settled.host(destination[0], here)
    if destination[1] is not None:
        parts = settled.exposures(destination[0], here)
        part = next((p for p in parts if p.real.holds(destination[1])), None)
        seen = destination[1] if part is None else part.outward(destination[1])
    sender = own if source[1] is None else source[1]
    return PacketKey.first_of(flow, sender, seen)


def path_there_and_back(model: ReachModel, source: End, destination: End, flow: Flow) -> Paths:
    """Follow both directions of a flow through the model."""
    settled = model.settled
    key = key_of(settled, source, destination, flow)
    there = trace(model, source[0], key, meant=destination[0])
    back = answer_to(model, destination[0], there)
    out, home = there.ways, () if back is None else back.ways
    sizes = [size for way in (*out, *home) if (size := mtu_of(settled, way))]
    warnings = []
    if out and home and out != home[::-1]:
        warnings.append(
            f"there it takes {' + '.join(out)}, back {' + '.join(home)}; a device that keeps "
            "state on only one of them drops the answer"
        )
    return Paths(
        there=there,
        back=back,
        tunnel_there=there.tunnel,
        tunnel_back="" if back is None else back.tunnel,
        mtu=min(sizes, default=0),
        warnings=tuple(warnings),
    )


def mtu_of(settled: Settled, way: str) -> int:
    """The largest packet that a way carries whole; 0 inside sites and clouds, which set no limit
    here."""
    found = settled.way(way)
    if isinstance(found, SettledCircuit):
        return found.mtu
    return wrapping_of(settled, found).inner_mtu() if isinstance(found, SettledTunnel) else 0
