"""What a cloud offers: capacity classes and rules about subnets, as data."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from obrin.core.address.prefix import Prefix, parse_prefix
from obrin.core.quantity import plain


@dataclass(frozen=True, slots=True, kw_only=True)
class Demand:
    """What a design asks of one gateway; `throughput` in Mbit/s.

    With `after_failure` the throughput must be carried with one instance lost as well.
    """

    throughput: float
    tunnels: int
    bgp: bool
    instances: int
    routes: int = 0
    features: tuple[str, ...] = ()
    after_failure: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class GatewayClass:
    """`throughput` in Mbit/s of all instances together, shared equally, and `per_tunnel` and
    `per_flow` where one tunnel, or one connection in it, gets less than its instance; costs in
    credits; `build_minutes` of simulated time; `subnet_length` of the smallest gateway subnet."""

    name: str
    throughput: float
    tunnels: int
    bgp: bool
    instances: int
    subnet_length: int
    monthly: float
    build_minutes: int
    routes: int = 0
    hourly: float = 0.0
    features: tuple[str, ...] = ()
    per_tunnel: float | None = None
    per_flow: float | None = None

    def lacks(self, asked: Demand) -> str:
        """Why this class cannot serve, or an empty text."""
        if asked.instances > self.instances:
            return f"runs {self.instances} instance, {asked.instances} are asked"
        if asked.after_failure and asked.instances < 2:
            return "cannot carry anything after its only instance is lost; ask for two instances"
        if asked.bgp and not self.bgp:
            return "does not speak BGP"
        for feature in asked.features:
            if feature not in self.features:
                return f"has no {feature}"
        if asked.throughput > self.throughput:
            least = plain(asked.throughput)
            return f"carries {plain(self.throughput)} Mbit/s, {least} Mbit/s are asked"
        left = self.throughput * (asked.instances - 1) / asked.instances
        if asked.after_failure and asked.throughput > left:
            return (
                f"carries {plain(left)} Mbit/s after the loss of an instance, "
                f"{plain(asked.throughput)} Mbit/s are asked"
            )
        if asked.tunnels > self.tunnels:
            return f"holds {self.tunnels} tunnels, {asked.tunnels} are asked"
        if asked.bgp and asked.routes > self.routes:
            return f"holds {self.routes} BGP routes, {asked.routes} are asked"
        return ""


PUBLIC6 = parse_prefix("2001:db8:203::/64")
"""What the practice clouds have, where nothing else is said."""


InPlace = Literal["class", "subnet", "instances"]
IN_PLACE: tuple[InPlace, ...] = "class", "subnet", "instances"
"""What of a gateway changes while it runs, where nothing else is said."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Offering:
    """What of a gateway is not `in_place` (of IN_PLACE) is changed by building it anew.
    `reserved` addresses of every subnet are the cloud's own. `largest_space` and
    `largest_subnet` are the shortest prefix lengths allowed, `smallest_subnet` the longest.
    Nothing may lie in `forbidden`, no inside block in `reserved_inside`."""

    classes: tuple[GatewayClass, ...]
    reserved: int
    public_pool: Prefix
    reserved_inside: tuple[Prefix, ...]
    largest_space: int
    smallest_subnet: int
    largest_subnet: int = 16
    public_pool6: Prefix = PUBLIC6
    forbidden: tuple[Prefix, ...] = ()
    in_place: tuple[InPlace, ...] = IN_PLACE

    def by_cost(self) -> list[GatewayClass]:
        """The cheapest first."""
        return sorted(self.classes, key=lambda c: c.monthly)

    def public(self, bits: int) -> Prefix:
        """The pool that public addresses of a family come from."""
        return self.public_pool if bits == 32 else self.public_pool6

    def find_class(self, name: str) -> GatewayClass | None:
        return next((c for c in self.classes if c.name == name), None)

    def of(self, cloud: str) -> Offering:
        """The same for every cloud."""
        return self


@dataclass(frozen=True, slots=True)
class Offerings:
    """Several: `usual` for all clouds but those that have one of their own, by name."""

    usual: Offering
    own: Mapping[str, Offering]

    def of(self, cloud: str) -> Offering:
        return self.own.get(cloud, self.usual)

    @property
    def forbidden(self) -> tuple[Prefix, ...]:
        """What any of the clouds forbids."""
        return tuple(dict.fromkeys(p for found in self._all() for p in found.forbidden))

    @property
    def reserved_inside(self) -> tuple[Prefix, ...]:
        """What any of the clouds keeps inside tunnels."""
        return tuple(dict.fromkeys(p for found in self._all() for p in found.reserved_inside))

    def _all(self) -> tuple[Offering, ...]:
        return self.usual, *self.own.values()


Offered = Offering | Offerings
"""What the clouds of a design offer, all the same or each its own."""


_FEATURES = ("both-active", "certificates", "translation", "zones")

PRACTICE_CLOUD = Offering(
    classes=(
        GatewayClass(
            name="punt",
            throughput=100,
            tunnels=4,
            bgp=False,
            instances=1,
            subnet_length=29,
            monthly=20,
            build_minutes=10,
            routes=0,
            hourly=0.03,
        ),
        GatewayClass(
            name="cutter",
            throughput=500,
            tunnels=20,
            bgp=True,
            instances=2,
            subnet_length=28,
            monthly=110,
            build_minutes=20,
            routes=200,
            hourly=0.16,
            features=_FEATURES[:2],
        ),
        GatewayClass(
            name="packet",
            throughput=2_000,
            tunnels=200,
            bgp=True,
            instances=2,
            subnet_length=27,
            monthly=340,
            build_minutes=30,
            routes=4_000,
            hourly=0.48,
            features=_FEATURES,
        ),
        GatewayClass(
            name="liner",
            throughput=10_000,
            tunnels=10_000,
            bgp=True,
            instances=2,
            subnet_length=26,
            monthly=1_250,
            build_minutes=40,
            routes=100_000,
            hourly=1.8,
            features=_FEATURES,
        ),
    ),
    reserved=4,
    public_pool=parse_prefix("203.0.113.0/24"),
    reserved_inside=tuple(
        map(parse_prefix, ("169.254.0.0/24", "169.254.169.0/24", "169.254.255.0/24"))
    ),
    largest_space=12,
    smallest_subnet=29,
    largest_subnet=16,
    forbidden=tuple(
        map(
            parse_prefix,
            (
                "0.0.0.0/8",
                "127.0.0.0/8",
                "169.254.0.0/16",
                "224.0.0.0/4",
                "240.0.0.0/4",
                "::/8",
                "fe80::/10",
                "ff00::/8",
            ),
        )
    ),
)
