"""Other addresses for a packet on its way: headers and checksums of a one-to-one translation.

The transport checksum covers the addresses, so it is brought up to date from the difference alone
(RFC 1624); ICMP's does not. Packets quoted inside ICMP errors are left as they are.
"""

from __future__ import annotations

from obrin.wire.packet import TCP, UDP, Ipv4

_CHECKSUM_AT = {TCP: 16, UDP: 6}


def updated_checksum(checksum: int, old: int, new: int) -> int:
    """A checksum after 32 bits under it changed (RFC 1624 section 3, equation 3)."""
    total = checksum ^ 0xFFFF
    for shift in (16, 0):
        total += (old >> shift & 0xFFFF) ^ 0xFFFF
        total += new >> shift & 0xFFFF
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return total ^ 0xFFFF


def readdress(packet: Ipv4, source: int, destination: int) -> Ipv4:
    """The same packet between other addresses."""
    at = _CHECKSUM_AT.get(packet.protocol)
    payload = packet.payload
    if at is not None and len(payload) >= at + 2:
        old = int.from_bytes(payload[at : at + 2], "big")
        if old or packet.protocol == TCP:  # a UDP checksum of zero says that there is none
            new = updated_checksum(old, packet.source, source)
            new = updated_checksum(new, packet.destination, destination)
            if new == 0 and packet.protocol == UDP:
                new = 0xFFFF
            payload = payload[:at] + new.to_bytes(2, "big") + payload[at + 2 :]
    return packet._replace(source=source, destination=destination, payload=payload)
