"""What the practice processes share: a loopback HTTP server with a token, and readiness."""

from __future__ import annotations

import asyncio
import hmac
import json
import os
import socket
from collections.abc import Awaitable, Callable, MutableMapping
from pathlib import Path
from typing import Any

import uvicorn
from starlette.responses import JSONResponse

from obrin.live.files import write_whole
from obrin.live.practice.world import TOKEN_VARIABLE

Scope = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[MutableMapping[str, Any]]]
Send = Callable[[MutableMapping[str, Any]], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]

MAX_BODY = 4 * 1024 * 1024


class Problem(Exception):
    """Answers a request with problem details (RFC 9457)."""

    def __init__(self, status: int, title: str, detail: str) -> None:
        self.status, self.title, self.detail = status, title, detail
        super().__init__(detail)


async def answer_problem(request: Any, problem: Exception) -> JSONResponse:
    """For an application's table of exception handlers."""
    if not isinstance(problem, Problem):
        raise problem
    return problem_response(problem)


def problem_response(problem: Problem) -> JSONResponse:
    return JSONResponse(
        {"status": problem.status, "title": problem.title, "detail": problem.detail},
        problem.status,
        media_type="application/problem+json",
    )


class TokenGuard:
    """Lets requests in that carry the token of this practice world (RFC 6750)."""

    def __init__(self, app: App, token: str) -> None:
        self._app = app
        self._wanted = f"Bearer {token}".encode()

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "http":
            headers = dict(scope["headers"])
            if not hmac.compare_digest(headers.get(b"authorization", b""), self._wanted):
                problem = Problem(401, "not authorised", "the bearer token is missing or wrong")
                await problem_response(problem)(scope, receive, send)
                return
        await self._app(scope, receive, send)


async def read_json(request: Any) -> dict[str, Any]:
    """The request's body as an object. Raises Problem."""
    body = await request.body()
    if len(body) > MAX_BODY:
        raise Problem(413, "too large", f"the body is longer than {MAX_BODY} bytes")
    try:
        data = json.loads(body)
    except ValueError as error:
        raise Problem(400, "not JSON", str(error)) from error
    if not isinstance(data, dict):
        raise Problem(400, "not an object", "the body must be a JSON object")
    return data


async def serve(app: App, folder: Path, name: str, extra: dict[str, Any] | None = None) -> None:
    """Serve on a free loopback port and write `name.json` once it is known."""
    listener = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
    listener.bind(("127.0.0.1", 0))
    guarded = TokenGuard(app, os.environ[TOKEN_VARIABLE])
    config = uvicorn.Config(
        guarded, log_level="warning", access_log=False, lifespan="off", timeout_graceful_shutdown=1
    )
    server = uvicorn.Server(config)
    ready = {"port": listener.getsockname()[1], "pid": os.getpid(), **(extra or {})}
    write_whole(folder / f"{name}.json", json.dumps(ready))
    await server.serve(sockets=[listener])


class Ticker:
    """Calls `pump` whenever the engine behind it is due; engines never see a clock themselves."""

    def __init__(self, pump: Callable[[float], float]) -> None:
        self._pump = pump
        self._handle: asyncio.TimerHandle | None = None

    def now(self) -> float:
        return asyncio.get_running_loop().time()

    def kick(self) -> None:
        """Run the engine now and arm the timer for its next deadline."""
        if self._handle is not None:
            self._handle.cancel()
            self._handle = None
        loop = asyncio.get_running_loop()
        due = self._pump(loop.time())
        if due != float("inf"):
            self._handle = loop.call_at(max(due, loop.time() + 0.001), self.kick)
