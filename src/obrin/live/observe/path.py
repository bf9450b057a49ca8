"""The routers on the way to a host, as they answer: packets of a flow's own protocol that
may be passed on once, twice, and so on (RFC 792, RFC 4443: time exceeded).

No privileges: Linux hands a socket the errors about its own packets, with who sent them. Where the
system does not, there is no path to be had.
"""

from __future__ import annotations

import errno
import os
import select
import socket
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass

from obrin.core.address.prefix import Address
from obrin.core.routing.packet import TCP, UDP
from obrin.live.observe.sockets import (
    FAMILY,
    echo_request,
    hand_out_errors,
    icmp_error,
    is_answer,
    ping_socket,
)
from obrin.wire.icmp import TIME_EXCEEDED

MOST_HOPS, MOST_SILENT = 12, 2
"""So many routers; and so many in a row that say nothing."""
HOP_TIMEOUT = 1.0
"""Seconds that one is waited for."""
_TTL = {
    32: (socket.IPPROTO_IP, socket.IP_TTL),
    128: (socket.IPPROTO_IPV6, socket.IPV6_UNICAST_HOPS),
}


@dataclass(frozen=True, slots=True)
class Hop:
    """`router` is None for one that said nothing; the last is where the flow `arrived`."""

    router: Address | None
    arrived: bool = False


def path_to(target: Address, protocol: int | None, port: int) -> list[Hop]:
    """Ask as far as routers answer; empty where the system does not hand out errors.

    Raises NotAllowed where it has no ping sockets for its users, and the flow is ICMP's.
    """
    found: list[Hop] = []
    if sys.platform != "linux":
        return found
    silent = 0
    for hops in range(1, MOST_HOPS + 1):
        hop = _tried(target, protocol, port, hops)
        found.append(hop)
        silent = 0 if hop.router else silent + 1
        if hop.arrived or silent == MOST_SILENT:
            break
    while found and found[-1].router is None:
        found.pop()
    return found


def _tried(target: Address, protocol: int | None, port: int, hops: int) -> Hop:
    bits, raw = target.bits, False
    if protocol == TCP:
        asked = socket.socket(FAMILY[bits], socket.SOCK_STREAM)
    elif protocol == UDP:
        asked = socket.socket(FAMILY[bits], socket.SOCK_DGRAM)
    else:
        asked, raw = ping_socket(bits)
    with asked:
        asked.setblocking(False)
        hand_out_errors(asked, bits)
        asked.setsockopt(*_TTL[bits], hops)
        number = int.from_bytes(os.urandom(2), "big")
        try:
            if protocol in (TCP, UDP):
                asked.connect((str(target), port))
            if protocol == UDP:
                asked.send(bytes(12))
            elif protocol != TCP:
                asked.sendto(echo_request(bits, number, 84), (str(target), 0))
        except BlockingIOError:
            pass
        except ConnectionRefusedError:
            return Hop(target, arrived=True)
        except OSError as error:
            if error.errno in (errno.ENETUNREACH, errno.EHOSTUNREACH, errno.EPERM):
                return Hop(None)
            raise

        def mine(answer: bytes) -> bool:
            return not raw or is_answer(answer, bits, number)

        return _heard(asked, target, mine, connecting=protocol == TCP)


def _heard(
    asked: socket.socket, target: Address, mine: Callable[[bytes], bool], *, connecting: bool
) -> Hop:
    until = time.monotonic() + HOP_TIMEOUT
    poll = select.poll()
    poll.register(asked, select.POLLOUT if connecting else select.POLLIN)
    while (left := until - time.monotonic()) > 0:
        if not poll.poll(left * 1000):
            break
        router = _router_of(asked, target)
        if router is not None:
            return Hop(router)
        if connecting:
            code = asked.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
            there = code in (0, errno.ECONNREFUSED)
            return Hop(target if there else None, arrived=there)
        try:
            if mine(asked.recv(65535)):
                return Hop(target, arrived=True)
        except ConnectionRefusedError:
            return Hop(target, arrived=True)
        except OSError:
            continue
    return Hop(None)


def _router_of(asked: socket.socket, target: Address) -> Address | None:
    """The router that says that a packet of ours was passed on too often."""
    found = icmp_error(asked, target.bits)
    passed_on = found is not None and found.kind == TIME_EXCEEDED[target.bits]
    return found.sender if found is not None and passed_on else None
