"""Suites and tunnels: obrin-ipsec, by the terms of RFC 7296 and RFC 4301."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from obrin.core.address.prefix import Address, Prefix, parse_address, parse_prefix
from obrin.core.handover.standard.basic import decimal, decode_bfd, encode_bfd
from obrin.core.ipsec.liveness import Liveness
from obrin.core.ipsec.registry import ALGORITHMS, Kind
from obrin.core.ipsec.suite import Suite, make_suite
from obrin.core.json_text import Json
from obrin.core.settled.terms import Terms

MODULE = "obrin-ipsec:ipsec"
_ENCAPSULATION = {True: "always", False: "when-translated"}
_CHILD_SAS = {True: "each-pair", False: "one"}
_OVERSIZE = {True: "fragment", False: "refuse"}


@dataclass(frozen=True, kw_only=True)
class Tunnel(Terms):
    """One end of a tunnel, as its device is configured.

    `local_address` is the device's own. `renewal` is rekey or reauthenticate. `stands_in_for` are
    the tunnels that a spare waits for. `watched` are the addresses between which BFD runs, where
    they are beyond the tunnel (RFC 5883).
    """

    name: str
    interface: str
    uplink: str
    initiator: bool
    local_address: Address
    remote_address: Address
    local_identity: str
    remote_identity: str
    role: str
    renewal: str
    local_selectors: tuple[Prefix, ...]
    remote_selectors: tuple[Prefix, ...]
    stands_in_for: tuple[str, ...] = ()
    bfd_endpoints: tuple[Address, Address] | None = None


def encode(tunnels: Iterable[Tunnel]) -> Json:
    tunnels = tuple(tunnels)
    suites = {tunnel.suite.name: tunnel.suite for tunnel in tunnels}
    return {
        "suite": [encode_suite(suite) for suite in suites.values()],
        "tunnel": [_encode(tunnel) for tunnel in tunnels],
    }


def _encode(tunnel: Tunnel) -> Json:
    stands_in = {"stands-in-for": list(tunnel.stands_in_for)} if tunnel.stands_in_for else {}
    return {
        "name": tunnel.name,
        "interface": tunnel.interface,
        "uplink": tunnel.uplink,
        "initiator": tunnel.initiator,
        "local-address": str(tunnel.local_address),
        "remote-address": str(tunnel.remote_address),
        "local-identity": tunnel.local_identity,
        "remote-identity": tunnel.remote_identity,
        "authentication": tunnel.authentication,
        "role": tunnel.role,
        **_encode_bfd(tunnel),
        **stands_in,
        "selection": tunnel.selection,
        "suite": tunnel.suite.name,
        "ike-renewal": tunnel.renewal,
        "local-traffic-selector": [str(p) for p in tunnel.local_selectors],
        "remote-traffic-selector": [str(p) for p in tunnel.remote_selectors],
        "udp-encapsulation": _ENCAPSULATION[tunnel.always_encapsulate],
        "oversize": _OVERSIZE[tunnel.fragments],
        "child-sas": _CHILD_SAS[tunnel.each_pair],
        "liveness": {
            "delay": decimal(tunnel.liveness.delay),
            "first-wait": decimal(tunnel.liveness.wait),
            "tries": tunnel.liveness.tries,
        },
    }


def _encode_bfd(tunnel: Tunnel) -> Json:
    made = encode_bfd(tunnel.bfd)
    if made and tunnel.bfd_endpoints is not None:
        local, remote = map(str, tunnel.bfd_endpoints)
        made["bfd"]["multihop"] = {"local-address": local, "remote-address": remote}
    return made


def _decode_bfd_endpoints(entry: Json) -> tuple[Address, Address] | None:
    found = entry.get("bfd", {}).get("multihop")
    if found is None:
        return None
    return parse_address(found["local-address"]), parse_address(found["remote-address"])


def decode(data: Json) -> tuple[Tunnel, ...]:
    suites = {entry["name"]: decode_suite(entry) for entry in data.get("suite", [])}
    return tuple(_decode(entry, suites) for entry in data.get("tunnel", []))


def _decode(entry: Json, suites: dict[str, Suite]) -> Tunnel:
    live = entry["liveness"]
    return Tunnel(
        name=entry["name"],
        interface=entry["interface"],
        uplink=entry["uplink"],
        initiator=entry["initiator"],
        local_address=parse_address(entry["local-address"]),
        remote_address=parse_address(entry["remote-address"]),
        local_identity=entry["local-identity"],
        remote_identity=entry["remote-identity"],
        authentication=entry["authentication"],
        role=entry["role"],
        selection=entry["selection"],
        suite=suites[entry["suite"]],
        renewal=entry["ike-renewal"],
        local_selectors=tuple(map(parse_prefix, entry["local-traffic-selector"])),
        remote_selectors=tuple(map(parse_prefix, entry["remote-traffic-selector"])),
        always_encapsulate=entry["udp-encapsulation"] == _ENCAPSULATION[True],
        fragments=entry["oversize"] == _OVERSIZE[True],
        each_pair=entry["child-sas"] == _CHILD_SAS[True],
        liveness=Liveness(float(live["delay"]), float(live["first-wait"]), int(live["tries"])),
        bfd=decode_bfd(entry),
        bfd_endpoints=_decode_bfd_endpoints(entry),
        stands_in_for=tuple(entry.get("stands-in-for", ())),
    )


def encode_suite(suite: Suite) -> Json:
    ike: Json = {
        "encryption": suite.ike.encryption.name,
        "prf": suite.ike.prf.name,
        "dh-group": suite.ike.group.number,
        "lifetime": int(suite.ike.lifetime),
    }
    if suite.ike.integrity is not None:
        ike["integrity"] = suite.ike.integrity.name
    child: Json = {
        "encryption": suite.esp.encryption.name,
        "extended-sequence-numbers": suite.esp.esn,
        "lifetime": int(suite.esp.lifetime),
    }
    if suite.esp.integrity is not None:
        child["integrity"] = suite.esp.integrity.name
    if suite.esp.group is not None:
        child["pfs-dh-group"] = suite.esp.group.number
    version = {} if suite.ike_version == 2 else {"ike-version": suite.ike_version}
    return {"name": suite.name, **version, "ike-sa": ike, "child-sa": child}


def decode_suite(entry: Json) -> Suite:
    """Raises ObrinError for algorithms that there are not."""
    ike, child = entry["ike-sa"], entry["child-sa"]
    pfs = child.get("pfs-dh-group")
    return make_suite(
        entry["name"],
        encryption=ike["encryption"],
        integrity=ike.get("integrity"),
        prf=ike["prf"],
        group=_group_name(ike["dh-group"]),
        ike_lifetime=float(ike["lifetime"]),
        esp_encryption=child["encryption"],
        esp_integrity=child.get("integrity"),
        pfs=None if pfs is None else _group_name(pfs),
        esn=child["extended-sequence-numbers"],
        esp_lifetime=float(child["lifetime"]),
        ike_version=entry.get("ike-version", 2),
    )


def _group_name(number: int) -> str:
    return next(a.name for a in ALGORITHMS if a.kind is Kind.GROUP and a.number == number)
