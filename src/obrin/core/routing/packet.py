"""What of a packet decides its way: addresses, protocol, ports."""

from __future__ import annotations

from typing import NamedTuple

from obrin.core.address.prefix import Address
from obrin.core.design.values import PROTOCOLS, Flow

ICMP, TCP, UDP = PROTOCOLS["icmp"], PROTOCOLS["tcp"], PROTOCOLS["udp"]
ECHO_REQUEST, ECHO_REPLY = 8, 0
EPHEMERAL = 40000


class PacketKey(NamedTuple):
    """What a filter looks at. Both addresses are of one family; `icmp_type` is -1 unless it is
    ICMP."""

    source: Address
    destination: Address
    protocol: int
    source_port: int = 0
    destination_port: int = 0
    icmp_type: int = -1

    @classmethod
    def first_of(cls, flow: Flow, source: Address, destination: Address) -> PacketKey:
        """The packet that begins a flow; an echo request where the flow is of any protocol."""
        if flow.protocol in (None, ICMP):
            return cls(source, destination, ICMP, icmp_type=ECHO_REQUEST)
        return cls(source, destination, flow.protocol, EPHEMERAL, flow.first_port)

    def reply(self) -> PacketKey:
        """The key of the answer to this packet."""
        kind = ECHO_REPLY if self.icmp_type == ECHO_REQUEST else self.icmp_type
        return PacketKey(
            self.destination,
            self.source,
            self.protocol,
            self.destination_port,
            self.source_port,
            kind,
        )

    def __str__(self) -> str:
        name = next((n for n, p in PROTOCOLS.items() if p == self.protocol), str(self.protocol))
        port = f"/{self.destination_port}" if self.protocol in (TCP, UDP) else ""
        return f"{name}{port} {self.source} > {self.destination}"
