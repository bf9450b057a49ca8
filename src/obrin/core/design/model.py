"""The design document: typed entities with blanks.

A field that may be None is a blank: `obrin settle` chooses a value for it.
"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from obrin.core.address.prefix import Prefix
from obrin.core.design.values import (
    FlowText,
    Ipv4PrefixText,
    Ipv4Text,
    Megabits,
    Name,
    Seconds,
)


class Entity(BaseModel):
    """Everything in a design is immutable, and an unknown key is a mistake."""

    model_config = ConfigDict(frozen=True, extra="forbid", arbitrary_types_allowed=True)


class Uplink(Entity):
    """An internet path of a gateway."""

    address: Ipv4Text = Field(description="Public address that the far end sees.")
    provider: Name | None = Field(
        None, description="Who provides the path; two uplinks of one provider fail together."
    )
    inside: Ipv4Text | None = Field(
        None,
        description="The gateway's own address when a translator stands in front of it.",
    )


class FilterRule(Entity):
    """What a filter lets through; all else is dropped. The replies are let through as well."""

    allow: FlowText = Field(description="Protocol and destination ports.")
    source: str = Field(alias="from", description="`place/network`, `place` or a prefix.")
    destination: str = Field(alias="to", description="`place/network`, `place` or a prefix.")


class Gateway(Entity):
    """An on-premises gateway."""

    uplinks: dict[Name, Uplink] = Field(min_length=1, description="Its internet paths.")
    asn: int | None = Field(
        None, alias="as", ge=1, le=4294967295, description="BGP AS number. Blank: settled."
    )
    offers: list[str] | None = Field(
        None,
        min_length=1,
        description="Names of the suites that the device can do, best first. Blank: all shipped.",
    )
    filters: list[FilterRule] | None = Field(
        None, description="Rules for traffic of the tunnels. Blank: just what expectations need."
    )


class Site(Entity):
    """An on-premises place."""

    networks: dict[Name, Ipv4PrefixText] = Field(min_length=1, description="Its networks.")
    gateways: dict[Name, Gateway] = Field(min_length=1, description="Its gateways.")


class Subnet(Entity):
    """A part of a cloud network for workloads."""

    prefix: Ipv4PrefixText | None = Field(None, description="Blank: settled from `hosts`.")
    hosts: int | None = Field(
        None, ge=1, le=1_000_000, description="How many hosts must fit. Blank: 200."
    )
    propagation: bool = Field(
        True, description="Whether its route table takes over what the cloud gateway learns."
    )


class CloudGateway(Entity):
    """The virtual network gateway."""

    subnet: Ipv4PrefixText | None = Field(None, description="The gateway subnet. Blank: settled.")
    gateway_class: str | None = Field(
        None, alias="class", description="Capacity class. Blank: the cheapest that fits."
    )
    instances: Annotated[int, Field(ge=1, le=2)] = Field(2, description="Running instances.")
    asn: int | None = Field(
        None, alias="as", ge=1, le=4294967295, description="BGP AS number. Blank: settled."
    )
    addresses: list[Ipv4Text] | None = Field(
        None, description="Public addresses, one per instance. Blank: settled."
    )
    throughput: Megabits = Field(100.0, description="What it must carry.")
    offers: list[str] | None = Field(
        None, min_length=1, description="Suites it may use, best first. Blank: all shipped."
    )


class Cloud(Entity):
    """A cloud network with its gateway."""

    region: Name | None = Field(None, description="Where it runs.")
    space: Ipv4PrefixText | None = Field(None, description="Address space. Blank: settled.")
    subnets: dict[Name, Subnet] = Field(min_length=1, description="Its workload subnets.")
    gateway: CloudGateway = Field(
        default_factory=lambda: CloudGateway.model_validate({}), description="Its gateway."
    )
    filters: list[FilterRule] | None = Field(
        None, description="Rules at the subnets. Blank: just what expectations need."
    )


class Tunnel(Entity):
    """One tunnel between an uplink and an instance. Order in the file is order of preference."""

    gateway: Name = Field(description="A gateway of the link's site.")
    uplink: Name = Field(description="One of its uplinks.")
    instance: Annotated[int, Field(ge=1, le=2)] = Field(
        1, description="Number of the cloud gateway's instance."
    )
    inside: Ipv4PrefixText | None = Field(
        None, description="Point-to-point block: the cloud has the first host, the site the second."
    )


class Liveness(Entity):
    """Dead-peer detection (RFC 7296 section 2.4)."""

    delay: Seconds = Field(10.0, description="Silence before asking.")
    wait: Seconds = Field(1.0, description="First wait for an answer; it doubles with each try.")
    tries: Annotated[int, Field(ge=1, le=10)] = Field(4, description="Sends before giving up.")


class Bgp(Entity):
    """Timers of the BGP sessions (RFC 4271 section 4.2)."""

    hold: Seconds = Field(90.0, description="Hold time; at least 3 s.")


class Link(Entity):
    """All that joins one site to one cloud gateway."""

    site: Name = Field(description="A site of this design.")
    cloud: Name = Field(description="A cloud of this design.")
    networks: list[Name] | None = Field(
        None, min_length=1, description="The site's networks that use it. Blank: all."
    )
    routing: Literal["bgp", "static"] = Field("bgp", description="How routes are made known.")
    suite: str | None = Field(None, description="A suite's name. Blank: the strongest of both.")
    liveness: Liveness = Field(
        default_factory=lambda: Liveness.model_validate({}), description="Dead-peer detection."
    )
    bgp: Bgp = Field(default_factory=lambda: Bgp.model_validate({}), description="BGP timers.")
    encapsulation: Literal["auto", "always"] = Field(
        "auto", description="UDP encapsulation of ESP: when a translator is found, or always."
    )
    tunnels: dict[Name, Tunnel] = Field(min_length=1, description="Its tunnels, preferred first.")


class IkePart(Entity):
    """Algorithms of the IKE SA, by their registry names."""

    encryption: str
    integrity: str | None = Field(None, description="Left out with a combined-mode cipher.")
    prf: str
    group: str | int
    lifetime: Seconds = 28800.0


class EspPart(Entity):
    """Algorithms of the child SA."""

    encryption: str
    integrity: str | None = None
    pfs: str | int | None = Field(None, description="Group for rekeys. Blank: none.")
    esn: bool = True
    lifetime: Seconds = 3600.0


class SuiteSpec(Entity):
    """A suite of your own."""

    ike: IkePart
    esp: EspPart


class Expectation(Entity):
    """A flow that must work, or must not."""

    source: str = Field(alias="from", description="`place/network`.")
    destination: str = Field(alias="to", description="`place/network`.")
    flow: FlowText = Field(description="Protocol and destination port.")
    must: Literal["work", "not"] = Field(
        "work", description="`work`, or `not` when it must be dropped."
    )


class Design(Entity):
    """One design file."""

    obrin: Literal[1] = Field(description="Version of this format.")
    name: Name = Field(description="Name of the whole.")
    sites: dict[Name, Site] = Field(min_length=1)
    clouds: dict[Name, Cloud] = Field(min_length=1)
    links: dict[Name, Link] = Field(default_factory=dict)
    suites: dict[Name, SuiteSpec] = Field(default_factory=dict)
    elsewhere: dict[Name, Ipv4PrefixText] = Field(
        default_factory=dict, description="Ranges in use by others: partners, older networks."
    )
    expectations: list[Expectation] = Field(default_factory=list)

    def network(self, reference: str) -> Prefix | None:
        """The prefix behind `site/network`, when it is a site's."""
        place, _, name = reference.partition("/")
        site = self.sites.get(place)
        return site.networks.get(name) if site else None
