"""Interfaces and their addresses: ietf-interfaces (RFC 8343) and ietf-ip (RFC 8344)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from obrin.core.address.prefix import Address, Prefix, parse_address
from obrin.core.handover.standard.basic import Json, around

MODULE = "ietf-interfaces:interfaces"
UPLINK, NETWORK, TUNNEL, CIRCUIT = "uplink", "network", "tunnel", "circuit"
LOOPBACK = "loopback"
_TYPES = {TUNNEL: "iana-if-type:tunnel", LOOPBACK: "iana-if-type:softwareLoopback"}
_ETHERNET = "iana-if-type:ethernetCsmacd"


@dataclass(frozen=True, slots=True, kw_only=True)
class Interface:
    """`role` is uplink, network, tunnel, circuit or loopback; `leg` names the tunnel or circuit
    that it belongs to. `mtu` is in bytes, None where it is left as it is."""

    name: str
    role: str
    address: Address
    length: int
    leg: str = ""
    mtu: int | None = None

    @property
    def network(self) -> Prefix:
        return around(self.address, self.length)


def encode(interfaces: Iterable[Interface]) -> Json:
    return {"interface": [_encode(interface) for interface in interfaces]}


def _encode(interface: Interface) -> Json:
    ip: Json = {} if interface.mtu is None else {"mtu": interface.mtu}
    ip["address"] = [{"ip": str(interface.address), "prefix-length": interface.length}]
    return {
        "name": interface.name,
        "description": f"{interface.role} {interface.leg}".strip(),
        "type": _TYPES.get(interface.role, _ETHERNET),
        "enabled": True,
        "ietf-ip:ipv4": ip,
    }


def decode(data: Json) -> tuple[Interface, ...]:
    return tuple(_decode(entry) for entry in data.get("interface", []))


def _decode(entry: Json) -> Interface:
    ip = entry["ietf-ip:ipv4"]
    address = ip["address"][0]
    role, _, leg = entry.get("description", "").partition(" ")
    return Interface(
        name=entry["name"],
        role=role,
        address=parse_address(address["ip"]),
        length=address["prefix-length"],
        leg=leg,
        mtu=ip.get("mtu"),
    )
