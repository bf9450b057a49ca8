"""A cable between a practice device and the practice internet: IP packets in UDP on loopback.

    | token of this cable (16) | IP packet |

Anybody on this machine can send a datagram to a loopback port; only who knows the world's secret
can make a cable's token. Datagrams without it are counted by the internet and go nowhere; at the
device's end the socket is connected, so that only the internet's own port is heard at all.
"""

from __future__ import annotations

import asyncio
import hmac
import socket
from collections import deque
from collections.abc import Callable
from typing import Any

from obrin.live.practice.internet.offload import Address, Datagram, join, receive, send_all
from obrin.wire.agenda import nobody

TOKEN_SIZE = 16
PLUG, UNPLUG = b"\0plug", b"\0unplug"
"""The first packet of a device, which shows the far side where to send, and the last one of a
program that ran as a host."""
BUFFER = 4 << 20
"""Bytes of receive buffer that the kernel is asked for; it may give less."""
AT_ONCE, IN_TURN, KEPT = 512, 64, 50_000
"""Datagrams: taken out of the kernel in one go, handed on before others have their turn, waiting at
the most."""


def cable_token(secret: str, name: str) -> bytes:
    """What every datagram on the cable of this name begins with."""
    return hmac.digest(secret.encode(), b"cable " + name.encode(), "sha256")[:TOKEN_SIZE]


def unwrap(token: bytes, datagram: bytes) -> bytes | None:
    """The packet inside a datagram from anywhere, or None for a stranger's."""
    if not hmac.compare_digest(datagram[:TOKEN_SIZE], token):
        return None
    return datagram[TOKEN_SIZE:]


class Port:
    """A UDP socket on loopback in the running event loop. The kernel keeps a few hundred datagrams
    at the most, and thousands come at once where thousands of timers end together: they are taken
    out as they come and wait here. What is sent waits until the end of the turn, so that many leave
    in one call. `receive` gets each with its sender, `after` comes after some of them."""

    def __init__(
        self,
        receive: Callable[[bytes, Address], None],
        after: Callable[[], None] = nobody,
        to: Address | None = None,
    ) -> None:
        self._receive, self._after = receive, after
        self._waiting: deque[tuple[bytes, Address]] = deque()
        self._leaving: list[Datagram] = []
        self._loop = asyncio.get_running_loop()
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, BUFFER)
        self._socket.setblocking(False)
        join(self._socket)
        self._socket.bind(("127.0.0.1", 0))
        if to is not None:
            self._socket.connect(to)
        self._loop.add_reader(self._socket, self._arrived)

    @property
    def number(self) -> int:
        """Number of the UDP port."""
        return int(self._socket.getsockname()[1])

    def _arrived(self) -> None:
        idle = not self._waiting
        for _ in range(AT_ONCE):
            try:
                self._waiting += receive(self._socket)
            except BlockingIOError:
                break
            except OSError:
                continue  # the far side is away for the moment; packets are lost, as on a cable
        while len(self._waiting) > KEPT:
            self._waiting.popleft()
        if idle and self._waiting:
            self._hand_on()

    def _hand_on(self) -> None:
        for _ in range(min(IN_TURN, len(self._waiting))):
            self._receive(*self._waiting.popleft())
        if self._waiting:
            self._loop.call_soon(self._hand_on)
        self._after()

    def send(self, datagram: bytes, to: Address | None = None) -> None:
        """What finds no room is lost, as on a cable."""
        if not self._leaving:
            self._loop.call_soon(self._leave)
        self._leaving.append((datagram, to))

    def _leave(self) -> None:
        leaving, self._leaving = self._leaving, []
        send_all(self._socket, leaving)

    def close(self) -> None:
        """Nothing is heard any more; what was to leave does."""
        self._loop.remove_reader(self._socket)
        self._leave()
        self._socket.close()


class Cable:
    """The device's end. `after` comes when some packets were received."""

    def __init__(
        self,
        port: int,
        token: bytes,
        receive: Callable[[bytes], None],
        after: Callable[[], None] = nobody,
    ) -> None:
        self._token = token
        self._take = receive
        self._port = Port(self._received, after, ("127.0.0.1", port))
        self.send(PLUG)

    def _received(self, data: bytes, sender: Any) -> None:
        packet = unwrap(self._token, data)
        if packet is not None:
            self._take(packet)

    def send(self, packet: bytes) -> None:
        self._port.send(self._token + packet)
