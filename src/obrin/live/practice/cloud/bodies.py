"""What the practice cloud's resources look like in requests: validated at the door."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

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
    """What the cloud is told of a site's gateway. It says that it is its address, unless told."""

    address: Ipv4Text
    identity: Annotated[str, Field(min_length=1, max_length=128)] | None = None
    autonomous_system: int
    prefixes: list[Ipv4PrefixText]


class LivenessBody(Body):
    delay: float
    first_wait: float
    tries: int


class BfdBody(Body):
    """Seconds between packets, and how many may be missed."""

    interval: Annotated[float, Field(ge=0.05, le=60)]
    multiplier: Annotated[int, Field(ge=1, le=255)]


class BgpBody(Body):
    hold_time: int
    local_preference: int
    announce: list[Ipv4PrefixText]
    accept: list[Ipv4PrefixText]


class TranslationBody(Body):
    """One-to-one: what the far end knows as `seen` is `real` in the network."""

    real: Ipv4PrefixText
    seen: Ipv4PrefixText


class CertificateBody(Body):
    """All PEM. The chain has the gateway's own certificate first."""

    chain: Annotated[str, Field(max_length=65536)]
    private_key: Annotated[str, Field(max_length=16384)]
    authorities: Annotated[str, Field(max_length=65536)]
    revocations: Annotated[str, Field(max_length=1048576)] = ""


class Tunnel(Body):
    """`suite` is in the shape of obrin-ipsec; secrets can be set and never read.

    The gateway proves itself by `pre_shared_key` or by `certificate`, one of the two.
    Without traffic selectors, everything that is routed to it goes through.
    """

    gateway: str
    instance: Annotated[int, Field(ge=1, le=2)]
    far_end: str
    suite: dict[str, Any]
    inside: Ipv4PrefixText
    inside_address: Ipv4Text
    liveness: LivenessBody
    always_encapsulate: bool = False
    bgp: BgpBody | None = None
    bfd: BfdBody | None = None
    metric: int = 1
    shared: bool = False
    local_selectors: list[Ipv4PrefixText] = Field(default_factory=list, max_length=255)
    remote_selectors: list[Ipv4PrefixText] = Field(default_factory=list, max_length=255)
    translation: list[TranslationBody] = Field(default_factory=list)
    pre_shared_key: Annotated[str, Field(min_length=1, max_length=128)] | None = None
    certificate: CertificateBody | None = None

    @model_validator(mode="after")
    def _one_secret(self) -> Tunnel:
        if (self.pre_shared_key is None) == (self.certificate is None):
            raise ValueError("give either pre_shared_key or certificate")
        return self


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
