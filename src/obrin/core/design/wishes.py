"""What a design says about address space: wishes, pools, and ranges that others use."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, ClassVar, Literal

from pydantic import (
    BaseModel,
    ConfigDict,
    Field,
    GetJsonSchemaHandler,
    model_validator,
)
from pydantic_core import CoreSchema

from obrin.core.design.places import ReferenceText
from obrin.core.design.values import (
    AsRange,
    Day,
    FlowText,
    Growth,
    Ipv4PrefixText,
    Ipv4Text,
    Ipv6PrefixText,
    Ipv6Text,
    Name,
    PrefixesText,
    PrefixText,
)

DEFAULT_HOSTS = 200


class Entity(BaseModel):
    """Everything in a design is immutable, and an unknown key is a mistake."""

    model_config = ConfigDict(
        frozen=True, extra="forbid", arbitrary_types_allowed=True, defer_build=True
    )


class Short(Entity):
    """An entity that may be written as the text of its `short` field alone, or left blank."""

    short: ClassVar[str] = "prefix"

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        if isinstance(value, Mapping | BaseModel):
            return value
        return {} if value is None else {cls.short: value}

    @classmethod
    def __get_pydantic_json_schema__(
        cls, core_schema: CoreSchema, handler: GetJsonSchemaHandler
    ) -> dict[str, Any]:
        """The object, or the text, or nothing where all keys have defaults."""
        whole = handler.resolve_ref_schema(handler(core_schema))
        text = whole["properties"][cls.short]
        text = next((o for o in text.get("anyOf", ()) if o.get("type") == "string"), text)
        kept = {k: v for k, v in text.items() if k in ("type", "pattern", "examples", "anyOf")}
        parts: list[dict[str, Any]] = [dict(whole), kept]
        if not whole.get("required"):
            parts.append({"type": "null"})
        return {"anyOf": parts}


class HostRule(Short):
    """What the firewalls of hosts let in."""

    short = "allow"

    allow: FlowText = Field(description="Protocol and destination ports.")
    source: ReferenceText | None = Field(
        None,
        alias="from",
        description="Only from there: `place/network`, a part of it, `place`, a prefix or an "
        "address. Blank: from anywhere.",
    )
    until: Day | None = Field(
        None, description="Last day on which it lets anything through; from the next it is gone."
    )

    def __str__(self) -> str:
        return str(self.allow) if self.source is None else f"{self.allow} from {self.source}"


class AcceptedFinding(Entity):
    """A finding of `obrin check` that somebody answers for."""

    finding: Name = Field(description="Its code.")
    at: str = Field(description="Its place in the design, as `check --json` has it under `place`.")
    because: str = Field(min_length=1, max_length=300, description="Why it may stay.")
    by: str = Field(min_length=1, max_length=100, description="Who answers for it.")
    until: Day | None = Field(None, description="Last day; from the next it is a finding again.")
    seen: str | None = Field(
        None,
        pattern=r"^[0-9a-f]{8}$",
        description="Fingerprint of what was found. With it, the finding is back as soon as "
        "something else is found there.",
    )


class Role(Entity):
    """A size that many networks or subnets share."""

    hosts: int | None = Field(None, ge=1, le=16_000_000, description="How many hosts must fit.")
    length: int | None = Field(None, ge=1, le=30, description="Or a prefix length.")
    growth: Growth | None = Field(None, description="Room to grow, beyond the hosts.")


class Wish(Entity):
    """A network that has a prefix, or says how large it must be."""

    prefix: Ipv4PrefixText | None = Field(None, description="Blank: settled from the keys below.")
    prefix6: Ipv6PrefixText | None = Field(
        None, description="Blank: a /64 is settled where the design is dual-stack."
    )
    hosts: int | None = Field(
        None, ge=1, le=16_000_000, description="How many hosts must fit. Blank: its role's, or 200."
    )
    length: int | None = Field(None, ge=1, le=30, description="A prefix length instead of hosts.")
    growth: Growth | None = Field(None, description="Room to grow. Blank: its role's, or none.")
    role: Name | None = Field(None, description="A role, for its size.")
    hosts_accept: list[HostRule] | None = Field(
        None,
        alias="hosts-accept",
        description="What the hosts' own firewalls let in, such as `[tcp/443, {allow: tcp/22, "
        "from: harbour-house/offices}]`; answers to their own flows always. Blank: everything.",
    )


class Network(Short, Wish):
    """A network of a site."""

    behind: Ipv4Text | None = Field(
        None,
        description="The inner router that leads to it, by its address in another network of the "
        "site. Blank: the gateways stand in it themselves.",
    )
    behind6: Ipv6Text | None = Field(None, description="The same router's IPv6 address.")
    owner: str | None = Field(None, description="Who answers for it.")
    note: str | None = Field(None, description="Anything worth knowing.")


class Elsewhere(Short):
    """A range in use by others: a partner, an older network."""

    prefix: PrefixText = Field(description="The range.")
    owner: str | None = Field(None, description="Who answers for it.")
    place: str | None = Field(None, description="Where it is used.")
    note: str | None = Field(None, description="Anything worth knowing.")


class Pool(Short):
    """Address space to choose from."""

    short: ClassVar[str] = "prefixes"

    prefixes: PrefixesText = Field(description="One or several prefixes of one family.")
    purpose: Literal["sites", "clouds", "inside", "loopbacks", "translation"] = Field(
        "sites", alias="for", description="What is chosen from it."
    )
    region: Name | None = Field(
        None, description="Only for places of this region. Blank: for all, after their own pools."
    )


class AsPools(Entity):
    """Ranges of AS numbers to choose from. Blank: private numbers (RFC 6996)."""

    sites: list[AsRange] | None = Field(None, min_length=1, description="For sites.")
    clouds: list[AsRange] | None = Field(None, min_length=1, description="For cloud gateways.")


class InsideSize(Entity):
    """Size of the point-to-point blocks inside tunnels."""

    length: Literal[30, 31] = Field(30, description="IPv4: /30, or /31 (RFC 3021).")
    length6: Literal[126, 127] = Field(127, description="IPv6: /126, or /127 (RFC 6164).")


OtherOwner = Annotated[
    str | None,
    Field(max_length=200, description="Who else it belongs to, and has to accept what uses it."),
]
Acceptance = Annotated[
    Day | None,
    Field(description="Day on which the owner accepted. Blank: not yet, and `check` says so."),
]
