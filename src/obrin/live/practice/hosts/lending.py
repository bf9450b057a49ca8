"""Hosts lent to programs: packets of one address go over a cable of its own instead of to the
practice host, until the program ends or says nothing for a while."""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Callable, Iterable

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from obrin.core.address.prefix import Address, parse_address
from obrin.core.errors import AddressError
from obrin.device.lan.hosts import Hosts
from obrin.device.lan.lent import LentHost
from obrin.live.practice.internet.cable import PLUG, UNPLUG, Port, cable_token, unwrap
from obrin.live.practice.service import HANDLERS, Problem, read_json
from obrin.wire.errors import PacketError
from obrin.wire.packet import decode_packet

LEASE = 15.0
"""Seconds without a word after which the host is our own again."""
MOST = 64


class Lending:
    """The door for it. `hosts_of` knows those of a network, and raises Problem for none."""

    def __init__(
        self, hosts_of: Callable[[str], Hosts], kick: Callable[[], None], secret: str
    ) -> None:
        self._hosts_of, self._kick, self._secret = hosts_of, kick, secret
        self._open = 0

    def application(self) -> Starlette:
        """One address or several of one host, in exchange for a cable."""
        return Starlette(
            routes=[Route("/", self._lend, methods=["POST"])], exception_handlers=HANDLERS
        )

    async def _lend(self, request: Request) -> Response:
        given = await read_json(request)
        hosts = self._hosts_of(str(given.get("network")))
        try:
            wanted = list(map(parse_address, given["addresses"]))
        except (AddressError, KeyError, TypeError, AttributeError) as error:
            raise Problem(422, "not an address", f"'addresses' is not usable: {error}") from error
        for address in wanted:
            found = hosts.get(address)
            if found is None:
                raise Problem(404, "no such host", f"no practice host has {address}")
            if isinstance(found, LentHost):
                raise Problem(409, "lent", f"a program runs as {address}, or did until just now")
        if self._open >= MOST:
            raise Problem(403, "quota", f"no more than {MOST} hosts can be lent at once")
        name = secrets.token_hex(8)
        token = cable_token(self._secret, f"host {name}")
        port = _Cable(self, hosts, wanted, token).number
        return JSONResponse({"port": port, "token": token.hex()}, 201)

    def opened(self) -> None:
        self._open += 1

    def closed(self) -> None:
        self._open -= 1

    def kick(self) -> None:
        self._kick()


class _Cable:
    """Our end of the cable of one program."""

    def __init__(
        self, lending: Lending, hosts: Hosts, addresses: Iterable[Address], token: bytes
    ) -> None:
        self._lending, self._hosts, self._token = lending, hosts, token
        self._port = Port(self._received)
        self._peer: tuple[str, int] | None = None
        self._open = True
        self._lent: dict[Address, LentHost] = {a: hosts.lend(a, self._send) for a in addresses}
        lending.opened()
        self._heard = asyncio.get_running_loop().time()
        self._look()

    @property
    def number(self) -> int:
        """Number of the UDP port."""
        return self._port.number

    def _look(self) -> None:
        loop = asyncio.get_running_loop()
        if self._open and loop.time() - self._heard > LEASE:
            self._close()
        elif self._open:
            loop.call_later(1.0, self._look)

    def _received(self, data: bytes, sender: tuple[str, int]) -> None:
        packet = unwrap(self._token, data)
        if packet is None or not self._open:
            return
        self._heard, self._peer = asyncio.get_running_loop().time(), sender
        if packet == UNPLUG:
            self._close()
        elif packet != PLUG:
            self._give(packet)

    def _give(self, packet: bytes) -> None:
        try:
            host = self._lent.get(decode_packet(packet).source)
            if host is not None:
                host.give(packet)
                self._lending.kick()
        except PacketError:
            return  # nothing that a host of this world would send

    def _send(self, packet: bytes) -> None:
        if self._peer is not None and self._open:
            self._port.send(self._token + packet, self._peer)

    def _close(self) -> None:
        self._open = False
        self._port.close()
        for host in self._lent.values():
            self._hosts.take_back(host)
        self._lending.closed()
