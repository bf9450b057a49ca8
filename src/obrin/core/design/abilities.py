"""What the devices at the ends of a link can do, and which suites they may offer."""

from __future__ import annotations

import functools
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from obrin.core.catalogue.shipped_profiles import SHIPPED_SPECS
from obrin.core.design.model import Design
from obrin.core.design.profile_spec import ProfileSpec, build_profile
from obrin.core.ipsec.profile import UNKNOWN, Profile
from obrin.core.ipsec.suite import SHIPPED, Suite


@functools.cache
def shipped_profile(name: str) -> Profile:
    """Raises KeyError."""
    return build_profile(name, ProfileSpec.model_validate(SHIPPED_SPECS[name]))


def find_profile(design: Design, name: str | None) -> Profile:
    """UNKNOWN for a blank. Raises KeyError."""
    if name is None:
        return UNKNOWN
    own = design.profiles.get(name)
    return shipped_profile(name) if own is None else build_profile(name, own)


@dataclass(frozen=True, slots=True)
class Able:
    """One end of a link. `offers` are names of the suites it may use; None for all it can do."""

    name: str
    profile: Profile
    offers: tuple[str, ...] | None

    @property
    def described(self) -> bool:
        return self.profile is not UNKNOWN

    def may(self, suite: Suite) -> bool:
        """Whether it can do a suite and may use it. Nothing said: it does the shipped ones."""
        if self.offers is not None:
            return suite.name in self.offers and self.profile.can(suite)
        return self.profile.can(suite) and (self.described or suite.name in SHIPPED)

    def does(self, suite: Suite) -> bool:
        """Whether it can be configured with a suite that a link was given or made for it."""
        named = self.offers is None or suite.name in self.offers
        return named and self.profile.can(suite)

    def suites(self, known: Mapping[str, Suite]) -> tuple[Suite, ...]:
        """All that it can do of the known suites and may use, best first."""
        names = known if self.offers is None else self.offers
        return tuple(known[n] for n in names if self.profile.can(known[n]))


def cloud_able(design: Design, cloud: str) -> Able:
    """The cloud gateway's end."""
    gateway = design.clouds[cloud].gateway
    return _able(design, cloud, gateway.profile, gateway.offers)


def gateway_able(design: Design, site: str, name: str) -> Able:
    """A site gateway's end."""
    gateway = design.sites[site].gateways[name]
    return _able(design, name, gateway.profile, gateway.offers)


def _able(design: Design, name: str, profile: str | None, offers: list[str] | None) -> Able:
    return Able(name, find_profile(design, profile), None if offers is None else tuple(offers))


KINDS = ("ecdsa", "rsa", "ed25519")


def certificate_kind(design: Design) -> str:
    """The kind of key of all certificates: as the design says, or one that every device can do.

    ECDSA when nothing is common; the check says which device cannot.
    """
    if design.authority.key is not None:
        return design.authority.key
    methods = [
        end.profile.authentication
        for name, link in design.links.items()
        if link.authentication == "certificate"
        for end in ends_of(design, name)
        if end.profile.authentication is not None
    ]
    return next((kind for kind in KINDS if all(kind in found for found in methods)), KINDS[0])


def ends_of(design: Design, link_name: str) -> Iterator[Able]:
    """The cloud's end first, then each gateway that the link's tunnels use."""
    link = design.links[link_name]
    yield cloud_able(design, link.cloud)
    for name in dict.fromkeys(t.gateway for t in link.tunnels.values()):
        yield gateway_able(design, link.site, name)
