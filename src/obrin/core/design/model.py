"""The design document: typed entities with blanks.

A field that may be None is a blank: `obrin settle` chooses a value for it.
"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from obrin.core.design.entered import Entered
from obrin.core.design.joining import Circuit, CloudTable, Hub, InsideFirst
from obrin.core.design.places import NetworkText
from obrin.core.design.profile_spec import ProfileSpec
from obrin.core.design.protection import AuthoritySpec, Policy, SuiteSpec
from obrin.core.design.sites import FilterRule, Site
from obrin.core.design.timers import BfdSpec, Liveness
from obrin.core.design.values import (
    AddressText,
    Day,
    EitherPrefixesText,
    FlowText,
    Growth,
    Ipv4PrefixesText,
    Ipv4PrefixText,
    Ipv4Text,
    Ipv6PrefixesText,
    Ipv6PrefixText,
    Ipv6Text,
    Megabits,
    Name,
    Seconds,
    SummariesText,
)
from obrin.core.design.windows import WindowsText
from obrin.core.design.wishes import (
    Acceptance,
    AcceptedFinding,
    AsPools,
    Elsewhere,
    Entity,
    InsideSize,
    OtherOwner,
    Pool,
    Role,
    Short,
    Wish,
)


class Subnet(Short, Wish):
    """A part of a cloud network for workloads."""

    propagation: bool = Field(
        True, description="Whether its route table takes over what the cloud gateway learns."
    )
    table: Name | None = Field(
        None, description="A route table of `tables`. Blank: one of its own."
    )


class CloudGateway(Entity):
    """The virtual network gateway."""

    subnet: Ipv4PrefixText | None = Field(None, description="The gateway subnet. Blank: settled.")
    subnet6: Ipv6PrefixText | None = Field(
        None, description="Its IPv6 prefix. Blank: a /64 is settled where the design is dual-stack."
    )
    gateway_class: str | None = Field(
        None, alias="class", description="Capacity class. Blank: the cheapest that fits."
    )
    instances: Annotated[int, Field(ge=1, le=2)] = Field(2, description="Running instances.")
    zones: list[Name] | None = Field(
        None, description="The zone of each instance; what is in one zone fails together."
    )
    asn: int | None = Field(
        None, alias="as", ge=1, le=4294967295, description="BGP AS number. Blank: settled."
    )
    addresses: list[Ipv4Text] | None = Field(
        None,
        description="Public addresses, one per instance. Blank: settled, where an uplink that has "
        "IPv4 leads there.",
    )
    addresses6: list[Ipv6Text] | None = Field(
        None, description="The same for uplinks that have IPv6."
    )
    peers: list[AddressText] | None = Field(
        None,
        description="Addresses of the instances in the gateway subnet, where BGP ends beyond the "
        "tunnels. Blank: the first that the cloud does not reserve, or what it assigned.",
    )
    assigns: list[Literal["addresses", "peers"]] = Field(
        default_factory=list,
        description="What the cloud chooses itself and shows only once the gateway is built; "
        "`connect` takes it back.",
    )
    throughput: Megabits = Field(100.0, description="What it must carry.")
    after_failure: bool = Field(
        False, alias="after-failure", description="Carry it with one instance lost as well."
    )
    routes: int | None = Field(
        None, ge=1, le=1_000_000, description="BGP routes to hold. Blank: counted in the design."
    )
    needs: list[Name] = Field(
        default_factory=list, description="Features that its class must have, such as `zones`."
    )
    offers: list[str] | None = Field(
        None, min_length=1, description="Suites it may use, best first. Blank: all shipped."
    )
    profile: str | None = Field(
        None, description="What it can do. Blank: what the practice world does."
    )

    def public(self, bits: int) -> list[str] | None:
        """Public addresses of one family, where given."""
        return self.addresses if bits == 32 else self.addresses6


class Cloud(Entity):
    """A cloud network with its gateway."""

    region: Name | None = Field(None, description="Where it runs.")
    space: Ipv4PrefixesText | None = Field(
        None, description="Address space, one prefix or several. Blank: settled."
    )
    space6: Ipv6PrefixesText | None = Field(
        None, description="IPv6 space. Blank: settled where the design is dual-stack."
    )
    growth: Growth | None = Field(
        None,
        description="Room in its space for more subnets. Blank: one doubling if there is room.",
    )
    subnets: dict[Name, Subnet] = Field(
        default_factory=dict, description="Its workload subnets; a hub has none."
    )
    tables: dict[Name, CloudTable] = Field(
        default_factory=dict, description="Route tables that subnets name."
    )
    internet: bool | None = Field(
        None,
        description="Whether it leads to the internet by itself. Blank: a cloud network does, for "
        "its own subnets; a hub does not.",
    )
    hub: Hub | None = Field(None, description="Makes this a hub that joins other clouds.")
    gateway: CloudGateway = Field(
        default_factory=lambda: CloudGateway.model_validate({}),
        description="Its gateway. Without it, a member of a hub that no link leads to has none.",
    )
    filters: list[FilterRule] | None = Field(
        None, description="Rules at the subnets. Blank: just what expectations need."
    )
    offering: str | None = Field(
        None, description="A file with this cloud's classes and rules. Blank: that of the design."
    )
    owner: OtherOwner = None
    accepted: Acceptance = None


class Tunnel(Entity):
    """One tunnel between an uplink and an instance. Order in the file is order of preference."""

    gateway: Name = Field(description="A gateway of the link's site.")
    uplink: Name = Field(description="One of its uplinks.")
    instance: Annotated[int, Field(ge=1, le=2)] = Field(
        1, description="Number of the cloud gateway's instance."
    )
    role: Literal["active", "shared", "standby", "spare"] | None = Field(
        None,
        description="`active` carries the traffic, `shared` carries a share of it with all others "
        "that are `shared`, `standby` is up and takes over, `spare` is down until those before it "
        "failed. Blank: the first is active; spares where the device cannot hold more.",
    )
    initiator: Literal["site", "cloud"] = Field(
        "site", description="Which end begins. A site's gateway can do so from behind a translator."
    )
    inside: Ipv4PrefixText | None = Field(
        None, description="Point-to-point block of its two ends. Blank: settled."
    )
    inside6: Ipv6PrefixText | None = Field(
        None, description="The same for IPv6. Blank: settled where the design is dual-stack."
    )
    inside_first: InsideFirst = "cloud"


class Bgp(Entity):
    """Timers of the BGP sessions (RFC 4271 section 4.2), and what is advertised."""

    hold_time: Seconds = Field(90.0, alias="hold-time", description="Hold time; at least 3 s.")
    summaries: SummariesText = Field(
        (),
        description="Advertised to the cloud instead of the site's networks inside them; `auto` "
        "for the fewest prefixes that hold nothing of anybody else.",
    )
    cloud_summaries: SummariesText = Field(
        (),
        alias="cloud-summaries",
        description="Advertised to the site instead of the prefixes inside them; 0.0.0.0/0 for "
        "all, `auto` as above.",
    )
    password: bool = Field(
        False,
        description="Whether TCP is signed with a password of each session. 'obrin settle' makes "
        "it; it is kept with the keys.",
    )
    signature: Literal["tcp-md5", "hmac-sha-1-96", "aes-128-cmac-96"] = Field(
        "tcp-md5",
        description="How TCP is signed: by RFC 2385, or by TCP-AO (RFC 5925) with this MAC.",
    )
    sessions: Literal["one", "each"] = Field(
        "one",
        description="One session for both families, or one in each.",
    )
    communities: list[Literal["no-export", "no-advertise"]] = Field(
        default_factory=list, description="Communities on what the site advertises (RFC 1997)."
    )
    med: bool = Field(
        False,
        description="Whether each end shows the other which tunnel it prefers, by "
        "MULTI_EXIT_DISC: 1 for the first. For far ends that go by it.",
    )
    site_end: Literal["inside", "loopback"] = Field(
        "inside",
        alias="site-end",
        description="Where its sessions end at the site: at the gateway's address inside the "
        "tunnel, or beyond it at its loopback.",
    )
    cloud_end: Literal["inside", "gateway-subnet"] = Field(
        "inside",
        alias="cloud-end",
        description="The same at the cloud: inside, or at the instance's address in the gateway "
        "subnet.",
    )


class Link(Entity):
    """All that joins one site to one cloud gateway."""

    site: Name = Field(description="A site of this design.")
    cloud: Name = Field(description="A cloud of this design.")
    until: Day | None = Field(
        None, description="Last day of the link; from the next it is in no pack."
    )
    networks: list[Name] | None = Field(
        None, min_length=1, description="The site's networks that use it. Blank: all."
    )
    only: dict[Name, EitherPrefixesText] = Field(
        default_factory=dict,
        description="Parts of these networks that use the link, instead of the whole network. In a "
        "family of which no part is named, the whole network does.",
    )
    seen_as: dict[Name, Ipv4PrefixText | None] = Field(
        default_factory=dict,
        alias="seen-as",
        description="Networks of the site that the cloud knows by another prefix of the same "
        "length (one-to-one translation at the site gateway). Blank: settled.",
    )
    seen_as6: dict[Name, Ipv6PrefixText] = Field(
        default_factory=dict,
        alias="seen-as6",
        description="The same for their IPv6 prefixes (RFC 6296).",
    )
    cloud_seen_as: Ipv4PrefixesText | None = Field(
        None,
        alias="cloud-seen-as",
        description="What the site knows the cloud's space by, a prefix for each of its prefixes "
        "(one-to-one translation at the cloud gateway). Key without value: "
        "settled. No key: not translated.",
    )
    routing: Literal["bgp", "static"] = Field("bgp", description="How routes are made known.")
    suite: str | None = Field(None, description="A suite's name. Blank: the strongest of both.")
    selection: Literal["interface", "policy"] | None = Field(
        None,
        description="What leads traffic into the tunnels: an interface each, or traffic selectors. "
        "Blank: interfaces, if every device has them.",
    )
    authentication: Literal["pre-shared-key", "certificate"] = Field(
        "pre-shared-key", description="How the ends prove who they are."
    )
    liveness: Liveness = Field(
        default_factory=lambda: Liveness.model_validate({}), description="Dead-peer detection."
    )
    bgp: Bgp = Field(default_factory=lambda: Bgp.model_validate({}), description="BGP timers.")
    bfd: BfdSpec | Literal[False] | None = Field(
        None,
        description="BFD inside its tunnels. Blank: if both ends' profiles can; `false`: never.",
    )
    encapsulation: Literal["auto", "always"] = Field(
        "auto", description="UDP encapsulation of ESP: when a translator is found, or always."
    )
    child_sas: Literal["one", "each-pair"] | None = Field(
        None,
        alias="child-sas",
        description="With policies: one child SA for all traffic selectors, or one for each pair. "
        "Blank: each pair, if a device holds no more in one.",
    )
    oversize: Literal["refuse", "fragment"] = Field(
        "refuse",
        description="What becomes of an IPv4 packet that is too large for a tunnel and may be cut: "
        "`refuse` drops it and sends an ICMP error to its sender, `fragment` fragments it before "
        "encryption.",
    )
    tunnels: dict[Name, Tunnel] = Field(min_length=1, description="Its tunnels, preferred first.")
    entered: dict[Literal["site", "cloud"], Entered] = Field(
        default_factory=dict, description="What is said to be entered at its ends really."
    )

    @property
    def translates_cloud(self) -> bool:
        """Whether the site knows the cloud's space by another prefix, given or blank."""
        return "cloud_seen_as" in self.model_fields_set


