"""Sockets that ask for an echo, with as few privileges as the system wants."""

from __future__ import annotations

import socket
import struct
import sys
from dataclasses import dataclass

from obrin.core.address.prefix import Address, parse_address
from obrin.core.ipsec.overhead import IPV4_HEADER, IPV6_HEADER
from obrin.core.routing.packet import ECHO
from obrin.wire.packet import checksum

FAMILY = {32: socket.AF_INET, 128: socket.AF_INET6}
_ICMP = {32: socket.IPPROTO_ICMP, 128: socket.IPPROTO_ICMPV6}


_RECEIVE_ERRORS = {32: (socket.IPPROTO_IP, 11), 128: (socket.IPPROTO_IPV6, 25)}
"""Linux: IP_RECVERR and IPV6_RECVERR."""
_ERROR = struct.Struct("=IBBBBII")
"""Linux's `sock_extended_err`; after it the address of who sent it."""
_BY_ICMP = {32: 2, 128: 3}


@dataclass(frozen=True, slots=True)
class IcmpError:
    """An ICMP error about a packet of ours, and who sent it."""

    sender: Address
    kind: int
    code: int


def hand_out_errors(asked: socket.socket, bits: int) -> None:
    """Have the system keep errors about what this socket sends, where it can."""
    if sys.platform == "linux":
        asked.setsockopt(*_RECEIVE_ERRORS[bits], 1)


def icmp_error(asked: socket.socket, bits: int) -> IcmpError | None:
    """The next error that somebody sent about a packet of this socket; None where there is none."""
    if sys.platform != "linux":
        return None
    try:
        _, messages, _, _ = asked.recvmsg(512, 512, socket.MSG_ERRQUEUE)
    except OSError:
        return None
    for level, kind, data in messages:
        if (level, kind) != _RECEIVE_ERRORS[bits] or len(data) < _ERROR.size + 8:
            continue
        _, origin, icmp_type, code, _, _, _ = _ERROR.unpack_from(data)
        if origin == _BY_ICMP[bits]:
            return IcmpError(_sender(data[_ERROR.size :], bits), icmp_type, code)
    return None


def _sender(address: bytes, bits: int) -> Address:
    """Out of a socket address of the system."""
    if bits == 32:
        return parse_address(socket.inet_ntop(socket.AF_INET, address[4:8]))
    return parse_address(socket.inet_ntop(socket.AF_INET6, address[8:24]))


class NotAllowed(Exception):
    """The system gives this user no such socket."""


def ping_socket(bits: int) -> tuple[socket.socket, bool]:
    """One of a user; or of root, which is raw. Raises NotAllowed."""
    try:
        return socket.socket(FAMILY[bits], socket.SOCK_DGRAM, _ICMP[bits]), False
    except PermissionError:
        pass
    try:
        return socket.socket(FAMILY[bits], socket.SOCK_RAW, _ICMP[bits]), True
    except PermissionError:
        raise NotAllowed(
            "this system gives its users no ping sockets; on Linux the group range in "
            "net.ipv4.ping_group_range does"
        ) from None


def echo_request(bits: int, number: int, size: int) -> bytes:
    """The message of a packet of so many bytes; of IPv6 the system adds the checksum."""
    header = IPV4_HEADER if bits == 32 else IPV6_HEADER
    data = bytes(max(size - header - 8, 0))
    message = struct.pack("!BBHHH", ECHO[bits].request, 0, 0, number, 1) + data
    if bits == 32:
        message = message[:2] + struct.pack("!H", checksum(message)) + message[4:]
    return message


def is_answer(answer: bytes, bits: int, number: int) -> bool:
    """Whether this is the answer to question `number`. A raw socket receives all answers, IPv4
    with its header."""
    message = answer[(answer[0] & 15) * 4 :] if bits == 32 and answer else answer
    if len(message) < 8 or message[0] != ECHO[bits].reply:
        return False
    return int.from_bytes(message[4:6], "big") == number
