"""What the practice processes share: a loopback HTTP server with a token, and readiness."""

from __future__ import annotations

import asyncio
import hmac
import json
import os
import re
import socket
from collections.abc import Awaitable, Callable, MutableMapping
from pathlib import Path
from typing import Any

import uvicorn
from starlette.exceptions import HTTPException
from starlette.responses import JSONResponse, PlainTextResponse, Response

from obrin.live.files import write_whole
from obrin.live.practice.record import proof_of

Scope = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[MutableMapping[str, Any]]]
Send = Callable[[MutableMapping[str, Any]], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]

MAX_BODY = 4 * 1024 * 1024
MAX_DEPTH = 40
UNUSABLE = (ArithmeticError, AttributeError, LookupError, TypeError, ValueError, StopIteration)
"""What values that cannot be used raise on their way into the engines."""
PROOF = "/v1/proof/"
MAX_NONCE = 100


class Problem(Exception):
    """Answers a request with problem details (RFC 9457)."""

    def __init__(self, status: int, title: str, detail: str) -> None:
        self.status, self.title, self.detail = status, title, detail
        super().__init__(detail)


async def answer_problem(request: Any, problem: Exception) -> JSONResponse:
    """Answer a Problem; an entry for an application's table of exception handlers."""
    if not isinstance(problem, Problem):
        raise problem
    return problem_response(problem)


async def answer_framework(request: Any, problem: Exception) -> JSONResponse:
    """What the framework refuses itself (no such path, another method), in the same form."""
    if not isinstance(problem, HTTPException):
        raise problem
    answer = problem_response(Problem(problem.status_code, problem.detail.lower(), problem.detail))
    answer.headers.update(problem.headers or {})
    return answer


HANDLERS: Any = {Problem: answer_problem, HTTPException: answer_framework}


def problem_response(problem: Problem) -> JSONResponse:
    return JSONResponse(
        {"status": problem.status, "title": problem.title, "detail": problem.detail},
        problem.status,
        media_type="application/problem+json",
    )


class TokenGuard:
    """Lets requests in that carry the token of this practice world (RFC 6750).

    Two paths are its own: anybody may ask for a proof of what this is (record.py), and who has the
    token may end the process.
    """

    def __init__(self, app: App, served: Served) -> None:
        self._app = app
        self._served = served

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        method, path = scope["method"], scope["path"]
        if method == "GET" and path.startswith(PROOF) and len(path) < MAX_NONCE:
            nonce = path.removeprefix(PROOF)
            await PlainTextResponse(self._served.prove(nonce))(scope, receive, send)
            return
        given = [value for name, value in scope["headers"] if name == b"authorization"]
        if len(given) != 1 or not self._served.authorised(given[0]):
            problem = Problem(401, "not authorised", "the bearer token is missing or wrong")
            await problem_response(problem)(scope, receive, send)
        elif (method, path) == ("DELETE", "/v1/process"):
            self._served.end()
            await Response(status_code=204)(scope, receive, send)
        else:
            await self._app(scope, receive, send)


async def read_json(request: Any) -> dict[str, Any]:
    """The request's body as an object, of bounded size and depth. Raises Problem.

    What it holds can be encoded again: no NaN, no numbers without end, no half of a surrogate pair.
    """
    body = await _read_body(request)
    try:
        if _depth(body) > MAX_DEPTH:
            raise Problem(400, "too deep", f"JSON of more than {MAX_DEPTH} levels")
        data = json.loads(body, parse_constant=_no_constant)
        json.dumps(data, ensure_ascii=False).encode()
    except (ValueError, RecursionError) as error:
        raise Problem(400, "not JSON", str(error)[:200]) from error
    if not isinstance(data, dict):
        raise Problem(400, "not an object", "the body must be a JSON object")
    return data


async def _read_body(request: Any) -> bytes:
    """Never more than the limit is held, whatever the header says."""
    said = request.headers.get("content-length", "0")
    parts, size = [], 0 if len(said) < 12 else MAX_BODY + 1
    if said.isdecimal() and len(said) < 12:
        size = int(said) if int(said) > MAX_BODY else 0
    if size <= MAX_BODY:
        async for part in request.stream():
            size += len(part)
            if size > MAX_BODY:
                break
            parts.append(part)
    if size > MAX_BODY:
        raise Problem(413, "too large", f"the body is longer than {MAX_BODY} bytes")
    return b"".join(parts)


def _no_constant(name: str) -> Any:
    raise ValueError(f"{name} is not a JSON number")


def _depth(body: bytes) -> int:
    """How deep brackets nest outside strings."""
    deepest = level = 0
    for match in _BRACKETS.finditer(body):
        mark = match[0]
        if mark in (b"[", b"{"):
            level += 1
            deepest = max(deepest, level)
        elif mark in (b"]", b"}"):
            level -= 1
    return deepest


_BRACKETS = re.compile(rb'"(?:[^"\\]|\\.)*"|[\[\]{}]', re.DOTALL)


class Served:
    """Serves one process's applications on a free loopback port; says where in `name.json`."""

    def __init__(self, folder: Path, name: str, token: str) -> None:
        self._folder = folder
        self._name = name
        self._token = token
        self._server: uvicorn.Server | None = None

    async def run(self, app: App, extra: dict[str, Any] | None = None) -> None:
        """Serve until a client with the token asks for the end, or the process gets a signal to
        end."""
        listener = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
        listener.bind(("127.0.0.1", 0))
        listener.listen()  # before anybody reads the port: who connects at once waits
        config = uvicorn.Config(
            TokenGuard(app, self),
            log_level="warning",
            access_log=False,
            lifespan="off",
            timeout_graceful_shutdown=1,
        )
        self._server = uvicorn.Server(config)
        ready = {"port": listener.getsockname()[1], "pid": os.getpid(), **(extra or {})}
        write_whole(self._folder / f"{self._name}.json", json.dumps(ready))
        await self._server.serve(sockets=[listener])

    def authorised(self, header: bytes) -> bool:
        return hmac.compare_digest(header, f"Bearer {self._token}".encode())

    def prove(self, nonce: str) -> str:
        return proof_of(self._token, self._folder, nonce)

    def end(self) -> None:
        if self._server is not None:
            self._server.should_exit = True


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
