"""Real questions of the host that this runs on: ICMP by ping sockets, TCP, UDP, sizes that may not
be cut. No privileges, where the system gives everybody ping sockets.

Asked is only what the design says of the network that this host stands for, and only there.
"""

from __future__ import annotations

import errno
import json
import os
import select
import socket
import sys
import time
from collections.abc import Iterable, Mapping
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from obrin.core.address.prefix import Address, parse_address
from obrin.core.design.places import NetworkRef
from obrin.core.errors import DesignError, ObrinError, Problem
from obrin.core.handover.ends.records import cloud_end
from obrin.core.json_text import parse_json
from obrin.core.naming import those_near
from obrin.core.reach.hops import hop_name
from obrin.core.reach.merged import InsideSeen, Seen
from obrin.core.reach.trace import probe_key
from obrin.core.routing.packet import TCP, UDP
from obrin.core.settled.expected import Expected
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled
from obrin.live.files import read_file
from obrin.live.observe.path import path_to
from obrin.live.observe.sockets import (
    FAMILY,
    IcmpError,
    NotAllowed,
    echo_request,
    hand_out_errors,
    icmp_error,
    is_answer,
    ping_socket,
)

QUESTIONS, TIMEOUT = 3, 1.5
"""Probes for each flow, and seconds to wait for each."""
SMALL = {32: 200, 128: 1280}
MOST_BYTES = 32 << 20
_DISCOVER = {32: (socket.IPPROTO_IP, 10, 2), 128: (socket.IPPROTO_IPV6, 23, 2)}
"""Linux: IP_MTU_DISCOVER and IPV6_MTU_DISCOVER, `do`: never cut."""
_UNREACHABLE = {32: 3, 128: 1}
"""ICMP type of destination unreachable."""
_PORT = {32: 3, 128: 4}
"""Codes with which a host says that nothing listens."""
_PROHIBITED = {32: (9, 10, 13), 128: (1, 5, 6)}
"""Codes with which a filter says that it forbids a packet."""
_REASONS = {
    32: {
        0: "no route to the network",
        1: "the host is not there",
        9: "a filter forbids it",
        10: "a filter forbids it",
        13: "a filter forbids it",
    },
    128: {
        0: "no route to it",
        1: "a filter forbids it",
        3: "the host is not there",
        5: "a filter forbids it",
        6: "a filter forbids it",
    },
}


@dataclass(frozen=True, slots=True)
class Reply:
    """Result of one probe."""

    answered: bool
    refused: bool = False
    seconds: float = 0.0
    error: IcmpError | None = None


def ask_here(
    settled: Settled, network: str, hosts: Mapping[str, Address]
) -> tuple[list[Seen], list[InsideSeen]]:
    """Everything that the design says of a network, asked from this host. `hosts` are other
    addresses than the usual ones, by network. Raises ObrinError for no network of the design."""
    place = network.partition("/")[0]
    known = {str(w.source) for w in settled.own_expectations()}
    known |= {str(w.destination) for w in settled.own_expectations()}
    wishes = [w for w in settled.own_expectations() if str(w.source) == network]
    if network not in known:
        raise ObrinError(
            f"no expectation begins in '{network}'. There are: {those_near(network, sorted(known))}"
        )
    most = _largest(settled, place)
    seen = [_try(settled, wish, hosts.get(str(wish.destination)), most) for wish in wishes]
    return seen, list(_inside(settled, place))


def _largest(settled: Settled, place: str) -> int:
    """Bytes that every tunnel at a place carries."""
    mine = [
        cloud_end(settled, leg).mtu
        for leg in settled.legs()
        if isinstance(leg, SettledTunnel)
        and place in (leg.cloud, settled.gateways[leg.gateway].site)
    ]
    return min(mine, default=1280)


def _inside(settled: Settled, place: str) -> Iterable[InsideSeen]:
    for leg in settled.legs():
        site = settled.gateways[leg.gateway].site
        if place in (site, leg.cloud):
            far = leg.cloud_inside if place == site else leg.site_inside
            try:
                yield InsideSeen(place, leg.label, ping(far, 84).answered)
            except NotAllowed:
                return


def _try(settled: Settled, wish: Expected, host: Address | None, most: int) -> Seen:
    target = host or probe_key(settled, wish).destination
    protocol, port = wish.flow.protocol, wish.flow.first_port
    replies: list[Reply] = []
    path: list[str] = []
    sizes: list[tuple[int, bool]] = []
    problem, waited = "", 0.0
    begun = time.monotonic()
    try:
        for _ in range(QUESTIONS):
            replies.append(_ask(protocol, target, port))
            if not waited and replies[-1].answered:
                waited = time.monotonic() - begun
            if replies[-1].refused or replies[-1].error is not None:
                break
        if wish.must == "work":
            ends = wish.source.place, wish.destination.place
            hops = path_to(target, protocol, port)
            path = [hop_name(settled, ends, hop.router) for hop in hops if not hop.arrived]
        if protocol not in (TCP, UDP) and any(r.answered for r in replies):
            sizes = [(size, ping(target, size).answered) for size in (SMALL[target.bits], most)]
    except NotAllowed as error:
        problem = str(error)
    said = next((r.error for r in replies if r.error is not None), None)
    ends = wish.source.place, wish.destination.place
    first = next((r.seconds for r in replies if r.answered), 0.0)
    return Seen(
        source=str(wish.source),
        destination=str(wish.destination),
        flow=str(wish.flow),
        family=wish.family,
        must=wish.must,
        answers=tuple(r.answered for r in replies),
        refused=any(r.refused for r in replies),
        seconds=round(first, 4),
        waited=round(waited, 4),
        path=tuple(path),
        sizes=tuple(sizes),
        unreachable="" if said is None else _unreachable(settled, ends, said),
        prohibited=said is not None and said.code in _PROHIBITED[target.bits],
        problem=problem,
    )


