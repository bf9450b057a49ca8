"""The mirror proof: what one end of a tunnel calls local, the other calls remote.

It reads the standard data that was written for both ends, as their devices will, and compares
that; so it also sees what went wrong while writing.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from obrin.core.address.prefix import Address, Prefix
from obrin.core.handover.configured import device_config
from obrin.core.handover.sheet.blocks import Block, Heading, Paragraph, Table
from obrin.core.handover.standard.basic import as_json
from obrin.core.handover.standard.bgp import Neighbour
from obrin.core.handover.standard.device import DeviceConfig, decode, encode
from obrin.core.handover.standard.interfaces import Interface
from obrin.core.handover.standard.ipsec import Tunnel
from obrin.core.handover.standard.routes import Hop
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled
from obrin.core.settled.terms import NAMES, Terms, terms_of


@dataclass(frozen=True, kw_only=True)
class Written(Terms):
    """What a device's standard data says of one end of a tunnel; None where it says nothing.

    `local_address` is the one that the other end sees, where a translator stands in front.
    """

    tunnel: str
    initiator: bool
    local_address: Address
    remote_address: Address
    local_identity: str
    remote_identity: str
    local_selectors: tuple[Prefix, ...]
    remote_selectors: tuple[Prefix, ...]
    local_ends: tuple[Address, ...]
    remote_ends: tuple[Address, ...] | None
    local_as: int | None
    remote_as: int | None
    local_prefixes: tuple[Prefix, ...] | None
    remote_prefixes: tuple[Prefix, ...] | None
    inside: tuple[Prefix, ...]
    routing: str
    hold: int | None
    role: str
    local_pref: int | None
    mtu: int | None
    signature: str


MIRRORED = (
    ("local_address", "remote_address"),
    ("local_identity", "remote_identity"),
    ("local_selectors", "remote_selectors"),
    ("local_ends", "remote_ends"),
    ("local_as", "remote_as"),
    ("local_prefixes", "remote_prefixes"),
)
_OWN = ("liveness", "always_encapsulate")
"""Terms that each end may have its own value for: it asks, and encapsulates, by itself."""
EQUAL = (
    "tunnel",
    *(name for name in NAMES if name not in (*_OWN, "bfd")),
    "inside",
    "routing",
    "hold",
    "bfd",
    "role",
    "local_pref",
    "mtu",
    "signature",
)
_WORDS = {
    "hold": "BGP hold time (s)",
    "local_pref": "local preference",
    "inside": "inside block",
    "mtu": "MTU inside (bytes)",
    "signature": "TCP signature of BGP",
}
Row = tuple[str, str, str, str, str]


def written_ends(config: DeviceConfig, outside: Mapping[Address, Address]) -> dict[str, Written]:
    """Map tunnels to their values. `outside` has, for addresses behind a translator, those in
    front of it."""
    sessions: dict[str, list[Neighbour]] = {}
    for session in config.speaker.neighbours if config.speaker else ():
        for name in session.ways or (session.name,):
            sessions.setdefault(name, []).append(session)
    static: dict[str, list[tuple[Prefix, Hop]]] = {}
    for route in config.routes:
        for hop in route.hops:
            static.setdefault(hop.interface, []).append((route.prefix, hop))
    asn = config.speaker.asn if config.speaker else None
    interfaces = {interface.name: interface for interface in config.interfaces}
    return {
        tunnel.name: _written(
            tunnel,
            interfaces[tunnel.interface],
            outside.get(tunnel.local_address, tunnel.local_address),
            sessions.get(tunnel.name, []),
            asn,
            static.get(tunnel.interface, []),
        )
        for tunnel in config.tunnels
    }


def _written(
    tunnel: Tunnel,
    interface: Interface,
    seen_at: Address,
    sessions: list[Neighbour],
    asn: int | None,
    static: list[tuple[Prefix, Hop]],
) -> Written:
    session = sessions[0] if sessions else None
    static_prefixes = tuple(prefix for prefix, _ in static) or None
    remote = tuple(s.remote_address for s in sessions) or None
    if not sessions and static:
        remote = (static[0][1].address,)
    return Written(
        tunnel=tunnel.name,
        initiator=tunnel.initiator,
        local_address=seen_at,
        remote_address=tunnel.remote_address,
        local_identity=tunnel.local_identity,
        remote_identity=tunnel.remote_identity,
        local_selectors=tunnel.local_selectors,
        remote_selectors=tunnel.remote_selectors,
        local_ends=tuple(s.local_address for s in sessions) or (interface.address,),
        remote_ends=remote,
        local_as=asn if session else None,
        remote_as=session.remote_as if session else None,
        local_prefixes=tuple(p for s in sessions for p in s.announce) if sessions else None,
        remote_prefixes=tuple(p for s in sessions for p in s.accept)
        if sessions
        else static_prefixes,
        **terms_of(tunnel),
        inside=interface.networks,
        routing="bgp" if session else "static",
        hold=session.hold if session else None,
        role=tunnel.role,
        local_pref=session.local_pref if session else None,
        mtu=interface.mtu,
        signature="" if session is None else session.signature or "off",
    )


def _pairs() -> Iterator[tuple[str, str]]:
    for local, remote in MIRRORED:
        yield local, remote
        yield remote, local
    for name in EQUAL:
        yield name, name


def unmirrored(one: Written, other: Written) -> Iterator[str]:
    """What two ends do not say alike, or in reverse; empty when all is well.

    What only one of them has to say is not a difference, but for the kind of routing.
    """
    for mine, theirs in _pairs():
        here, there = getattr(one, mine), getattr(other, theirs)
        if here != there and (mine == "bfd" or None not in (here, there)):
            if mine == theirs:
                yield f"{mine} differs"
            else:
                yield f"{mine} of one is not {theirs} of the other"
    if one.initiator is other.initiator:
        yield "both or neither end initiates"


def mirror_rows(here: Written, there: Written) -> Iterator[Row]:
    """(field here, value, field there, value, verdict) for every field that both have."""
    for mine, theirs in _pairs():
        one, other = getattr(here, mine), getattr(there, theirs)
        if mine == "bfd" or None not in (one, other):
            verdict = "same" if one == other else "DIFFERENT"
            yield _words(mine), _text(one), _words(theirs), _text(other), verdict


def _words(name: str) -> str:
    return _WORDS.get(name) or name.replace("_as", " AS number").replace("_", " ")


def _text(value: Any) -> str:
    if isinstance(value, tuple) and not isinstance(value, Prefix | Address):
        return ", ".join(map(str, value))
    return str(getattr(value, "name", value))


class Configurations:
    """The standard data of all gateways of a design, written and read once each."""

    def __init__(self, settled: Settled) -> None:
        self._settled = settled
        self._written: dict[str, tuple[str, DeviceConfig]] = {}
        self._ends: dict[str, dict[str, Written]] = {}
        self._outside = {
            uplink.own: uplink.address
            for gateway in settled.gateways.values()
            for uplink in gateway.uplinks.values()
        }

    def text(self, place: str) -> str:
        """Write it as JSON. Raises ValueError where reading gives something else than was to be
        written."""
        return self._read_back(place)[0]

    def device_config_of(self, place: str) -> DeviceConfig:
        """The same as it is read. Raises ValueError likewise."""
        return self._read_back(place)[1]

    def _read_back(self, place: str) -> tuple[str, DeviceConfig]:
        """What is written, and what was read from that."""
        if place not in self._written:
            meant = device_config(self._settled, place)
            data = encode(meant)
            read = decode(data)
            if read != meant:
                raise ValueError(f"the standard data of {place} does not say what it should")
            self._written[place] = as_json(data), read
        return self._written[place]

    def ends(self, place: str) -> dict[str, Written]:
        """Ends of tunnels, as that gateway's data has them, by tunnel."""
        if place not in self._ends:
            self._ends[place] = written_ends(self._read_back(place)[1], self._outside)
        return self._ends[place]

    def faults(self, tunnel: SettledTunnel) -> Iterator[str]:
        """Say where the two ends of a tunnel are not mirror images."""
        one, other = (self.ends(place)[tunnel.label] for place in (tunnel.gateway, tunnel.cloud))
        yield from unmirrored(one, other)

    def proof_sheet(self, place: str) -> Iterator[Block]:
        """Proof sheet of one gateway: every tunnel against its other end."""
        yield Heading(1, f"{place}: both ends, field by field")
        yield Paragraph(
            "What this end calls local, the other calls remote. Each row compares this pack with "
            "the other end's."
        )
        for tunnel in self._settled.tunnels_at(place):
            other = tunnel.cloud if place == tunnel.gateway else tunnel.gateway
            here, there = self.ends(place)[tunnel.label], self.ends(other)[tunnel.label]
            yield Heading(2, f"Tunnel {tunnel.label}")
            yield Table(
                (f"At {place}", "Value", f"At {other}", "Value", ""), mirror_rows(here, there)
            )
