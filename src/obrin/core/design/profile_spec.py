"""Device profiles as they are written in a design, and as the core reads them.

Whatever is left out is unsaid: nothing is refused because of it, and `check` lists it.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, Literal

from pydantic import Field

from obrin.core.design.values import Megabits, Seconds, WholeSeconds
from obrin.core.design.wishes import Entity
from obrin.core.ipsec.profile import KeyRules, LifetimeRange, LivenessRange, Phase, Profile
from obrin.core.ipsec.registry import Algorithm, Kind, by_name

Method = Literal["pre-shared-key", "rsa", "ecdsa", "ed25519"]
IdentityKind = Literal["own-address", "address", "name", "distinguished-name"]
Selection = Literal["interface", "policy"]


class LifetimeSpec(Entity):
    """Lifetimes that a device accepts."""

    least: WholeSeconds | None = Field(None, description="The shortest.")
    most: WholeSeconds | None = Field(None, description="The longest.")
    default: WholeSeconds | None = Field(None, description="What it takes when nothing is entered.")
    unit: Literal["s", "min", "h"] | None = Field(None, description="What its screen counts in.")
    shown: bool | None = Field(None, description="Whether it shows what it takes by itself.")


class IkeAbility(Entity):
    """What a device can do in IKE; favourites first. With IKEv1: its phase 1."""

    versions: list[Literal[1, 2]] | None = Field(None, min_length=1, description="IKE versions.")
    encryption: list[str] | None = Field(None, min_length=1, description="Registry names.")
    integrity: list[str] | None = Field(None, description="Registry names.")
    prf: list[str] | None = Field(None, min_length=1, description="Registry names.")
    groups: list[str | int] | None = Field(None, min_length=1, description="Names or numbers.")
    lifetime: LifetimeSpec | None = Field(None, description="Lifetimes of the IKE SA.")
    renewal: Literal["rekey", "reauthenticate"] | None = Field(
        None, description="How it replaces an IKE SA: beside the old one, or deleting it first."
    )


class EspAbility(Entity):
    """What a device can do in ESP; favourites first. With IKEv1: its phase 2."""

    encryption: list[str] | None = Field(None, min_length=1, description="Registry names.")
    integrity: list[str] | None = Field(None, description="Registry names.")
    groups: list[str | int] | None = Field(None, description="PFS groups.")
    pfs: Literal["required", "optional", "never"] | None = Field(
        None, description="Whether rekeys need, may have or cannot have a group of their own."
    )
    esn: list[bool] | None = Field(
        None, min_length=1, description="Extended sequence numbers: `[true, false]` for both."
    )
    lifetime: LifetimeSpec | None = Field(None, description="Lifetimes of child SAs.")


class LivenessAbility(Entity):
    """What dead-peer detection can be set to."""

    least_delay: Seconds = Field(0.1, alias="least-delay", description="Shortest silence.")
    most_delay: Seconds = Field(86400.0, alias="most-delay", description="Longest silence.")
    most_tries: int = Field(10, ge=1, alias="most-tries", description="Most tries.")


class KeyAbility(Entity):
    """Pre-shared keys that a device accepts."""

    least: int = Field(1, ge=1, description="Fewest characters.")
    most: int = Field(128, ge=1, description="Most characters.")
    characters: Literal["printable", "letters-and-digits", "hexadecimal"] = Field(
        "printable", description="What they may be made of."
    )


class ProfileSpec(Entity):
    """What a device model can do. What is left out is unsaid: `obrin check` lists it."""

    about: str | None = Field(None, description="In a few words, what it describes.")
    ike: IkeAbility = Field(
        default_factory=lambda: IkeAbility.model_validate({}), description="The IKE SA."
    )
    esp: EspAbility = Field(
        default_factory=lambda: EspAbility.model_validate({}), description="Child SAs."
    )
    authentication: list[Method] | None = Field(
        None, min_length=1, description="How it proves who it is; the last three by certificate."
    )
    identities: list[IdentityKind] | None = Field(
        None,
        min_length=1,
        description="What it can say it is: only its own address, any address, a name, a "
        "distinguished name.",
    )
    nat_traversal: bool | None = Field(
        None, alias="nat-traversal", description="Works behind an address translator (RFC 3947)."
    )
    selection: list[Selection] | None = Field(
        None, min_length=1, description="What leads traffic into a tunnel: interfaces, or policies."
    )
    same_selectors: int | None = Field(
        None, ge=1, alias="same-selectors", description="Tunnels at once for equal selectors."
    )
    several_selectors: bool | None = Field(
        None,
        alias="several-selectors",
        description="Holds several prefixes at each end of one child SA.",
    )
    tunnels: int | None = Field(None, ge=1, description="Most tunnels.")
    throughput: Megabits | None = Field(None, description="What it encrypts.")
    bgp: bool | None = Field(None, description="Speaks BGP.")
    bfd: bool | None = Field(None, description="Speaks BFD.")
    monitor: bool | None = Field(
        None, description="Watches a path by probes and withdraws static routes when it is dead."
    )
    initiates: bool | None = Field(
        None, description="Initiates tunnels by itself, without traffic, and keeps them up."
    )
    mss_clamping: bool | None = Field(
        None, alias="mss-clamping", description="Lowers the MSS of TCP that passes."
    )
    liveness: LivenessAbility | None = Field(None, description="Dead-peer detection.")
    key: KeyAbility | None = Field(None, description="Pre-shared keys.")


def build_profile(name: str, spec: ProfileSpec) -> Profile:
    """Raises KeyError for an algorithm that is not known."""
    ike, esp, live, key = spec.ike, spec.esp, spec.liveness, spec.key
    return Profile(
        name=name,
        versions=_pair(ike.versions),
        ike=Phase(
            _names(Kind.ENCRYPTION, ike.encryption),
            _names(Kind.INTEGRITY, ike.integrity),
            _names(Kind.PRF, ike.prf),
            _names(Kind.GROUP, ike.groups),
            _lifetime(ike.lifetime),
        ),
        esp=Phase(
            _names(Kind.ENCRYPTION, esp.encryption),
            _names(Kind.INTEGRITY, esp.integrity),
            None,
            _names(Kind.GROUP, esp.groups),
            _lifetime(esp.lifetime),
        ),
        esn=_pair(esp.esn),
        pfs=esp.pfs,
        renewal=ike.renewal,
        authentication=_pair(spec.authentication),
        nat_traversal=spec.nat_traversal,
        selection=_pair(spec.selection),
        same_selectors=spec.same_selectors,
        several_selectors=spec.several_selectors,
        tunnels=spec.tunnels,
        throughput=spec.throughput,
        bgp=spec.bgp,
        bfd=spec.bfd,
        monitor=spec.monitor,
        initiates=spec.initiates,
        mss_clamping=spec.mss_clamping,
        identities=_pair(spec.identities),
        liveness=LivenessRange()
        if live is None
        else LivenessRange(live.least_delay, live.most_delay, live.most_tries),
        key=KeyRules() if key is None else KeyRules(key.least, key.most, key.characters),
        unsaid=tuple(unsaid(spec)),
    )


def _pair(found: list[Any] | None) -> tuple[Any, ...] | None:
    return None if found is None else tuple(found)


def _names(kind: Kind, names: list[Any] | None) -> tuple[Algorithm, ...] | None:
    return None if names is None else tuple(by_name(kind, str(name)) for name in names)


def _lifetime(spec: LifetimeSpec | None) -> LifetimeRange:
    if spec is None:
        return LifetimeRange()
    return LifetimeRange(
        spec.least or 0.0, spec.most or float("inf"), spec.default, spec.unit, spec.shown
    )


def unsaid(spec: Entity, before: str = "") -> Iterator[str]:
    """Keys that a profile leaves out, such as `ike.lifetime.default`."""
    for name, field in type(spec).model_fields.items():
        key = before + (field.alias or name)
        value = getattr(spec, name)
        if isinstance(value, Entity):
            yield from unsaid(value, f"{key}.")
        elif value is None and key != "about":
            yield key


def wrong_names(spec: ProfileSpec) -> Iterator[tuple[tuple[str | int, ...], str]]:
    """(place, message) of every algorithm that does not exist."""
    for part, entity in (("ike", spec.ike), ("esp", spec.esp)):
        for key, kind in _KINDS.items():
            for index, name in enumerate(getattr(entity, key, None) or ()):
                try:
                    by_name(kind, str(name))
                except KeyError as error:
                    yield (part, key, index), str(error.args[0])


_KINDS = {
    "encryption": Kind.ENCRYPTION,
    "integrity": Kind.INTEGRITY,
    "prf": Kind.PRF,
    "groups": Kind.GROUP,
}
