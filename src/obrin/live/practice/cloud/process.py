"""The process of the practice cloud: the HTTP API, and the cable to the practice internet."""

from __future__ import annotations

import os
from collections.abc import Collection, Mapping
from functools import partial
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import BaseRoute, Mount, Route

from obrin.core.catalogue.offering import Offered
from obrin.core.quantity import plain
from obrin.core.settled.ways import Attachment as Joining
from obrin.device.cloud.data_plane import Cloud
from obrin.device.lan.hosts import Hosts
from obrin.device.standard.state import circuit_states, session_states, tunnel_states
from obrin.live.practice.clock import wall_clock
from obrin.live.practice.cloud.bodies import KINDS, Attachment
from obrin.live.practice.cloud.data_plane import DataPlane
from obrin.live.practice.cloud.description import openapi
from obrin.live.practice.cloud.store import Store
from obrin.live.practice.cloud.troubles import Throttle, Throttled
from obrin.live.practice.hosts.asked import Asked, ends_of, find_host, probe
from obrin.live.practice.hosts.lending import Lending
from obrin.live.practice.internet.cable import Cable, cable_token
from obrin.live.practice.internet.internet import CLOUD, Dedicated
from obrin.live.practice.service import HANDLERS, UNUSABLE, Problem, Served, Ticker, read_json

MOST_DIGITS = 18
"""Most digits of an operation's number in a request."""

SHARE = 4.0
"""What changes while thousands of things are built reaches the data plane together: the pause after
each time is so many times as long as that took."""


