"""A practice gateway as an endpoint of its own: RESTCONF (RFC 8040) outside, a site inside.

It knows nothing of the design: what its pack's standard data and keys say is all it has.
"""

from __future__ import annotations

import hmac
import json
import os
from collections.abc import Sequence
from datetime import timedelta
from functools import partial
from typing import Any

from starlette.applications import Starlette
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Mount, Route

from obrin.core.address.prefix import Address
from obrin.core.errors import ObrinError
from obrin.core.handover.standard.device import decode
from obrin.core.handover.standard.device import encode as encode_config
from obrin.core.handover.standard.keys import CONTAINER as KEYS
from obrin.core.handover.standard.keys import decode as decode_keys
from obrin.core.handover.standard.operational import (
    INTERFACES,
    ROUTING,
    DeviceState,
    merged,
)
from obrin.core.handover.standard.operational import encode as encode_state
from obrin.core.quantity import plain
from obrin.device.lan.hosts import Hosts
from obrin.device.lan.site import Site
from obrin.device.standard import from_standard
from obrin.device.standard.credentials import judge_certificate
from obrin.device.standard.operational import operational_state
from obrin.live.practice.faults import AHEAD, BEHIND, FULL, FULL_WORDS, retyped
from obrin.live.practice.gateway.description import openapi
from obrin.live.practice.gateway.site_process import SiteProcess
from obrin.live.practice.hosts.asked import Asked, ends_of, find_host, probe, seconds_of, stream
from obrin.live.practice.hosts.lending import Lending
from obrin.live.practice.service import HANDLERS, UNUSABLE, Problem, Served, read_json
from obrin.live.standard_modules import StandardDataError, data_model, validate

YANG_JSON = "application/yang-data+json"
STATE = "obrin-observe:state"
CLOCK = "%Y-%m-%dT%H:%M:%SZ"


