"""Interfaces and their addresses: ietf-interfaces (RFC 8343) and ietf-ip (RFC 8344); what each is
for: obrin-interfaces."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from obrin.core.address.prefix import Address, Prefix, parse_address
from obrin.core.ipsec.overhead import LEAST_IPV6_MTU
from obrin.core.json_text import Json

MODULE = "ietf-interfaces:interfaces"
UPLINK, NETWORK, TUNNEL, CIRCUIT = "uplink", "network", "tunnel", "circuit"
LOOPBACK = "loopback"
_TYPES = {TUNNEL: "iana-if-type:tunnel", LOOPBACK: "iana-if-type:softwareLoopback"}
_FAMILIES = {32: "ietf-ip:ipv4", 128: "ietf-ip:ipv6"}
_ROLE, _LEG = "obrin-interfaces:role", "obrin-interfaces:leg"
_ETHERNET = "iana-if-type:ethernetCsmacd"


@dataclass(frozen=True, slots=True, kw_only=True)
class Interface:
    """`role` is uplink, network, tunnel, circuit or loopback; `leg` names the tunnel or circuit
    that it belongs to; `addresses`, at least one, stand with their lengths, IPv4 first. `mtu` is in
    bytes, None where it is left as it is."""

    name: str
    role: str
    addresses: tuple[tuple[Address, int], ...]
    leg: str = ""
    mtu: int | None = None

    @property
    def address(self) -> Address:
        """The first."""
        return self.addresses[0][0]

    @property
    def networks(self) -> tuple[Prefix, ...]:
        """Prefixes that the interface stands in, one of each family."""
        return tuple(address.network(length) for address, length in self.addresses)


def encode(interfaces: Iterable[Interface]) -> Json:
    return {"interface": [_encode(interface) for interface in interfaces]}


def _encode(interface: Interface) -> Json:
    return {
        "name": interface.name,
        "description": f"{interface.role} {interface.leg}".strip(),
        "type": _TYPES.get(interface.role, _ETHERNET),
        "enabled": True,
        _ROLE: interface.role,
        **({_LEG: interface.leg} if interface.leg else {}),
        **{key: ip for bits, key in _FAMILIES.items() if (ip := _encode_ip(interface, bits))},
    }


def _encode_ip(interface: Interface, bits: int) -> Json:
    """Empty where it has no address of the family. An MTU too small for IPv6 cannot be written."""
    held = [
        {"ip": str(address), "prefix-length": length}
        for address, length in interface.addresses
        if address.bits == bits
    ]
    with_mtu = interface.mtu is not None and (bits == 32 or interface.mtu >= LEAST_IPV6_MTU)
    return {} if not held else {**({"mtu": interface.mtu} if with_mtu else {}), "address": held}


def decode(data: Json) -> tuple[Interface, ...]:
    return tuple(_decode(entry) for entry in data.get("interface", []))


def _decode(entry: Json) -> Interface:
    ips = [entry[key] for key in _FAMILIES.values() if key in entry]
    return Interface(
        name=entry["name"],
        role=entry[_ROLE],
        addresses=tuple(
            (parse_address(held["ip"]), held["prefix-length"])
            for ip in ips
            for held in ip["address"]
        ),
        leg=entry.get(_LEG, ""),
        mtu=next((ip["mtu"] for ip in ips if "mtu" in ip), None),
    )
