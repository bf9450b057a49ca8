"""What a design says about algorithms, certificates and the policy for both."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from obrin.core.design.values import Seconds, WholeSeconds
from obrin.core.design.wishes import Entity


class IkePart(Entity):
    """Algorithms of the IKE SA, by their registry names."""

    encryption: str
    integrity: str | None = Field(None, description="Left out with a combined-mode cipher.")
    prf: str
    group: str | int
    lifetime: WholeSeconds = 28800.0


class EspPart(Entity):
    """Algorithms of the child SA."""

    encryption: str
    integrity: str | None = None
    pfs: str | int | None = Field(None, description="Group for rekeys. Blank: none.")
    esn: bool = True
    lifetime: WholeSeconds = 3600.0


class SuiteSpec(Entity):
    """A suite of your own. With IKEv1, `ike` is its phase 1 and `esp` its phase 2."""

    ike_version: Literal[1, 2] = Field(
        2, alias="ike-version", description="1 describes an old device; RFC 9395 deprecates it."
    )
    ike: IkePart
    esp: EspPart


class AuthoritySpec(Entity):
    """The small certificate authority for links that authenticate by certificate."""

    key: Literal["rsa", "ecdsa", "ed25519"] | None = Field(
        None, description="Kind of key. Blank: one that all the devices can do, ECDSA if they can."
    )
    root: Seconds = Field(3650 * 86400.0, description="Life of the root.")
    issuing: Seconds = Field(1825 * 86400.0, description="Life of the issuing authority.")
    gateway: Seconds = Field(365 * 86400.0, description="Life of a gateway's certificate.")


class Policy(Entity):
    """What an organisation asks of every suite, beyond the standards."""

    least_strength: int = Field(
        0, ge=0, le=256, alias="least-strength", description="Bits that every algorithm must have."
    )
    forbid: list[str] = Field(default_factory=list, description="Names of algorithms.")
    require: list[str] = Field(
        default_factory=list, description="Names of algorithms that every suite must use."
    )
    longest_ike: WholeSeconds | None = Field(
        None, alias="longest-ike", description="Longest lifetime of an IKE SA."
    )
    longest_child: WholeSeconds | None = Field(
        None, alias="longest-child", description="Longest lifetime of a child SA."
    )
    key_life: Seconds | None = Field(
        None, alias="key-life", description="Longest use of a pre-shared key, such as `365 d`."
    )
    pfs: bool = Field(False, description="Whether every rekey needs a new key exchange.")