class GatewayProcess:
    """One gateway of a site."""

    def __init__(self, name: str, site: SiteProcess) -> None:
        self.name = name
        self._around = site
        self._wall = partial(site.wall, name)
        self._config: dict[str, Any] = {}
        self._keys: dict[str, Any] = {}
        self._etag_key = os.urandom(16)
        self._full = False
        self._since = 0.0
        self._retyped: tuple[dict[str, Any], dict[str, Any]] | None = None
        """What it had before somebody changed it by hand, and what it has since."""

    @property
    def _site(self) -> Site:
        return self._around.gateways[self.name]

    def troubles(self) -> Starlette:
        """The door for what is wrong with it on purpose."""
        return Starlette(
            routes=[
                Route("/", self._troubled, methods=["GET"]),
                Route("/", self._trouble, methods=["POST"]),
                Route("/", self._heal, methods=["DELETE"]),
            ],
            exception_handlers=HANDLERS,
        )

    async def _troubled(self, request: Request) -> Response:
        wrong = self._around.clock_wrong(self.name)
        words = [FULL] if self._full else []
        if wrong:
            words.append(f"{AHEAD if wrong > 0 else BEHIND} {plain(abs(wrong))}s")
        return JSONResponse({"troubles": [f"{text} at {self.name}" for text in words]})

    async def _trouble(self, request: Request) -> Response:
        given = await read_json(request)
        if "clock" in given:
            try:
                self._around.set_clock(self.name, timedelta(seconds=float(given["clock"])))
            except UNUSABLE as error:
                raise Problem(422, "not a time", str(error)) from error
        elif "restart" in given:
            self._around.restart(self.name)
        elif "full" in given:
            self._full = True
        elif "retype" in given:
            try:
                decoded = retyped(decode(self._config), str(given["retype"]))
            except UNUSABLE as error:
                raise Problem(422, "nothing to change", str(error)) from error
            before = self._config if self._retyped is None else self._retyped[0]
            self._apply(encode_config(decoded), self._keys)
            self._retyped = before, self._config
        else:
            raise Problem(422, "nothing to do", "give 'clock', 'restart', 'retype' or 'full'")
        return Response(status_code=204)

    async def _heal(self, request: Request) -> Response:
        self._around.set_clock(self.name, timedelta())
        self._full = False
        if self._retyped is not None and self._retyped[1] == self._config:
            self._apply(self._retyped[0], self._keys)
        self._retyped = None
        return Response(status_code=204)

    def application(self) -> Starlette:
        """The RESTCONF server of this gateway."""
        return Starlette(
            routes=[
                Route("/.well-known/host-meta", self._host_meta),
                Route("/openapi.json", self._describe),
                Route("/restconf", self._root),
                Route("/restconf/data", self._get_all, methods=["GET"]),
                Route("/restconf/data", self._put_all, methods=["PUT"]),
                Route("/restconf/data/{top}", self._get, methods=["GET"]),
                Route("/restconf/data/{top}", self._put, methods=["PUT"]),
                Route("/restconf/operations/{name}", self._operate, methods=["POST"]),
            ],
            exception_handlers={Problem: _restconf_error, HTTPException: _restconf_error},
        )

    def _apply(self, config: dict[str, Any], keys: dict[str, Any]) -> None:
        """Take a configuration and keys: judged and built aside, then swapped in whole.

        Raises Problem, and then nothing has changed. Without its keys it is kept and waits.
        """
        if self._full:
            raise Problem(409, "resource-denied", FULL_WORDS)
        try:
            decoded, secrets = decode(config), decode_keys(keys)
            if secrets.certificate is not None:
                judge_certificate(secrets.certificate, self._wall)
            if from_standard.complete(decoded, secrets):
                made = from_standard.router_from(decoded, secrets, self._wall)
                self._around.take(self.name, made, from_standard.uplinks(decoded))
        except (*UNUSABLE, ObrinError) as error:
            raise Problem(400, "invalid-value", f"cannot be applied: {error}") from error
        self._config, self._keys = config, keys

    # RESTCONF

    async def _host_meta(self, request: Request) -> Response:
        text = (
            "<XRD xmlns='http://docs.oasis-open.org/ns/xri/xrd-1.0'>"
            "<Link rel='restconf' href='/restconf'/></XRD>"
        )
        return Response(text, media_type="application/xrd+xml")

    async def _describe(self, request: Request) -> Response:
        return JSONResponse(openapi())

    async def _root(self, request: Request) -> Response:
        root = {"data": {}, "operations": {}, "yang-library-version": "2016-06-21"}
        return _yang({"ietf-restconf:restconf": root})

    async def _get_all(self, request: Request) -> Response:
        data = {**self._config, STATE: self._state()}
        return _yang({"ietf-restconf:data": data}, {"ETag": self._etag()})

    def _etag(self) -> str:
        """RFC 8040 section 3.4.1.2. Keyed, so that it shows nothing about the keys in it."""
        text = json.dumps([self._config, self._keys], sort_keys=True)
        return '"' + hmac.new(self._etag_key, text.encode(), "sha256").hexdigest()[:24] + '"'

    async def _put_all(self, request: Request) -> Response:
        body = await read_json(request)
        data = body.get("ietf-restconf:data")
        if not isinstance(data, dict) or KEYS in data:
            raise Problem(400, "invalid-value", "ietf-restconf:data without keys is expected")
        _validated(data)
        created = not self._config
        if self._config != data:
            self._apply(data, self._keys)
        return Response(status_code=201 if created else 204)

    def operational(self) -> DeviceState:
        """What it reports in the standard tables."""
        decoded = decode(self._config).interfaces if self._config else ()
        return operational_state(self._site.router, decoded, self._around.now())

    def _with_state(self, top: str, content: str) -> dict[str, Any]:
        """RFC 8040 section 4.8.1."""
        found: dict[str, Any] = {} if content == "nonconfig" else self._config.get(top, {})
        if content == "config":
            return found
        state = encode_state(self.operational(), self._wall(self._since).strftime(CLOCK))[top]
        return merged(found, state)

    async def _get(self, request: Request) -> Response:
        top = request.path_params["top"]
        if top in (INTERFACES, ROUTING):
            content = request.query_params.get("content", "all")
            if content not in ("all", "config", "nonconfig"):
                raise Problem(400, "invalid-value", "content is all, config or nonconfig")
            return _yang({top: self._with_state(top, content)})
        if top == KEYS:
            raise Problem(403, "access-denied", "keys can be set, not read")
        if top == STATE:
            return _yang({STATE: self._state()})
        if top not in self._config:
            raise Problem(404, "invalid-value", f"there is no {top}")
        return _yang({top: self._config[top]})

    async def _put(self, request: Request) -> Response:
        top = request.path_params["top"]
        body = await read_json(request)
        if set(body) != {top}:
            raise Problem(400, "invalid-value", f"the body must hold {top} and nothing else")
        if top == KEYS:
            _validated(body)
            created = not self._keys
            if self._keys != body:
                self._apply(self._config, body)
            return Response(status_code=201 if created else 204)
        changed = {**self._config, **body}
        _validated(changed)
        created = top not in self._config
        self._apply(changed, self._keys)
        return Response(status_code=201 if created else 204)

    def _state(self) -> dict[str, Any]:
        now = self._around.now()
        clock = self._wall(now).strftime(CLOCK)
        return {"current-datetime": clock, **self._site.state(now)}

    async def _operate(self, request: Request) -> Response:
        name = request.path_params["name"]
        module = name.partition(":")[0]
        given = (await read_json(request)).get(f"{module}:input", {})
        try:
            if not isinstance(given, dict):
                raise TypeError(f"{module}:input is not an object")
            if name == "obrin-ipsec:begin-anew":
                self._around.begin_anew(self.name, given["tunnel"])
                return Response(status_code=204)
            source, destination = ends_of(given)
            if name == "obrin-observe:probe":
                output = await self._probe(given, source, destination)
            elif name == "obrin-observe:stream":
                output = await self._stream(given, source, destination)
            else:
                raise Problem(404, "invalid-value", f"there is no operation {name}")
        except UNUSABLE as error:
            raise Problem(400, "invalid-value", f"the input is not usable: {error}") from error
        return _yang({"obrin-observe:output": output})

    async def _probe(
        self, given: dict[str, Any], source: Address, destination: Address
    ) -> dict[str, Any]:
        host, asked = find_host([self._site.hosts], source), Asked.of(given, destination)
        result = await probe(host, asked, self._around.kick, self._around.now)
        return {
            "answered": result.answered,
            "refused": result.refused,
            "seconds": f"{result.seconds:.6f}",
            "source-port": result.source_port,
            "too-big": result.too_big,
            "mss": result.mss,
            "sent-whole": result.sent_whole,
            "received-whole": result.received_whole,
        }

    async def _stream(
        self, given: dict[str, Any], source: Address, destination: Address
    ) -> dict[str, Any]:
        result = await stream(
            find_host([self._site.hosts], source),
            destination,
            seconds_of(given, "interval", 0.005, 60.0),
            seconds_of(given, "duration", 0.0, 120.0),
            self._around.kick,
            self._around.now,
        )
        return {
            "sent": result.sent,
            "answered": result.answered,
            "longest-gap": f"{result.longest_gap:.6f}",
        }


