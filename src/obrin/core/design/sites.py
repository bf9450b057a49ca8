"""What a design says about sites: their networks, gateways and paths to the internet."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from obrin.core.design.places import ReferenceText
from obrin.core.design.values import (
    AddressText,
    Day,
    FlowText,
    Growth,
    Ipv4PrefixesText,
    Ipv4Text,
    Ipv6PrefixesText,
    Megabits,
    Name,
    Seconds,
)
from obrin.core.design.wishes import Entity, Network


class Uplink(Entity):
    """An internet path of a gateway."""

    address: AddressText = Field(
        description="Public address that the far end sees, of either family. A line that has both "
        "is two uplinks of one provider."
    )
    provider: Name | None = Field(
        None, description="Who provides the path; two uplinks of one provider fail together."
    )
    inside: AddressText | None = Field(
        None,
        description="The gateway's own address when a translator stands in front of it.",
    )
    forwards: bool | None = Field(
        None,
        description="Whether that translator passes UDP 500 and 4500 from outside on to the "
        "gateway, so that the far end can start. Blank: unsaid, and nothing counts on it.",
    )
    rate: Megabits | None = Field(None, description="What it carries, each way.")
    identity: str | None = Field(
        None,
        pattern=r"^[A-Za-z0-9.:@-]{1,128}$",
        description="What the gateway says it is here: an address or a name. "
        "Blank: the public address.",
    )
    mtu: Annotated[int, Field(ge=576, le=9216)] = Field(
        1500, description="Largest packet that the whole path carries, in bytes; 1492 with PPPoE."
    )


class FilterRule(Entity):
    """What a filter lets through; all else is dropped. The replies are let through as well."""

    allow: FlowText = Field(description="Protocol and destination ports.")
    source: ReferenceText = Field(
        alias="from", description="`place/network`, a part of it, `place`, a prefix or an address."
    )
    destination: ReferenceText = Field(alias="to", description="The same.")
    until: Day | None = Field(
        None, description="Last day on which it lets anything through; from the next it is gone."
    )


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
    profile: str | None = Field(
        None, description="What the device can do: a shipped profile or one of this design."
    )
    loopback: Ipv4Text | None = Field(
        None, description="Its loopback address. Blank: settled where a pool for loopbacks exists."
    )
    filters: list[FilterRule] | None = Field(
        None, description="Rules for traffic of the tunnels. Blank: just what expectations need."
    )
    maximum_prefixes: int | None = Field(
        None,
        ge=1,
        alias="maximum-prefixes",
        description="Most prefixes that it accepts from one BGP neighbour (RFC 4486).",
    )


class InternetAccess(Entity):
    """A site's own way to the internet, by the uplinks of its gateways."""

    networks: list[Name] | None = Field(
        None, min_length=1, description="The site's networks that use it. Blank: all."
    )
    exempt: Ipv4PrefixesText | None = Field(
        None,
        description="Destinations that its source translation leaves alone, as it is set up. "
        "Blank: just what tunnels and circuits carry.",
    )


class Site(Entity):
    """An on-premises place."""

    region: Name | None = Field(
        None, description="Sites of one region are kept together, to be announced as few prefixes."
    )
    space: Ipv4PrefixesText | None = Field(
        None, description="Where its blank networks come from. Blank: settled for these."
    )
    space6: Ipv6PrefixesText | None = Field(None, description="The same for IPv6.")
    growth: Growth | None = Field(None, description="Room in its space for more networks.")
    networks: dict[Name, Network] = Field(min_length=1, description="Its networks.")
    gateways: dict[Name, Gateway] = Field(min_length=1, description="Its gateways.")
    internet: InternetAccess | Literal[False] | None = Field(
        None,
        description="Its own way to the internet. Blank: for all its networks; `false`: none.",
    )
    prefer: list[Name] = Field(
        default_factory=list,
        description="Its links and circuits, the preferred first. What is left out comes after: "
        "circuits before links, in the order of the file.",
    )
    internal_bgp: bool = Field(
        False,
        alias="internal-bgp",
        description="Whether its gateways, of one AS, advertise to each other what they learn.",
    )
    hosts_follow: Literal["tunnels", "gateways", "nothing"] | None = Field(
        None,
        alias="hosts-follow",
        description="With several gateways, what makes its hosts leave one for another: `tunnels` "
        "where a first-hop protocol follows them or hosts learn routes, `gateways` where it "
        "notices only dead ones, `nothing` where hosts keep the first. Blank: not known, and taken "
        "for `tunnels`.",
    )
    first_hop: Seconds = Field(
        3.0,
        alias="first-hop",
        description="How long its hosts go on sending to a gateway that is dead: with several, "
        "until another has taken over the address that they share (RFC 9568).",
    )
