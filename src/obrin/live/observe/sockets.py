"""Sockets that ask for an echo, with as few privileges as the system wants."""

from __future__ import annotations

import socket
import struct

from obrin.core.ipsec.overhead import IPV4_HEADER, IPV6_HEADER
from obrin.core.routing.packet import ECHO
from obrin.wire.packet import checksum

FAMILY = {32: socket.AF_INET, 128: socket.AF_INET6}
_ICMP = {32: socket.IPPROTO_ICMP, 128: socket.IPPROTO_ICMPV6}


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