async def run_gateways(sites: Sequence[SiteProcess], served: Served, *, snmp: bool) -> None:
    """The gateways of several sites in one process, each below /gateways/NAME; with `snmp`, each
    with an agent at a port of its own."""
    data_model()  # loaded before the gateways say that they are ready
    app = Starlette(exception_handlers=HANDLERS)
    houses = [_House(site, app, snmp=snmp) for site in sites]
    agents = {name: port for house in houses for name, port in house.agents.items()}
    await served.run(app, {"agents": agents})


class _House:
    """The doors of a site and of its gateways, below those of a process."""

    def __init__(self, site: SiteProcess, app: Starlette, *, snmp: bool) -> None:
        self._site, self._app, self._snmp = site, app, snmp
        self.agents: dict[str, int] = {}
        site.plug_in()
        lending = Lending(partial(_hosts_of, site), site.kick, site.secret)
        more = Route("/", self._grow, methods=["POST"])
        self._of_site = {
            "lent": lending.application(),
            "sites": Starlette(routes=[more], exception_handlers=HANDLERS),
        }
        for name in site.gateways:
            self._open(name)

    def _add(self, mount: Mount) -> None:
        self._app.router.routes.append(mount)

    def _open(self, name: str) -> None:
        gateway = GatewayProcess(name, self._site)
        self._add(Mount(f"/gateways/{name}", gateway.application()))
        self._add(Mount(f"/troubles/{name}", gateway.troubles()))
        for door, application in self._of_site.items():
            self._add(Mount(f"/{door}/{name}", application))
        if self._snmp:
            self.agents[name] = _agent_of(gateway, self._site.secret)

    async def _grow(self, request: Request) -> Response:
        """Further cables of a gateway, which may be a new one of the site."""
        given = await read_json(request)
        try:
            name = str(given["gateway"])
            uplinks, lines = (
                {str(key): int(port) for key, port in given[kind].items()}
                for kind in ("uplinks", "circuits")
            )
        except UNUSABLE as error:
            raise Problem(422, "not a gateway", str(error)) from error
        new = name not in self._site.gateways
        self._site.plug_more(name, uplinks, lines)
        if new:
            self._open(name)
        return JSONResponse({"agent": self.agents.get(name)}, 201)


def _agent_of(gateway: GatewayProcess, secret: str) -> int:
    """The port of its agent, for which only who wants one loads the library."""
    from obrin.live.practice.gateway.agent import Agent
    from obrin.wire.mib.device import encode

    return Agent(lambda: encode(gateway.operational()), secret).port


def _hosts_of(site: SiteProcess, network: str) -> Hosts:
    """All of a site are on one LAN."""
    return site.hosts


def _validated(data: dict[str, Any]) -> None:
    try:
        validate(data)
    except StandardDataError as error:
        raise Problem(400, "invalid-value", str(error)) from error


def _yang(data: dict[str, Any], headers: dict[str, str] | None = None) -> Response:
    return JSONResponse(data, headers=headers, media_type=YANG_JSON)


async def _restconf_error(request: Request, problem: Exception) -> Response:
    """RFC 8040 section 7.1."""
    if isinstance(problem, HTTPException):
        problem = Problem(problem.status_code, "invalid-value", problem.detail)
    if not isinstance(problem, Problem):
        raise problem
    error = {
        "error-type": "application",
        "error-tag": problem.title if "-" in problem.title else "invalid-value",
        "error-message": problem.detail,
    }
    body = {"ietf-restconf:errors": {"error": [error]}}
    return JSONResponse(body, problem.status, media_type=YANG_JSON)
