"""What a cloud offers: capacity classes and rules about subnets, as data."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.address.prefix import Prefix, parse_prefix


@dataclass(frozen=True, slots=True)
class Demand:
    """What a design asks of one gateway; `throughput` in Mbit/s."""

    throughput: float
    tunnels: int
    bgp: bool
    instances: int


@dataclass(frozen=True, slots=True)
class GatewayClass:
    """`throughput` in Mbit/s, `monthly` in credits, `build_minutes` of simulated time."""

    name: str
    throughput: float
    tunnels: int
    bgp: bool
    instances: int
    subnet_length: int
    monthly: int
    build_minutes: int

    def lacks(self, asked: Demand) -> str:
        """Why this class cannot serve, or an empty text."""
        if asked.throughput > self.throughput:
            return f"carries {self.throughput:g} Mbit/s, {asked.throughput:g} Mbit/s are asked"
        if asked.tunnels > self.tunnels:
            return f"holds {self.tunnels} tunnels, {asked.tunnels} are asked"
        if asked.instances > self.instances:
            return f"runs {self.instances} instance, {asked.instances} are asked"
        if asked.bgp and not self.bgp:
            return "does not speak BGP"
        return ""


@dataclass(frozen=True, slots=True)
class Offering:
    """`reserved` addresses of every subnet are the cloud's own."""

    classes: tuple[GatewayClass, ...]
    reserved: int
    public_pool: Prefix
    reserved_inside: tuple[Prefix, ...]
    largest_space: int
    smallest_subnet: int


PRACTICE_CLOUD = Offering(
    classes=(
        GatewayClass("punt", 100, 4, False, 1, 29, 20, 10),
        GatewayClass("cutter", 500, 20, True, 2, 28, 110, 20),
        GatewayClass("packet", 2_000, 200, True, 2, 27, 340, 30),
        GatewayClass("liner", 10_000, 10_000, True, 2, 26, 1_250, 40),
    ),
    reserved=4,
    public_pool=parse_prefix("203.0.113.0/24"),
    reserved_inside=tuple(
        map(parse_prefix, ("169.254.0.0/24", "169.254.169.0/24", "169.254.255.0/24"))
    ),
    largest_space=16,
    smallest_subnet=29,
)
