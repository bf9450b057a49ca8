"""How each tunnel wraps packets: by its suite, the path, and a translator in front."""

from __future__ import annotations

from obrin.core.ipsec.overhead import EspShape, Wrapping
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled


def wrapping_of(settled: Settled, tunnel: SettledTunnel) -> Wrapping:
    """Encapsulation of a tunnel. It is the same at both ends, which share the suite and the
    path."""
    link = settled.links[tunnel.link]
    encapsulated = link.always_encapsulate or tunnel.uplink.translated
    outer = tunnel.uplink.address.bits
    return Wrapping(EspShape.of(link.suite.esp), outer, encapsulated, tunnel.uplink.mtu)
