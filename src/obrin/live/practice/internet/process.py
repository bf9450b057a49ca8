"""The process of the practice internet: sockets around `Internet`, and an HTTP door for faults."""

from __future__ import annotations

import asyncio
import random
from collections.abc import Collection
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from obrin.core.errors import AddressError
from obrin.live.practice.internet.cable import PLUG, Port, cable_token, unwrap
from obrin.live.practice.internet.internet import CLOUD, Dedicated, Internet, Line
from obrin.live.practice.internet.offload import Address
from obrin.live.practice.internet.weather import Weather
from obrin.live.practice.service import HANDLERS, UNUSABLE, Problem, Served, read_json


class _Socket:
    """The internet's end of one cable; it learns the device's address from what arrives with the
    cable's token."""

    def __init__(self, name: str, token: bytes, world: InternetProcess) -> None:
        self._name = name
        self._token = token
        self._world = world
        self._peer: Address | None = None
        self.port = Port(self._received)

    def _received(self, data: bytes, sender: Address) -> None:
        packet = unwrap(self._token, data)
        if packet is None:
            self._world.stranger()
            return
        self._peer = sender
        if packet != PLUG:
            self._world.arrived(self._name, packet)

    def send(self, packet: bytes) -> None:
        if self._peer is not None:
            self.port.send(self._token + packet, self._peer)


class InternetProcess:
    def __init__(self, internet: Internet, secret: str) -> None:
        self._internet = internet
        self._weather = Weather(internet, random.random)
        self._secret = secret
        self._sockets: dict[str, _Socket] = {}

    def arrived(self, cable: str, data: bytes) -> None:
        loop = asyncio.get_running_loop()
        now = loop.time()
        for arrival in self._weather.carry(cable, data, now):
            socket = self._sockets[arrival.cable]
            if arrival.at <= now:
                socket.send(arrival.packet)
            else:
                loop.call_at(arrival.at, socket.send, arrival.packet)

    def stranger(self) -> None:
        self._internet.lose("a datagram that came by no cable")

    async def run(self, served: Served) -> None:
        for name in (*self._internet.cables(), CLOUD):
            self._plug(name)
        ports = {name: socket.port.number for name, socket in self._sockets.items()}
        app = Starlette(
            routes=[
                Route("/v1/lines", self._connected, methods=["GET"]),
                Route("/v1/lines", self._connect, methods=["POST"]),
                Route("/v1/circuits", self._join, methods=["POST"]),
                Route("/v1/faults", self._faults, methods=["GET"]),
                Route("/v1/faults", self._cut, methods=["POST"]),
                Route("/v1/faults", self._heal, methods=["DELETE"]),
            ],
            exception_handlers=HANDLERS,
        )
        await served.run(app, {"cables": ports})

    def _plug(self, name: str) -> int:
        """The number of the port of a new cable."""
        self._sockets[name] = _Socket(name, cable_token(self._secret, name), self)
        return self._sockets[name].port.number

    async def _connect(self, request: Request) -> Response:
        """One more uplink, as the argument of the process has it."""
        body = await read_json(request)
        try:
            line = Line.parse(str(body.get("line")))
            self._internet.connect(line)
        except (ValueError, AddressError) as error:
            raise Problem(422, "no such uplink", str(error)) from error
        return JSONResponse({"port": self._plug(line.name)}, status_code=201)

    async def _connected(self, request: Request) -> Response:
        """The cables that are there, by name."""
        return JSONResponse({"cables": self._internet.cables()})

    async def _join(self, request: Request) -> Response:
        """One more dedicated line, with a cable for each end."""
        body = await read_json(request)
        try:
            line = Dedicated(str(body["circuit"]), int(body["mtu"]))
            self._internet.join(line)
        except UNUSABLE as error:
            raise Problem(422, "no such line", str(error)) from error
        return JSONResponse({"ports": list(map(self._plug, line.ends))}, status_code=201)

    async def _faults(self, request: Request) -> Response:
        net = self._internet
        return JSONResponse(
            {
                "uplinks": sorted(net.cut_lines),
                "circuits": sorted(net.cut_dedicated),
                "narrow": sorted(net.narrow_lines),
                "paths": len(net.cut_pairs),
                "carried": net.carried,
                "lost": net.lost,
                "troubles": self._weather.words(),
            }
        )

    async def _cut(self, request: Request) -> Response:
        body, net = await read_json(request), self._internet
        if "uplink" in body:
            net.cut_lines.add(_connected("uplink", body["uplink"], net.lines))
        elif "circuit" in body:
            net.cut_dedicated.add(_connected("circuit", body["circuit"], net.dedicated))
        elif "trouble" in body:
            self._trouble(str(body["trouble"]), str(body.get("at")), str(body.get("value", "")))
        elif "path" in body and isinstance(body["path"], list) and len(body["path"]) == 2:
            try:
                net.cut_pair(*map(str, body["path"]))
            except AddressError as error:
                raise Problem(422, "not an address", str(error)) from error
        else:
            raise Problem(
                422,
                "nothing to do",
                "give 'uplink', 'circuit', 'path' with two addresses, or 'trouble' with 'at'",
            )
        return Response(status_code=204)

    def _trouble(self, kind: str, line: str, value: str) -> None:
        try:
            self._weather.set(line, kind, value)
        except KeyError:
            raise Problem(404, "no such uplink", f"{line} is not connected") from None
        except (ValueError, AddressError) as error:
            raise Problem(422, "no such trouble", str(error)) from error

    async def _heal(self, request: Request) -> Response:
        self._internet.heal()
        self._weather.heal()
        return Response(status_code=204)


def _connected(what: str, name: Any, there: Collection[str]) -> str:
    """Raises Problem for what is not among them."""
    if not isinstance(name, str) or name not in there:
        raise Problem(404, f"no such {what}", f"{name} is not connected")
    return name
