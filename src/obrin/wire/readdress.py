"""Other addresses for a packet on its way: headers and checksums of a one-to-one translation.

The transport checksum covers the addresses, so it is brought up to date from the difference alone
(RFC 1624); that of IPv4's ICMP does not. Packets quoted inside ICMP errors are left as they are.
"""

from __future__ import annotations

from obrin.core.address.prefix import Address
from obrin.wire.packet import ICMPV6, TCP, UDP, Packet

_CHECKSUM_AT = {TCP: 16, UDP: 6, ICMPV6: 2}


def updated_checksum(checksum: int, old: Address, new: Address) -> int:
    """A checksum after an address under it changed (RFC 1624 section 3, equation 3)."""
    total = checksum ^ 0xFFFF
    for shift in range(0, old.bits, 16):
        total += (old.value >> shift & 0xFFFF) ^ 0xFFFF
        total += new.value >> shift & 0xFFFF
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return total ^ 0xFFFF


def readdress(packet: Packet, source: Address, destination: Address) -> Packet:
    """The same packet between other addresses of its family."""
    at = _CHECKSUM_AT.get(packet.protocol)
    payload = packet.payload
    if at is not None and len(payload) >= at + 2:
        old = int.from_bytes(payload[at : at + 2], "big")
        if old or packet.protocol != UDP:  # a UDP checksum of zero says that there is none
            new = updated_checksum(old, packet.source, source)
            new = updated_checksum(new, packet.destination, destination)
            if new == 0 and packet.protocol == UDP:
                new = 0xFFFF
            payload = payload[:at] + new.to_bytes(2, "big") + payload[at + 2 :]
    return packet._replace(source=source, destination=destination, payload=payload)
