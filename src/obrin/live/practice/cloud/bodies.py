"""What the practice cloud's resources look like in requests: validated at the door."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from obrin.core.design.values import FlowText, Ipv4PrefixText, Ipv4Text


class Body(BaseModel):
    model_config = ConfigDict(extra="forbid", arbitrary_types_allowed=True)


class Network(Body):
    spaces: Annotated[list[Ipv4PrefixText], Field(min_length=1, max_length=32)]
    region: str = "unnamed"


class Subnet(Body):
    """A gateway subnet holds the gateway and no workloads."""

    network: str
    prefix: Ipv4PrefixText
    role: Literal["workload", "gateway"] = "workload"
    propagation: bool = True


class Address(Body):
    """A public address, reserved by name."""

    address: Ipv4Text


class Gateway(Body):
    """One instance runs for each public address."""

    network: str
    capacity_class: str
    autonomous_system: Annotated[int, Field(ge=1, le=4294967295)]
    public_addresses: Annotated[list[str], Field(min_length=1, max_length=2)]


class FarEnd(Body):
    """What the cloud is told of a site's gateway."""

    address: Ipv4Text
    autonomous_system: int
    prefixes: list[Ipv4PrefixText]


class LivenessBody(Body):
    delay: float
    first_wait: float
    tries: int


class BgpBody(Body):
    hold_time: int
    local_preference: int
    announce: list[Ipv4PrefixText]
    accept: list[Ipv4PrefixText]


class TranslationBody(Body):
    """One-to-one: what the far end knows as `seen` is `real` in the network."""

    real: Ipv4PrefixText
    seen: Ipv4PrefixText


class Tunnel(Body):
    """`suite` is in the shape of obrin-ipsec; `pre_shared_key` can be set and never read."""

    gateway: str
    instance: Annotated[int, Field(ge=1, le=2)]
    far_end: str
    suite: dict[str, Any]
    inside: Ipv4PrefixText
    inside_address: Ipv4Text
    liveness: LivenessBody
    always_encapsulate: bool = False
    bgp: BgpBody | None = None
    metric: int = 1
    translation: list[TranslationBody] = Field(default_factory=list)
    pre_shared_key: Annotated[str, Field(min_length=1, max_length=128)]


class FilterRuleBody(Body):
    name: str
    source: Ipv4PrefixText
    destination: Ipv4PrefixText
    flow: FlowText


class Filter(Body):
    """Rules at a network's subnets; each lets its replies through as well. All else is dropped."""

    network: str
    rules: list[FilterRuleBody]


KINDS: dict[str, type[Body]] = {
    "networks": Network,
    "subnets": Subnet,
    "addresses": Address,
    "gateways": Gateway,
    "far-ends": FarEnd,
    "tunnels": Tunnel,
    "filters": Filter,
}


def references(kind: str, body: Body) -> list[tuple[str, str]]:
    """(kind, name) of every resource that must be ready before this one."""
    found: list[tuple[str, str]] = []
    if isinstance(body, Subnet | Filter):
        found.append(("networks", body.network))
    elif isinstance(body, Gateway):
        found.append(("networks", body.network))
        found += [("addresses", name) for name in body.public_addresses]
    elif isinstance(body, Tunnel):
        found += [("gateways", body.gateway), ("far-ends", body.far_end)]
    return found
