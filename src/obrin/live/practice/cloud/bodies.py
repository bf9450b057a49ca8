"""What the practice cloud's resources look like in requests: validated at the door."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from obrin.core.address.prefix import parse_address
from obrin.core.design.values import AddressText, FlowText, PrefixText
from obrin.core.handover.standard.keys import CertificateFiles

Name = Annotated[str, Field(min_length=1, max_length=128)]
AsNumber = Annotated[int, Field(ge=0, le=4294967295)]
"""0 where no BGP is spoken."""
Seconds = Annotated[float, Field(gt=0, le=86400, allow_inf_nan=False)]
Prefixes = Annotated[list[PrefixText], Field(max_length=100_000)]


class Body(BaseModel):
    model_config = ConfigDict(extra="forbid", arbitrary_types_allowed=True)


class Network(Body):
    """One with route `tables` is a hub, which other networks, tunnels and circuits join. What
    joins one of another `owner` waits until they accept it."""

    spaces: Annotated[list[PrefixText], Field(min_length=1, max_length=32)]
    region: Name = "unnamed"
    tables: Annotated[list[Name], Field(max_length=1000)] = Field(default_factory=list)
    owner: Name | None = None


class JoinedBody(Body):
    """How something joins a hub: the route table that it uses, and those that its routes are in."""

    uses: Name
    fills: Annotated[list[Name], Field(max_length=1000)]


class Attachment(Body):
    """A network joins a hub."""

    hub: Name
    network: Name
    joined: JoinedBody


class FilterRuleBody(Body):
    name: Name
    source: PrefixText
    destination: PrefixText
    flow: FlowText


class OwnRoute(Body):
    """A route to the `gateway`, to the hub of that name, or `nowhere`."""

    prefix: PrefixText
    target: Name


class Subnet(Body):
    """A prefix of each family. A gateway subnet holds the gateway and no workloads. `routes` are
    the own ones of its table; `hosts_accept` is what the firewalls of its hosts let in, None where
    they have none."""

    network: Name
    prefixes: Annotated[list[PrefixText], Field(min_length=1, max_length=2)]
    role: Literal["workload", "gateway"] = "workload"
    propagation: bool = True
    routes: Annotated[list[OwnRoute], Field(max_length=1000)] = Field(default_factory=list)
    hosts_accept: Annotated[list[FilterRuleBody], Field(max_length=1000)] | None = None


class Address(Body):
    """Public addresses of one instance, one of each family, reserved by name: those that are asked
    for, or in each of `families` one that the cloud gives."""

    addresses: Annotated[list[AddressText], Field(max_length=2)] = Field(default_factory=list)
    families: Annotated[list[Literal["ipv4", "ipv6"]], Field(max_length=2)] = Field(
        default_factory=list
    )

    @model_validator(mode="after")
    def _either(self) -> Address:
        if bool(self.addresses) is bool(self.families):
            raise ValueError("give either addresses or families")
        return self


class Gateway(Body):
    """One instance runs for each public address. `peer_addresses` are theirs in the gateway
    subnet; left out, the cloud gives them."""

    network: Name
    capacity_class: Name
    autonomous_system: AsNumber
    public_addresses: Annotated[list[Name], Field(min_length=1, max_length=2)]
    peer_addresses: Annotated[list[AddressText], Field(max_length=2)] = Field(default_factory=list)

    @model_validator(mode="after")
    def _one_each(self) -> Gateway:
        if self.peer_addresses and len(self.peer_addresses) != len(self.public_addresses):
            raise ValueError("give a peer address for each instance")
        return self


class FarEnd(Body):
    """Request body for a site's gateway. Its identity is its address, unless another is given."""

    address: AddressText
    identity: Annotated[str, Field(min_length=1, max_length=128)] | None = None
    autonomous_system: AsNumber
    prefixes: Prefixes


class LivenessBody(Body):
    delay: Seconds
    first_wait: Seconds
    tries: Annotated[int, Field(ge=1, le=20)]


class BfdBody(Body):
    """Seconds between packets, and how many may be missed. It runs inside the tunnel, or between
    the ends of its session where it is `multihop`."""

    interval: Annotated[float, Field(ge=0.05, le=60)]
    multiplier: Annotated[int, Field(ge=1, le=255)]
    multihop: bool = False


class BgpBody(Body):
    """Request body for a session: without addresses it runs between those inside the tunnel;
    with `one_each`, one runs in each family that it has. Tunnels with the same two addresses
    have one session. `signature` is what a session password does. A hub advertises what its
    table has besides what it is to `announce`, which stands for what lies inside it."""

    hold_time: Annotated[int, Field(ge=0, le=65535)]
    local_preference: Annotated[int, Field(ge=0, le=4294967295)]
    announce: Prefixes
    accept: Prefixes
    discriminator: Annotated[int, Field(ge=0, le=4294967295)] | None = None
    local_address: AddressText | None = None
    peer_address: AddressText | None = None
    one_each: bool = False
    signature: Literal["tcp-md5", "hmac-sha-1-96", "aes-128-cmac-96"] = "tcp-md5"

    @model_validator(mode="after")
    def _hold(self) -> BgpBody:
        if self.hold_time in (1, 2):
            raise ValueError("a hold time is 0 or at least 3 s (RFC 4271)")
        return self


