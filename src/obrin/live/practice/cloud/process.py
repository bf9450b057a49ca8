"""The process of the practice cloud: the HTTP API, and the cable to the practice internet."""

from __future__ import annotations

import os
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from obrin.core.catalogue.offering import Offered
from obrin.device.cloud import Cloud
from obrin.device.state import session_states, tunnel_states
from obrin.live.practice.cable import Cable, cable_token, plug_in
from obrin.live.practice.clock import wall_clock
from obrin.live.practice.cloud.bodies import KINDS
from obrin.live.practice.cloud.description import openapi
from obrin.live.practice.cloud.store import Store
from obrin.live.practice.cloud.told import Told
from obrin.live.practice.hosts import Asked, ends_of, find_host, probe
from obrin.live.practice.internet import CLOUD
from obrin.live.practice.service import HANDLERS, UNUSABLE, Problem, Served, Ticker, read_json


class CloudProcess:
    def __init__(self, cable_port: int, speed: float, secret: str, offering: Offered) -> None:
        self._cable_port = cable_port
        self._secret = secret
        self._dirty = False
        self.store = Store(offering, speed, self._mark, os.urandom(16))
        self.cloud = Cloud(os.urandom)
        self._told = Told(self.store, wall_clock)
        self._cable: Cable | None = None
        self._ticker = Ticker(self._pump)

    def _mark(self) -> None:
        self._dirty = True

    async def run(self, served: Served) -> None:
        token = cable_token(self._secret, CLOUD)
        self._cable = await plug_in(self._cable_port, token, self._arrived)
        await served.run(self.application())

    def application(self) -> Starlette:
        """The API."""
        routes = [
            Route("/v1/openapi.json", self._describe),
            Route("/v1/operations/{number:int}", self._operation),
            Route("/v1/gateways/{name}/state", self._state),
            Route("/v1/networks/{name}/drops", self._drops),
            Route("/v1/probes", self._probe, methods=["POST"]),
        ]
        for kind in KINDS:
            routes += [
                Route(f"/v1/{kind}", self._list, methods=["GET"], name=f"list-{kind}"),
                Route(f"/v1/{kind}/{{name}}", self._get, methods=["GET"]),
                Route(f"/v1/{kind}/{{name}}", self._put, methods=["PUT"]),
                Route(f"/v1/{kind}/{{name}}", self._delete, methods=["DELETE"]),
            ]
        return Starlette(routes=routes, exception_handlers=HANDLERS)

    # The engine

    def _now(self) -> float:
        return self._ticker.now()

    def _kick(self) -> None:
        self._ticker.kick()

    def _arrived(self, packet: bytes) -> None:
        self.cloud.receive(packet, self._now())
        self._kick()

    def _pump(self, now: float) -> float:
        self.store.handle_timer(now)
        if self._dirty:
            self._dirty = False
            self.cloud.take(self._told.config(), now)
        for packet in self.cloud.pump(now):
            if self._cable is not None:
                self._cable.send(packet)
        return min(self.cloud.next_timer(), self.store.next_timer())

    # The API

    async def _describe(self, request: Request) -> Response:
        return JSONResponse(openapi())

    @staticmethod
    def _kind(request: Request) -> str:
        return request.url.path.split("/")[2]

    async def _list(self, request: Request) -> Response:
        kind = self._kind(request)
        found = [r.shown() for r in self.store.resources.values() if r.kind == kind]
        return JSONResponse({"items": found})

    async def _get(self, request: Request) -> Response:
        resource = self.store.get(self._kind(request), request.path_params["name"])
        running = self.store.running(resource.kind, resource.name)
        shown = resource.shown()
        if running is not None:
            shown["operation"] = f"/v1/operations/{running.number}"
        return JSONResponse(shown, headers={"ETag": self.store.etag(resource)})

    async def _put(self, request: Request) -> Response:
        data = await read_json(request)
        name = request.path_params["name"]
        resource, operation = self.store.put(
            self._kind(request), name, data, request.headers.get("if-match"), self._now()
        )
        self._kick()
        headers = {"ETag": self.store.etag(resource)}
        if operation is None:
            return JSONResponse(resource.shown(), headers=headers)
        return self._accepted(operation.number, headers)

    async def _delete(self, request: Request) -> Response:
        name = request.path_params["name"]
        operation = self.store.delete(self._kind(request), name, self._now())
        self._kick()
        return self._accepted(operation.number, {})

    def _accepted(self, number: int, headers: dict[str, str]) -> Response:
        operation = self.store.operation(number)
        headers["Location"] = f"/v1/operations/{number}"
        return JSONResponse(operation.shown(self._now()), 202, headers=headers)

    async def _operation(self, request: Request) -> Response:
        operation = self.store.operation(request.path_params["number"])
        return JSONResponse(operation.shown(self._now()))

    async def _state(self, request: Request) -> Response:
        name = request.path_params["name"]
        resource = self.store.get("gateways", name)
        instances = []
        for running, instance in self.cloud.instances.items():
            if running.rpartition("-")[0] == name:
                instances.append(
                    {
                        "name": running,
                        "tunnel": tunnel_states(instance.router, self._now()),
                        "session": session_states(instance.router, self._now()),
                        "drop": instance.router.drops.as_data(),
                    }
                )
        return JSONResponse({"name": name, "state": resource.state, "instances": instances})

    async def _drops(self, request: Request) -> Response:
        self.store.get("networks", request.path_params["name"])
        drops = [*self.cloud.drops.as_data(), *self.cloud.hosts.drops()]
        return JSONResponse({"drop": drops})

    async def _probe(self, request: Request) -> Response:
        given: dict[str, Any] = await read_json(request)
        try:
            source, destination = ends_of(given)
            asked = Asked.of(given, destination)
        except UNUSABLE as error:
            raise Problem(422, "not valid", f"the probe is not usable: {error}") from error
        host = find_host(self.cloud.hosts, source)
        result = await probe(host, asked, self._kick, self._now)
        return JSONResponse(
            {
                "answered": result.answered,
                "refused": result.refused,
                "seconds": result.seconds,
                "source_port": result.source_port,
                "too_big": result.too_big,
                "mss": result.mss,
            }
        )
