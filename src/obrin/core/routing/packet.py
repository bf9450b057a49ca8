"""What of a packet decides its way: addresses, protocol, ports."""

from __future__ import annotations

from typing import NamedTuple

from obrin.core.address.prefix import Address
from obrin.core.design.values import PROTOCOLS, Flow

ICMP, TCP, UDP = PROTOCOLS["icmp"], PROTOCOLS["tcp"], PROTOCOLS["udp"]
ICMPV6 = 58
ECHO_REQUEST, ECHO_REPLY = 8, 0
ECHO_REQUEST6, ECHO_REPLY6 = 128, 129
EPHEMERAL = 40000


class Echo(NamedTuple):
    """What an echo is in a family: the protocol, and the types of request and reply."""

    protocol: int
    request: int
    reply: int


ECHO = {32: Echo(ICMP, ECHO_REQUEST, ECHO_REPLY), 128: Echo(ICMPV6, ECHO_REQUEST6, ECHO_REPLY6)}
"""RFC 792 and RFC 4443, by the bits of an address."""


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
            echo = ECHO[source.bits]
            return cls(source, destination, echo.protocol, icmp_type=echo.request)
        return cls(source, destination, flow.protocol, EPHEMERAL, flow.first_port)

    def reply(self) -> PacketKey:
        """The key of the answer to this packet."""
        echo = ECHO[self.source.bits]
        kind = echo.reply if self.icmp_type == echo.request else self.icmp_type
        return PacketKey(
            self.destination,
            self.source,
            self.protocol,
            self.destination_port,
            self.source_port,
            kind,
        )

    def __str__(self) -> str:
        name = protocol_name(self.protocol)
        port = f"/{self.destination_port}" if self.protocol in (TCP, UDP) else ""
        return f"{name}{port} {self.source} > {self.destination}"


def protocol_name(protocol: int) -> str:
    """Name of a protocol; ICMP of both families has one name."""
    number = ICMP if protocol == ICMPV6 else protocol
    return next((name for name, known in PROTOCOLS.items() if known == number), str(number))
