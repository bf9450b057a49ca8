"""A cable between a practice device and the practice internet: IP packets in UDP on loopback."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any, cast

Address = tuple[str, int]
PLUG = b"\0plug"
"""The first datagram of a device; it tells the far side where to send."""


class Cable(asyncio.DatagramProtocol):
    def __init__(self, receive: Callable[[bytes], None]) -> None:
        self._receive = receive
        self._transport: asyncio.DatagramTransport | None = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = cast(asyncio.DatagramTransport, transport)
        self._transport.sendto(PLUG)

    def datagram_received(self, data: bytes, addr: Any) -> None:
        self._receive(data)

    def error_received(self, exc: Exception) -> None:
        """The far side is away for the moment; packets are lost, as on a cable."""

    def send(self, packet: bytes) -> None:
        if self._transport is not None and not self._transport.is_closing():
            self._transport.sendto(packet)


async def plug_in(port: int, receive: Callable[[bytes], None]) -> Cable:
    """Connect to the practice internet's end of a cable."""
    loop = asyncio.get_running_loop()
    _, protocol = await loop.create_datagram_endpoint(
        lambda: Cable(receive), remote_addr=("127.0.0.1", port)
    )
    return protocol