def _unreachable(settled: Settled, ends: tuple[str, str], error: IcmpError) -> str:
    """Who says that it is not reachable, and why (RFC 792, RFC 1812 section 5.2.7.1, RFC 4443)."""
    bits = error.sender.bits
    reason = _REASONS[bits].get(error.code, f"code {error.code}")
    return f"{hop_name(settled, ends, error.sender)} says by ICMP that it is unreachable: {reason}"


def _error(asked: socket.socket, bits: int) -> IcmpError | None:
    """That the destination is unreachable, for another reason than the host's own."""
    found = icmp_error(asked, bits)
    if found is None or found.kind != _UNREACHABLE[bits] or found.code == _PORT[bits]:
        return None
    return found


def _ask(protocol: int | None, target: Address, port: int) -> Reply:
    if protocol == TCP:
        return connect(target, port)
    return datagram(target, port) if protocol == UDP else ping(target, 84)


def ping(target: Address, size: int) -> Reply:
    """An echo request in an IP packet of so many bytes that may not be cut."""
    bits = target.bits
    asked, raw = ping_socket(bits)
    with asked:
        if sys.platform == "linux":
            asked.setsockopt(*_DISCOVER[bits])
        hand_out_errors(asked, bits)
        number = int.from_bytes(os.urandom(2), "big")
        message = echo_request(bits, number, size)
        begun = time.monotonic()
        try:
            asked.sendto(message, (str(target), 0))
        except OSError as error:
            if error.errno in (errno.EMSGSIZE, errno.ENETUNREACH, errno.EHOSTUNREACH, errno.EPERM):
                return Reply(False)
            raise
        while (left := TIMEOUT - (time.monotonic() - begun)) > 0:
            if not select.select([asked], [], [], left)[0]:
                break
            try:
                answer, sender = asked.recvfrom(65535)
            except OSError:
                return Reply(False, error=_error(asked, bits))
            mine = parse_address(str(sender[0]).partition("%")[0]) == target
            if mine and (not raw or is_answer(answer, bits, number)):
                return Reply(True, seconds=time.monotonic() - begun)
    return Reply(False)


def connect(target: Address, port: int) -> Reply:
    """A TCP connection, opened and closed."""
    return _spoken(socket.SOCK_STREAM, target, port, None)


def datagram(target: Address, port: int) -> Reply:
    """A UDP datagram; many services say nothing to one that they do not know."""
    return _spoken(socket.SOCK_DGRAM, target, port, bytes(12))


def _spoken(kind: int, target: Address, port: int, question: bytes | None) -> Reply:
    """Connect, and where there is a question wait for its answer."""
    begun = time.monotonic()
    with socket.socket(FAMILY[target.bits], kind) as asked:
        asked.settimeout(TIMEOUT)
        hand_out_errors(asked, target.bits)
        try:
            asked.connect((str(target), port))
            if question is not None:
                asked.send(question)
                asked.recv(65535)
        except ConnectionRefusedError:
            return Reply(False, refused=True)
        except OSError:
            return Reply(False, error=_error(asked, target.bits))
    return Reply(True, seconds=time.monotonic() - begun)


# Results as files


def results_text(network: str, seen: Iterable[Seen], inside: Iterable[InsideSeen]) -> str:
    """What `read_results` reads back. No addresses stand in it."""
    found = {
        "asked-from": network,
        "seen": [asdict(one) for one in seen],
        "inside": [asdict(one) for one in inside],
    }
    return json.dumps(found, indent=1) + "\n"


def read_results(path: Path) -> tuple[list[Seen], list[InsideSeen]]:
    """Raises DesignError for a file that is none of these, OSError."""
    try:
        data = parse_json(read_file(path, MOST_BYTES))
        seen = [_seen(entry) for entry in data["seen"]]
        inside = [
            InsideSeen(str(e["place"]), str(e["tunnel"]), bool(e["answered"]))
            for e in data["inside"]
        ]
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError) as error:
        what = f"these are not the results of a probe ({type(error).__name__}: {error})"
        fix = "Take a file that 'obrin probe --here NETWORK --to FILE' wrote"
        raise DesignError([Problem(str(path), what, fix)]) from None
    return seen, inside


def _seen(entry: dict[str, Any]) -> Seen:
    for name in ("source", "destination"):
        NetworkRef.of(str(entry[name]))
    return Seen(
        source=str(entry["source"]),
        destination=str(entry["destination"]),
        flow=str(entry["flow"]),
        family=str(entry["family"]),
        must=str(entry["must"]),
        answers=tuple(map(bool, entry["answers"])),
        refused=bool(entry["refused"]),
        seconds=float(entry["seconds"]),
        waited=float(entry["waited"]),
        path=tuple(map(str, entry["path"])),
        sizes=tuple((int(size), bool(there)) for size, there in entry["sizes"]),
        unreachable=str(entry.get("unreachable", "")),
        prohibited=bool(entry.get("prohibited", False)),
        problem=str(entry["problem"]),
    )