class Reliability(Entity):
    """How often things of one kind fail, and how long they take to mend."""

    fails_every: Seconds = Field(alias="fails-every", description="Mean time to the next failure.")
    mended_in: Seconds = Field(alias="mended-in", description="Mean time until it is mended.")


class Expectation(Entity):
    """A flow that must work, or must not."""

    source: NetworkText = Field(
        alias="from",
        description="`place/network`, or a host or part: `place/network/192.0.2.7`.",
    )
    destination: NetworkText = Field(alias="to", description="The same, or `internet`.")
    flow: FlowText = Field(description="Protocol and destination port.")
    must: Literal["work", "not"] = Field(
        "work", description="`work`, or `not` when it must be dropped."
    )
    load: Megabits | None = Field(None, description="What it carries at its busiest.")
    largest: Megabits | None = Field(
        None, description="Its largest single connection, which stays on one way."
    )
    until: Day | None = Field(
        None, description="Last day on which it must work; from the next it must not."
    )


class Design(Entity):
    """One design file."""

    obrin: Literal[1] = Field(description="Version of this format.")
    name: Name = Field(description="Name of the whole.")
    sites: dict[Name, Site] = Field(min_length=1)
    clouds: dict[Name, Cloud] = Field(min_length=1)
    links: dict[Name, Link] = Field(default_factory=dict)
    circuits: dict[Name, Circuit] = Field(default_factory=dict)
    suites: dict[Name, SuiteSpec] = Field(default_factory=dict)
    authority: AuthoritySpec = Field(
        default_factory=lambda: AuthoritySpec.model_validate({}),
        description="The certificate authority, where links use certificates.",
    )
    reliability: dict[
        Literal[
            "tunnel", "circuit", "uplink", "provider", "gateway", "instance", "zone", "cloud", "hub"
        ],
        Reliability,
    ] = Field(default_factory=dict, description="For 'obrin drill --availability'.")
    windows: dict[Name, WindowsText] = Field(
        default_factory=dict,
        description="When what is at a site or cloud may be changed, for 'obrin reshape'. Left "
        "out: always.",
    )
    profiles: dict[Name, ProfileSpec] = Field(
        default_factory=dict, description="What your devices can do; see 'obrin profiles'."
    )
    elsewhere: dict[Name, Elsewhere] = Field(
        default_factory=dict, description="Ranges in use by others: partners, older networks."
    )
    policy: Policy = Field(
        default_factory=lambda: Policy.model_validate({}),
        description="What every suite must keep to.",
    )
    stack: Literal["ipv4", "dual", "ipv6"] = Field(
        "ipv4",
        description="The families that networks, subnets and tunnels carry; of the other, nothing "
        "is settled. Addresses outside the tunnels are of either, whatever this says.",
    )
    ula: Ipv6PrefixText | None = Field(
        None, description="Unique local /48 (RFC 4193). Blank: drawn once, where dual-stack."
    )
    pools: dict[Name, Pool] = Field(
        default_factory=dict, description="Address space to choose from. Blank: private space."
    )
    roles: dict[Name, Role] = Field(
        default_factory=dict, description="Sizes that many networks or subnets share."
    )
    as_numbers: AsPools = Field(
        default_factory=lambda: AsPools.model_validate({}),
        alias="as-numbers",
        description="AS numbers to choose from.",
    )
    inside: InsideSize = Field(
        default_factory=lambda: InsideSize.model_validate({}),
        description="Size of the blocks inside tunnels.",
    )
    offering: str | None = Field(
        None, description="A file beside this one: the cloud's classes and rules. Blank: practice."
    )
    expectations: list[Expectation] = Field(default_factory=list)
    accepted_findings: list[AcceptedFinding] = Field(
        default_factory=list,
        alias="accepted-findings",
        description="Findings that may stay; see 'obrin check --accept'.",
    )