class CloudProcess:
    """`lines` are the dedicated ones: by the name that the cloud has for each, the cable's and the
    port of that."""

    def __init__(
        self,
        cable_port: int,
        lines: Mapping[str, tuple[str, int]],
        speed: float,
        secret: str,
        offering: Offered,
        agreed: Collection[str] | None = None,
    ) -> None:
        self._cable_port = cable_port
        self._line_ports = lines
        self._lines: dict[str, Cable] = {}
        self._secret = secret
        self._dirty = False
        self._take_at = 0.0
        self.store = Store(offering, speed, self._mark, os.urandom(16), agreed)
        self.cloud = Cloud(os.urandom)
        self._data_plane = DataPlane(self.store, wall_clock)
        self._throttle = Throttle()
        self._cable: Cable | None = None
        self._ticker = Ticker(self._pump)

    def _mark(self) -> None:
        self._dirty = True

    async def run(self, served: Served) -> None:
        token = cable_token(self._secret, CLOUD)
        self._cable = Cable(self._cable_port, token, self._arrived, self._kick)
        for way, (line, port) in self._line_ports.items():
            self._plug_in(way, line, port)
        await served.run(self.application())

    def _plug_in(self, way: str, line: str, port: int) -> None:
        token = cable_token(self._secret, Dedicated(line).ends[1])
        came = partial(self._came_across, way)
        self._lines[way] = Cable(port, token, came, self._kick)

    async def _cable_came(self, request: Request) -> Response:
        """The end of one more dedicated line."""
        given = await read_json(request)
        try:
            self._plug_in(str(given["way"]), str(given["circuit"]), int(given["port"]))
        except UNUSABLE as error:
            raise Problem(422, "not a cable", str(error)) from error
        return Response(status_code=204)

    def application(self) -> Throttled:
        """The API."""
        routes: list[BaseRoute] = [
            Route("/v1/openapi.json", self._describe),
            Route("/v1/operations/{number}", self._operation),
            Route("/v1/gateways/{name}/state", self._state),
            Route("/v1/networks/{name}/drops", self._drops),
            Route("/v1/probes", self._probe, methods=["POST"]),
            Route("/v1/cables", self._cable_came, methods=["POST"]),
            Route("/v1/faults", self._faults, methods=["GET"]),
            Route("/v1/faults", self._cut, methods=["POST"]),
            Route("/v1/faults", self._heal, methods=["DELETE"]),
        ]
        for kind in KINDS:
            routes += [
                Route(f"/v1/{kind}", self._list, methods=["GET"], name=f"list-{kind}"),
                Route(f"/v1/{kind}/{{name}}", self._get, methods=["GET"]),
                Route(f"/v1/{kind}/{{name}}", self._put, methods=["PUT"]),
                Route(f"/v1/{kind}/{{name}}", self._delete, methods=["DELETE"]),
                Route(f"/v1/{kind}/{{name}}/acceptance", self._accept, methods=["POST"]),
            ]
        lending = Lending(self._hosts_of, self._kick, self._secret)
        routes.append(Mount("/lent", lending.application()))
        app = Starlette(routes=routes, exception_handlers=HANDLERS)
        return Throttled(app, self._throttle)

    def _hosts_of(self, network: str) -> Hosts:
        found = self.cloud.hosts.get(network)
        if found is None:
            raise Problem(404, "no such network", f"there is no network {network}")
        return found

    # The engine

    def _now(self) -> float:
        return self._ticker.now()

    def _kick(self) -> None:
        self._ticker.kick()

    def _arrived(self, packet: bytes) -> None:
        self.cloud.receive(packet, self._now())

    def _came_across(self, way: str, packet: bytes) -> None:
        self.cloud.receive_across(way, packet, self._now())

    def _pump(self, now: float) -> float:
        self.store.handle_timer(now)
        if self._dirty and now >= self._take_at:
            self._dirty = False
            self.cloud.take(self._data_plane.config(), now)
            self._take_at = now + SHARE * (self._now() - now)
        for packet in self.cloud.pump(now):
            if self._cable is not None:
                self._cable.send(packet)
        for way, packet in self.cloud.across():
            if way in self._lines:
                self._lines[way].send(packet)
        taken = self._take_at if self._dirty else float("inf")
        return min(self.cloud.next_timer(), self.store.next_timer(), taken)

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
        running = self.store.operation_on(resource.kind, resource.name)
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

    async def _accept(self, request: Request) -> Response:
        """What another owner does."""
        resource = self.store.accept(self._kind(request), request.path_params["name"])
        self._kick()
        return JSONResponse(resource.shown(), headers={"ETag": self.store.etag(resource)})

    def _accepted(self, number: int, headers: dict[str, str]) -> Response:
        operation = self.store.operation(number)
        headers["Location"] = f"/v1/operations/{number}"
        return JSONResponse(operation.shown(self._now()), 202, headers=headers)

    async def _operation(self, request: Request) -> Response:
        number = request.path_params["number"]
        if not (number.isascii() and number.isdecimal() and len(number) < MOST_DIGITS):
            raise Problem(404, "no such operation", "operations have numbers, from 1")
        operation = self.store.operation(int(number))
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
                        "circuit": circuit_states(instance.router, self._now()),
                        "session": session_states(instance.router, self._now()),
                        "drop": instance.router.drops.as_data(),
                    }
                )
        return JSONResponse({"name": name, "state": resource.state, "instances": instances})

    async def _drops(self, request: Request) -> Response:
        network = self.store.get("networks", request.path_params["name"]).name
        hosts = self.cloud.hosts.get(network)
        drops = [*self.cloud.drops.as_data(), *(hosts.drops() if hosts is not None else ())]
        return JSONResponse({"drop": drops})

    async def _faults(self, request: Request) -> Response:
        rate = self._throttle.rate
        troubles = [] if rate is None else [f"throttle {plain(rate)} at the cloud"]
        troubles += [f"fail {name} at the cloud" for name in sorted(self.store.failing)]
        return JSONResponse({"attachments": sorted(self.cloud.lost), "cloud_troubles": troubles})

    async def _cut(self, request: Request) -> Response:
        given = await read_json(request)
        if "throttle" in given:
            try:
                self._throttle.set(float(given["throttle"]), self._now())
            except (TypeError, ValueError) as error:
                raise Problem(422, "not a rate", str(error)) from error
        elif "drift" in given:
            kind, _, name = str(given["drift"]).partition("/")
            self.store.alter(kind, name)
        elif "fail" in given:
            self.store.failing.add(str(given["fail"])[:200])
        else:
            found = self.store.get("attachments", str(given.get("attachment"))).body
            if isinstance(found, Attachment):
                self.cloud.lost |= {Joining(found.hub, found.network).label}
        self._kick()
        return Response(status_code=204)

    async def _heal(self, request: Request) -> Response:
        self._throttle.set(None, self._now())
        self.store.heal()
        self.cloud.lost = frozenset()
        self._kick()
        return Response(status_code=204)

    async def _probe(self, request: Request) -> Response:
        given: dict[str, Any] = await read_json(request)
        try:
            source, destination = ends_of(given)
            asked = Asked.of(given, destination)
        except UNUSABLE as error:
            raise Problem(422, "not valid", f"the probe is not usable: {error}") from error
        host = find_host(self.cloud.hosts.values(), source)
        result = await probe(host, asked, self._kick, self._now)
        return JSONResponse(
            {
                "answered": result.answered,
                "refused": result.refused,
                "seconds": result.seconds,
                "source_port": result.source_port,
                "too_big": result.too_big,
                "mss": result.mss,
                "sent_whole": result.sent_whole,
                "received_whole": result.received_whole,
            }
        )
