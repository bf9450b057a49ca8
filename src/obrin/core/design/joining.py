"""What a design says about hubs, circuits and the route tables of cloud networks."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BeforeValidator, Field, PlainSerializer, WithJsonSchema

from obrin.core.address.prefix import Prefix
from obrin.core.design.timers import BfdSpec
from obrin.core.design.values import (
    Ipv4PrefixText,
    Ipv6PrefixText,
    Megabits,
    Name,
    Seconds,
    parse_prefix_text,
)
from obrin.core.design.wishes import Acceptance, Entity, OtherOwner

NOWHERE, GATEWAY = "nowhere", "gateway"
SITE = "site"
InsideFirst = Annotated[
    Literal["cloud", "site"],
    Field(alias="inside-first", description="Which end has the first host of its blocks."),
]
_Targets = dict[Prefix, str]


def _targets(value: object) -> _Targets:
    if not isinstance(value, dict):
        raise ValueError("write each route as 'prefix: target', such as 0.0.0.0/0: nowhere")
    return {parse_prefix_text(prefix): str(target) for prefix, target in value.items()}


Targets = Annotated[
    _Targets,
    BeforeValidator(_targets),
    PlainSerializer(lambda found: {str(p): t for p, t in found.items()}, return_type=dict),
    WithJsonSchema(
        {
            "type": "object",
            "propertyNames": {"pattern": r"^[0-9.]+/[0-9]+$"},
            "additionalProperties": {"type": "string"},
            "examples": [{"0.0.0.0/0": "nowhere"}],
        }
    ),
]


class CloudTable(Entity):
    """A route table of subnets. At equal prefixes its own routes come before propagated ones."""

    propagation: bool = Field(
        True, description="Whether it takes over what the cloud gateway and hubs bring."
    )
    routes: Targets = Field(
        default_factory=dict,
        description="Its own routes, by prefix: to `gateway` (the cloud's own), to a hub by its "
        "name, or `nowhere` (dropped).",
    )


class HubTable(Entity):
    """A route table of a hub."""

    of: list[Name] = Field(
        alias="for", min_length=1, description="Members, links and circuits that use this table."
    )
    learns: list[Name] | None = Field(
        None,
        description="Members, links and circuits whose routes are in it. Blank: all but other "
        "sites for sites; all for members.",
    )


class Hub(Entity):
    """A cloud router that joins several cloud networks, links and circuits."""

    members: list[Name] = Field(default_factory=list, description="Cloud networks that it joins.")
    tables: dict[Name, HubTable] = Field(
        default_factory=dict,
        description="Its route tables. Blank: one for the members, that knows all, and one for "
        "the sites, that knows the members only: no site is led through to another.",
    )


class Circuit(Entity):
    """A dedicated line between a site's gateway and a cloud, beside the tunnels."""

    site: Name = Field(description="A site of this design.")
    gateway: Name = Field(description="The gateway at which it ends.")
    cloud: Name = Field(description="A cloud or hub of this design.")
    provider: Name | None = Field(None, description="Who provides it.")
    rate: Megabits | None = Field(None, description="What it carries, each way.")
    mtu: Annotated[int, Field(ge=576, le=9216)] = Field(
        1500, description="Largest packet that it carries, in bytes."
    )
    networks: list[Name] | None = Field(
        None, min_length=1, description="The site's networks that use it. Blank: all."
    )
    inside: Ipv4PrefixText | None = Field(
        None, description="Point-to-point block of its two ends. Blank: settled."
    )
    inside6: Ipv6PrefixText | None = Field(
        None, description="The same for IPv6. Blank: settled where the design is dual-stack."
    )
    inside_first: InsideFirst = "cloud"
    routing: Literal["bgp", "static"] = Field("bgp", description="How routes are made known.")
    hold_time: Seconds = Field(90.0, alias="hold-time", description="Hold time of its BGP session.")
    bfd: BfdSpec | None = Field(
        None, description="BFD on it; with static routes too, which leave when it fails."
    )
    owner: OtherOwner = None
    accepted: Acceptance = None
