"""Troubles of the practice cloud, on purpose: it takes only so many requests, and what it builds
fails halfway."""

from __future__ import annotations

import math

from starlette.types import ASGIApp, Receive, Scope, Send

from obrin.core.quantity import plain
from obrin.live.practice.cloud.bodies import Body, Filter, Subnet, Tunnel, Way
from obrin.live.practice.service import Problem, problem_response

DOOR = "/v1/faults"
"""Where troubles are made and ended; it is always open."""


class Throttle:
    """Limit to so many requests in a second, in bursts of as many; None for any number. What is
    too much is answered with when to come again (RFC 6585 section 4)."""

    def __init__(self) -> None:
        self.rate: float | None = None
        self._left, self._since = 0.0, 0.0

    def set(self, rate: float | None, now: float) -> None:
        """Raises ValueError for a rate that cannot be."""
        if rate is not None and not 0.1 <= rate <= 1000:
            raise ValueError(f"{plain(rate)} requests in a second is not between 0.1 and 1000")
        self.rate = rate
        self._left, self._since = 1.0, now

    def wait(self, now: float) -> float:
        """Seconds until a request is taken; 0 when it is taken now."""
        if self.rate is None:
            return 0.0
        most = max(self.rate, 1.0)
        self._left = min(most, self._left + (now - self._since) * self.rate)
        self._since = now
        if self._left >= 1.0:
            self._left -= 1.0
            return 0.0
        return (1.0 - self._left) / self.rate


class Throttled:
    """An application behind it."""

    def __init__(self, app: ASGIApp, throttle: Throttle) -> None:
        self._app, self._throttle = app, throttle

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        import asyncio

        wait = 0.0
        if scope["type"] == "http" and scope["path"] != DOOR:
            wait = self._throttle.wait(asyncio.get_running_loop().time())
        if not wait:
            await self._app(scope, receive, send)
            return
        answer = problem_response(Problem(429, "too many requests", "come again a little later"))
        answer.headers["Retry-After"] = str(max(1, math.ceil(wait)))
        await answer(scope, receive, send)


def altered(body: Body) -> Body | None:
    """Change it as somebody would who means well: another liveness, a route that is not propagated
    any more, a rule less. None where there is nothing of the kind."""
    if isinstance(body, Tunnel):
        live = body.liveness.model_copy(update={"delay": body.liveness.delay + 5})
        return body.model_copy(update={"liveness": live})
    if isinstance(body, Way):
        return body.model_copy(update={"metric": body.metric + 10})
    if isinstance(body, Subnet):
        return body.model_copy(update={"propagation": not body.propagation})
    if isinstance(body, Filter) and body.rules:
        return body.model_copy(update={"rules": body.rules[:-1]})
    return None
