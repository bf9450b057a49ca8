"""What a gateway sends on its uplinks: IKE and ESP in UDP, or ESP as it is."""

from __future__ import annotations

from obrin.core.address.prefix import parse_address
from obrin.wire.ike.path import Path
from obrin.wire.packet import ESP, UDP, Packet, Udp

End = tuple[str, int]


def in_udp(local: End, remote: End, data: bytes, tos: int = 0) -> bytes:
    """An outer packet between two addresses and ports."""
    ends = parse_address(local[0]), parse_address(remote[0])
    segment = Udp(local[1], remote[1], data).encode(*ends)
    return Packet(*ends, UDP, segment, tos=tos).encode()


def esp_packet(path: Path, data: bytes, tos: int) -> bytes:
    """ESP on a path: in UDP where a translator stands on it, or it is wanted (RFC 3948)."""
    if path.encapsulate:
        return in_udp(path.local, path.remote, data, tos)
    ends = parse_address(path.local[0]), parse_address(path.remote[0])
    return Packet(*ends, ESP, data, tos=tos).encode()