class TranslationBody(Body):
    """One-to-one: what the far end knows as `seen` is `real` in the network."""

    real: PrefixText
    seen: PrefixText


class CertificateBody(Body):
    """All PEM. The chain has the gateway's own certificate first."""

    chain: Annotated[str, Field(max_length=65536)]
    private_key: Annotated[str, Field(max_length=16384)]
    authorities: Annotated[str, Field(max_length=65536)]
    revocations: Annotated[str, Field(max_length=1048576)] = ""

    @property
    def files(self) -> CertificateFiles:
        """The same, as the gateway is handed it."""
        return CertificateFiles(self.chain, self.private_key, self.authorities, self.revocations)


class Way(Body):
    """What tunnels and circuits have alike. `inside` is a block of each family, `inside_addresses`
    the cloud's own in them; the lowest `metric` comes first. `joined` is for a hub's gateway."""

    gateway: Name
    initiate: bool = False
    inside: Annotated[list[PrefixText], Field(min_length=1, max_length=2)]
    inside_addresses: Annotated[list[AddressText], Field(min_length=1, max_length=2)]
    inner_mtu: Annotated[int, Field(ge=576, le=65535)] = 65535
    bgp: BgpBody | None = None
    bfd: BfdBody | None = None
    metric: Annotated[int, Field(ge=0, le=4294967295)] = 1
    joined: JoinedBody | None = None
    session_passwords: Annotated[
        list[Annotated[str, Field(min_length=1, max_length=80)]], Field(max_length=2)
    ] = Field(default_factory=list)

    @model_validator(mode="after")
    def _ends(self) -> Way:
        held = zip(self.inside, map(parse_address, self.inside_addresses), strict=False)
        if len(self.inside) != len(self.inside_addresses) or not all(b.holds(a) for b, a in held):
            raise ValueError("give an address in each block inside")
        sessions = 2 if self.bgp is not None and self.bgp.one_each and len(self.inside) > 1 else 1
        if len(self.session_passwords) not in (0, sessions):
            raise ValueError("give a password for each session")
        return self


class Circuit(Way):
    """A dedicated line to a site's gateway, of that `autonomous_system`; `prefixes` are the static
    ones behind it."""

    autonomous_system: AsNumber
    prefixes: Prefixes = Field(default_factory=list)
    owner: Name | None = None


class Tunnel(Way):
    """`suite` is in the shape of obrin-ipsec; secrets can be set and never read.

    The gateway proves itself by `pre_shared_key` or by `certificate`, one of the two; TCP of its
    BGP sessions is signed where there are `session_passwords`, one for each session.
    Without traffic selectors, everything that is routed to it goes through, in packets of up to
    `inner_mtu` bytes; where it `fragments`, larger ones that may be cut are; with `each_pair` a
    child SA is for one pair of selectors.
    """

    instance: Annotated[int, Field(ge=1, le=2)]
    far_end: Name
    suite: dict[str, Any]
    liveness: LivenessBody
    fragments: bool = False
    each_pair: bool = False
    always_encapsulate: bool = False
    shared: bool = False
    local_selectors: list[PrefixText] = Field(default_factory=list, max_length=255)
    remote_selectors: list[PrefixText] = Field(default_factory=list, max_length=255)
    translation: list[TranslationBody] = Field(default_factory=list, max_length=1000)
    pre_shared_key: Annotated[str, Field(min_length=1, max_length=128)] | None = None
    certificate: CertificateBody | None = None

    @model_validator(mode="after")
    def _one_secret(self) -> Tunnel:
        if (self.pre_shared_key is None) == (self.certificate is None):
            raise ValueError("give either pre_shared_key or certificate")
        return self


class Filter(Body):
    """Rules at a network's subnets; each lets its replies through as well. All else is dropped."""

    network: Name
    rules: Annotated[list[FilterRuleBody], Field(max_length=100_000)]


KINDS: dict[str, type[Body]] = {
    "networks": Network,
    "subnets": Subnet,
    "addresses": Address,
    "gateways": Gateway,
    "far-ends": FarEnd,
    "attachments": Attachment,
    "circuits": Circuit,
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
    elif isinstance(body, Attachment):
        found += [("networks", body.hub), ("networks", body.network)]
    elif isinstance(body, Way):
        found.append(("gateways", body.gateway))
    if isinstance(body, Tunnel):
        found.append(("far-ends", body.far_end))
    return found
