"""A cloud's offering as a file that users may write: classes, and rules about subnets."""

from __future__ import annotations

import json
from typing import Any

from pydantic import Field, ValidationError

from obrin.core.address.prefix import Prefix
from obrin.core.catalogue.offering import IN_PLACE, PUBLIC6, GatewayClass, InPlace, Offering
from obrin.core.design.document import problems_of
from obrin.core.design.positions import Locator
from obrin.core.design.reader import read_values
from obrin.core.design.values import (
    Ipv4PrefixText,
    Ipv6PrefixText,
    Megabits,
    Name,
    PrefixText,
    format_rate,
)
from obrin.core.design.wishes import Entity
from obrin.core.errors import DesignError, Problem


class ClassEntry(Entity):
    """A capacity class."""

    throughput: Megabits = Field(description="Throughput of all instances together.")
    per_tunnel: Megabits | None = Field(
        None, alias="per-tunnel", description="Most that one tunnel carries."
    )
    per_flow: Megabits | None = Field(
        None, alias="per-flow", description="Most that one connection gets."
    )
    tunnels: int = Field(ge=1, description="Most tunnels.")
    routes: int = Field(0, ge=0, description="Most BGP routes.")
    bgp: bool = Field(True, description="Whether it speaks BGP.")
    instances: int = Field(2, ge=1, le=2, description="Most instances.")
    subnet: int = Field(ge=8, le=29, description="Prefix length of the smallest gateway subnet.")
    features: list[Name] = Field(default_factory=list, description="What else it can do.")
    monthly: float = Field(ge=0, description="Credits a month.")
    hourly: float = Field(0.0, ge=0, description="Credits an hour.")
    build_minutes: int = Field(
        30, ge=0, alias="build-minutes", description="Time to build, in minutes."
    )


class OfferingFile(Entity):
    """Everything that a cloud offers and demands."""

    classes: dict[Name, ClassEntry] = Field(min_length=1)
    public_pool: Ipv4PrefixText = Field(alias="public-pool")
    public_pool6: Ipv6PrefixText = Field(PUBLIC6, alias="public-pool6")
    reserved: int = Field(4, ge=0, le=64, description="Addresses of every subnet it keeps.")
    largest_space: int = Field(12, ge=1, le=29, alias="largest-space")
    largest_subnet: int = Field(16, ge=1, le=30, alias="largest-subnet")
    smallest_subnet: int = Field(29, ge=1, le=30, alias="smallest-subnet")
    forbidden: list[PrefixText] = Field(default_factory=list)
    in_place: list[InPlace] = Field(
        default_factory=lambda: list(IN_PLACE),
        alias="in-place",
        description="What of a gateway changes while it runs. For the rest it is built anew.",
    )
    reserved_inside: list[PrefixText] = Field(default_factory=list, alias="reserved-inside")


def parse_offering(text: str, source: str) -> Offering:
    """Raises DesignError with every mistake, at file:line:column."""
    values = read_values(text, source)
    locator = Locator(text, source)
    if not isinstance(values, dict):
        fix = "Start one with 'obrin classes --write FILE'"
        raise DesignError([Problem(source, "the file is not a mapping of keys", fix)])
    try:
        entry = OfferingFile.model_validate(values)
    except ValidationError as error:
        raise DesignError(problems_of(error, values, locator.where, OfferingFile)) from None
    if entry.smallest_subnet < entry.largest_subnet:
        where = locator.where(("smallest-subnet",))
        what = f"the smallest subnet (/{entry.smallest_subnet}) is larger than the largest"
        raise DesignError([Problem(where, what, "Swap the two lengths")])
    return Offering(
        classes=tuple(
            GatewayClass(
                name=name,
                throughput=c.throughput,
                tunnels=c.tunnels,
                bgp=c.bgp,
                instances=c.instances,
                subnet_length=c.subnet,
                monthly=c.monthly,
                build_minutes=c.build_minutes,
                routes=c.routes,
                hourly=c.hourly,
                features=tuple(c.features),
                per_tunnel=c.per_tunnel,
                per_flow=c.per_flow,
            )
            for name, c in entry.classes.items()
        ),
        reserved=entry.reserved,
        public_pool=entry.public_pool,
        public_pool6=entry.public_pool6,
        reserved_inside=tuple(entry.reserved_inside),
        largest_space=entry.largest_space,
        smallest_subnet=entry.smallest_subnet,
        largest_subnet=entry.largest_subnet,
        forbidden=tuple(entry.forbidden),
        in_place=tuple(entry.in_place),
    )


def format_offering(offering: Offering) -> str:
    """Text that `parse_offering` reads back."""

    def lines(prefixes: tuple[Prefix, ...]) -> str:
        return json.dumps([str(p) for p in prefixes])

    def row(entry: GatewayClass) -> str:
        values: dict[str, Any] = {
            "throughput": format_rate(entry.throughput),
            "tunnels": entry.tunnels,
            "routes": entry.routes,
            "bgp": entry.bgp,
            "instances": entry.instances,
            "subnet": entry.subnet_length,
            "features": list(entry.features),
            "monthly": entry.monthly,
            "hourly": entry.hourly,
            "build-minutes": entry.build_minutes,
        }
        for key, most in (("per-tunnel", entry.per_tunnel), ("per-flow", entry.per_flow)):
            if most is not None:
                values[key] = format_rate(most)
        inside = "".join(f"    {key}: {json.dumps(value)}\n" for key, value in values.items())
        return f"  {entry.name}:\n{inside}"

    return (
        "# What the cloud offers and demands. Name this file in the design: 'offering: FILE'.\n"
        "classes:\n"
        + "".join(map(row, offering.classes))
        + f"public-pool: {offering.public_pool}\n"
        f"public-pool6: {offering.public_pool6}\n"
        f"reserved: {offering.reserved}            # addresses of every subnet that it keeps\n"
        f"largest-space: {offering.largest_space}      # prefix lengths\n"
        f"largest-subnet: {offering.largest_subnet}\n"
        f"smallest-subnet: {offering.smallest_subnet}\n"
        f"forbidden: {lines(offering.forbidden)}\n"
        f"in-place: {json.dumps(list(offering.in_place))}    # the rest is built anew\n"
        f"reserved-inside: {lines(offering.reserved_inside)}\n"
    )
