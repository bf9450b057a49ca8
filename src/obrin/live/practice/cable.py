"""A cable between a practice device and the practice internet: IP packets in UDP on loopback.

    | token of this cable (16) | IP packet |

Anybody on this machine can send a datagram to a loopback port; only who knows the world's secret
can make a cable's token. Datagrams without it are counted by the internet and go nowhere; at the
device's end the socket is connected, so that only the internet's own port is heard at all.
"""

from __future__ import annotations

import asyncio
import hmac
from collections.abc import Callable
from typing import Any, cast

Address = tuple[str, int]
TOKEN_SIZE = 16
PLUG, UNPLUG = b"\0plug", b"\0unplug"
"""The first packet of a device, which tells the far side where to send, and the last one of a
program that ran as a host."""


def cable_token(secret: str, name: str) -> bytes:
    """What every datagram on the cable of this name begins with."""
    return hmac.digest(secret.encode(), b"cable " + name.encode(), "sha256")[:TOKEN_SIZE]


def unwrap(token: bytes, datagram: bytes) -> bytes | None:
    """The packet inside a datagram from anywhere, or None for a stranger's."""
    if not hmac.compare_digest(datagram[:TOKEN_SIZE], token):
        return None
    return datagram[TOKEN_SIZE:]


class Cable(asyncio.DatagramProtocol):
    def __init__(self, token: bytes, receive: Callable[[bytes], None]) -> None:
        self._token = token
        self._receive = receive
        self._transport: asyncio.DatagramTransport | None = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = cast(asyncio.DatagramTransport, transport)
        self.send(PLUG)

    def datagram_received(self, data: bytes, addr: Any) -> None:
        packet = unwrap(self._token, data)
        if packet is not None:
            self._receive(packet)

    def error_received(self, exc: Exception) -> None:
        """The far side is away for the moment; packets are lost, as on a cable."""

    def send(self, packet: bytes) -> None:
        if self._transport is not None and not self._transport.is_closing():
            self._transport.sendto(self._token + packet)


async def plug_in(port: int, token: bytes, receive: Callable[[bytes], None]) -> Cable:
    """Connect to the practice internet's end of a cable."""
    loop = asyncio.get_running_loop()
    _, protocol = await loop.create_datagram_endpoint(
        lambda: Cable(token, receive), remote_addr=("127.0.0.1", port)
    )
    return protocol
