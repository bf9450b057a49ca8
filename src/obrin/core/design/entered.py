"""What somebody at an end of a link says to have entered there."""

from __future__ import annotations

from pydantic import Field

from obrin.core.design.values import AddressText, EitherPrefixesText, Name
from obrin.core.design.wishes import Entity


class EnteredSession(Entity):
    """A BGP session, as far as it is said."""

    source: AddressText | None = Field(None, description="The address that it speaks from.")
    peer: AddressText | None = Field(None, description="The address that it speaks to.")
    multihop: bool | None = Field(None, description="Whether the peer may be beyond the link.")
    host_route: bool | None = Field(
        None, alias="host-route", description="Whether a static route leads to a peer beyond it."
    )


class Entered(Entity):
    """What is really entered at one end of a link, as somebody there says, where it may not be what
    the sheet says. `check` and `agree` play it through."""

    suites: list[str] | None = Field(None, min_length=1, description="Suites, preferred first.")
    identity: str | None = Field(None, description="What it says it is.")
    expects: str | None = Field(None, description="What it wants the other end to say.")
    local: EitherPrefixesText | None = Field(None, description="Its own traffic selectors.")
    remote: EitherPrefixesText | None = Field(None, description="Those of the other end.")
    keys: dict[Name, str] = Field(
        default_factory=dict,
        description="Fingerprints of pre-shared keys, by tunnel; see 'obrin keys compare'.",
    )
    passwords: dict[Name, str] = Field(
        default_factory=dict,
        description="Fingerprints of passwords of BGP sessions, by tunnel; `none` where there is "
        "none.",
    )
    sessions: dict[Name, EnteredSession] = Field(
        default_factory=dict, description="Its BGP sessions, by tunnel."
    )
