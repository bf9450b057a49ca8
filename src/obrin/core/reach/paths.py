"""A flow there and back: the ways that both directions take, and what to mind about them."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.design.settled import Settled
from obrin.core.design.values import Flow
from obrin.core.handover.wrapping import wrapping_of
from obrin.core.reach.model import ReachModel
from obrin.core.reach.packet import PacketKey
from obrin.core.reach.trace import Trace, trace

End = tuple[str, int | None]
"""`place/network`, and an address in it or None for the one that stands for it in probes."""


@dataclass(frozen=True, slots=True)
class Paths:
    """`mtu` is of packets inside the tunnels on the way, in bytes; 0 where none is crossed."""

    there: Trace
    back: Trace | None
    tunnel_there: str
    tunnel_back: str
    mtu: int
    warnings: tuple[str, ...]

    @property
    def good(self) -> bool:
        return not self.there.dropped and self.back is not None and not self.back.dropped


def network_names(settled: Settled) -> list[str]:
    """Every network of a site and subnet of a cloud, as `place/name`."""
    found = [f"{site}/{name}" for site, nets in settled.networks.items() for name in nets]
    return found + [f"{c.name}/{name}" for c in settled.clouds.values() for name in c.subnets]


def key_of(settled: Settled, source: End, destination: End, flow: Flow) -> PacketKey:
    """The first packet of a flow, as the side that sends it knows the addresses."""
    here, there = source[0].partition("/")[0], destination[0].partition("/")[0]
    own, _ = settled.host(source[0], there)
    _, seen = settled.host(destination[0], here)
    if destination[1] is not None:
        parts = settled.exposures(destination[0], here)
        part = next((p for p in parts if p.real.contains(destination[1])), None)
        seen = destination[1] if part is None else part.outward(destination[1])
    sender = own if source[1] is None else source[1]
    return PacketKey.first_of(flow, sender, seen)


def path_there_and_back(model: ReachModel, source: End, destination: End, flow: Flow) -> Paths:
    """Both directions of a flow through the model."""
    settled = model.settled
    there = trace(model, source[0], key_of(settled, source, destination, flow))
    back = None
    if there.arrived is not None:
        back = trace(model, destination[0], there.arrived.reply())
    out, home = there.tunnel, "" if back is None else back.tunnel
    sizes = [wrapping_of(settled, settled.tunnel(t)).inner_mtu() for t in (out, home) if t]
    warnings = []
    if out and home and out != home:
        warnings.append(
            f"there it takes {out}, back {home}; a device that keeps state on only one of them "
            "drops the answer"
        )
    return Paths(there, back, out, home, min(sizes, default=0), tuple(warnings))
