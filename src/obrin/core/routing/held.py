"""What routers end up with: the values that the stable state is made of."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.address.prefix import Prefix
from obrin.core.errors import ObrinError
from obrin.core.routing.decision import Decision
from obrin.core.routing.forwarding import Route, RouteKind
from obrin.core.routing.path import Path
from obrin.core.routing.session import Session

Offer = tuple[Session, Path]


class UnstableError(ObrinError):
    """Routers that each prefer the other's routes never come to rest."""


@dataclass(frozen=True, slots=True)
class Held:
    """What a router has for a class of prefixes and would pass on. `others` share with `via`;
    `internal`: it was learned from an internal peer."""

    path: Path
    via: str
    others: tuple[str, ...] = ()
    metric: int | None = None
    internal: bool = False

    def route(self, prefix: Prefix) -> Route:
        kind = RouteKind.BGP if self.metric is None else RouteKind.STATIC
        return Route(prefix, kind, self.via, self.metric or 0, self.others)


@dataclass(frozen=True, slots=True)
class Heard:
    """Everything that one router hears of one prefix: static routes, the decision among what is
    advertised, and what is refused, each with the way that it comes by."""

    static: tuple[Session, ...]
    decision: Decision | None
    refused: tuple[tuple[Session, str], ...]
