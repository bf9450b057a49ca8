"""The process of the practice internet: sockets around `Internet`, and an HTTP door for faults."""

from __future__ import annotations

import asyncio
import functools
from pathlib import Path
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from obrin.core.errors import AddressError
from obrin.live.practice.cable import PLUG
from obrin.live.practice.internet import CLOUD, Internet
from obrin.live.practice.service import Problem, answer_problem, read_json, serve


class _Socket(asyncio.DatagramProtocol):
    """The internet's end of one cable; it learns the device's address from what arrives."""

    def __init__(self, name: str, world: InternetProcess) -> None:
        self._name = name
        self._world = world
        self.transport: Any = None
        self.peer: Any = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self.transport = transport

    def datagram_received(self, data: bytes, addr: Any) -> None:
        self.peer = addr
        if data != PLUG:
            self._world.arrived(self._name, data)


class InternetProcess:
    def __init__(self, internet: Internet, folder: Path) -> None:
        self._internet = internet
        self._folder = folder
        self._sockets: dict[str, _Socket] = {}

    def arrived(self, cable: str, data: bytes) -> None:
        onward = self._internet.carry(cable, data)
        if onward is not None:
            end = self._sockets[onward[0]]
            if end.peer is not None:
                end.transport.sendto(onward[1], end.peer)

    async def run(self) -> None:
        loop = asyncio.get_running_loop()
        ports = {}
        for name in (*self._internet.lines, CLOUD):
            transport, protocol = await loop.create_datagram_endpoint(
                functools.partial(_Socket, name, self),
                local_addr=("127.0.0.1", 0),
            )
            self._sockets[name] = protocol
            ports[name] = transport.get_extra_info("sockname")[1]
        app = Starlette(
            routes=[
                Route("/v1/faults", self._faults, methods=["GET"]),
                Route("/v1/faults", self._cut, methods=["POST"]),
                Route("/v1/faults", self._heal, methods=["DELETE"]),
            ],
            exception_handlers={Problem: answer_problem},
        )
        await serve(app, self._folder, "internet", {"cables": ports})

    async def _faults(self, request: Request) -> Response:
        net = self._internet
        return JSONResponse(
            {
                "uplinks": sorted(net.cut_lines),
                "paths": len(net.cut_pairs),
                "carried": net.carried,
                "lost": net.lost,
            }
        )

    async def _cut(self, request: Request) -> Response:
        body = await read_json(request)
        if "uplink" in body:
            if body["uplink"] not in self._internet.lines:
                raise Problem(404, "no such uplink", f"{body['uplink']} is not connected")
            self._internet.cut_lines.add(body["uplink"])
        elif "path" in body and isinstance(body["path"], list) and len(body["path"]) == 2:
            try:
                self._internet.cut_pair(*map(str, body["path"]))
            except AddressError as error:
                raise Problem(422, "not an address", str(error)) from error
        else:
            raise Problem(422, "nothing to cut", "give 'uplink', or 'path' with two addresses")
        return Response(status_code=204)

    async def _heal(self, request: Request) -> Response:
        self._internet.heal()
        return Response(status_code=204)
