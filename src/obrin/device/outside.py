"""What a gateway sends on its uplinks: IKE and ESP in UDP, or ESP as it is."""

from __future__ import annotations

from obrin.core.address.prefix import parse_ipv4
from obrin.wire.ike.path import Path
from obrin.wire.packet import ESP, UDP, Ipv4, Udp

End = tuple[str, int]


def in_udp(local: End, remote: End, data: bytes, tos: int = 0) -> bytes:
    """An outer packet between two addresses and ports."""
    source, destination = parse_ipv4(local[0]), parse_ipv4(remote[0])
    segment = Udp(local[1], remote[1], data).encode(source, destination)
    return Ipv4(source, destination, UDP, segment, tos=tos).encode()


def esp_packet(path: Path, data: bytes, tos: int) -> bytes:
    """ESP on a path: in UDP where a translator stands on it, or it is wanted (RFC 3948)."""
    if path.encapsulate:
        return in_udp(path.local, path.remote, data, tos)
    source, destination = parse_ipv4(path.local[0]), parse_ipv4(path.remote[0])
    return Ipv4(source, destination, ESP, data, tos=tos).encode()
