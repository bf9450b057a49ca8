"""How the tunnels of a link work together: what leads traffic into them, and each one's role.

Roles: `active` carries the traffic; `shared` ones carry it together, a flow on one of them;
`standby` is up and takes over when the active one fails; `spare` is down until those before it have
failed, for a device that can hold no more at once.
"""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.design.abilities import cloud_able, ends_of, gateway_able
from obrin.core.design.model import Design, Link
from obrin.core.design.sites import Uplink
from obrin.core.design.timers import BfdSpec
from obrin.core.ipsec.liveness import Bfd, Liveness
from obrin.core.ipsec.profile import LivenessRange, Profile

ACTIVE, SHARED, STANDBY, SPARE = "active", "shared", "standby", "spare"


@dataclass(frozen=True, slots=True)
class Arrangement:
    """`roles` by tunnel; `why` says why they are so."""

    selection: str
    roles: dict[str, str]
    why: str

    def preference(self, tunnel: str) -> int:
        """Rank of a tunnel; a shared one has that of the first shared tunnel."""
        names = list(self.roles)
        if self.roles[tunnel] == SHARED:
            tunnel = next(name for name in names if self.roles[name] == SHARED)
        return names.index(tunnel) + 1


def arrange(design: Design, link_name: str) -> Arrangement:
    """What the design says, and for its blanks what the devices can do."""
    link = design.links[link_name]
    profiles = {
        name: gateway_able(design, link.site, name).profile
        for name in dict.fromkeys(t.gateway for t in link.tunnels.values())
    }
    selection = link.selection or _selection(
        [cloud_able(design, link.cloud).profile, *profiles.values()]
    )
    return Arrangement(selection, *_roles(link, profiles))


def _selection(profiles: list[Profile]) -> str:
    """Tunnel interfaces unless a device has none."""
    able = [p.selection for p in profiles if p.selection is not None]
    return "policy" if any("interface" not in found for found in able) else "interface"


def _roles(link: Link, profiles: dict[str, Profile]) -> tuple[dict[str, str], str]:
    """The first is active; what a device cannot hold at once becomes a spare."""
    held = dict.fromkeys(profiles, 0)
    roles: dict[str, str] = {}
    why = "in the order of preference"
    for name, tunnel in link.tunnels.items():
        most = profiles[tunnel.gateway].same_selectors
        held[tunnel.gateway] += 1
        blank = STANDBY if roles else ACTIVE
        if most is not None and held[tunnel.gateway] > most:
            blank = SPARE
            why = f"{tunnel.gateway} holds {most} at once for equal traffic selectors"
        roles[name] = tunnel.role or blank
    return roles, why


def bfd_of(design: Design, link_name: str, selection: str) -> Bfd | None:
    """Choose what the design says; for a blank, where every end is known to speak it inside
    tunnels."""
    link = design.links[link_name]
    if isinstance(link.bfd, BfdSpec):
        return Bfd(link.bfd.interval, link.bfd.multiplier)
    able = all(end.profile.bfd for end in ends_of(design, link_name))
    return Bfd() if link.bfd is None and able and selection == "interface" else None


def each_pair_of(design: Design, link_name: str, selection: str) -> bool:
    """Choose what the design says; for a blank, where an end is known to hold no more in one
    child SA. With tunnel interfaces there is nothing to divide."""
    said = design.links[link_name].child_sas
    if selection != "policy":
        return False
    if said is not None:
        return said == "each-pair"
    return any(end.profile.several_selectors is False for end in ends_of(design, link_name))


def liveness_of(design: Design, link_name: str) -> Liveness:
    """Liveness check as the design says; for blanks, values that every end can be set to."""
    wanted = design.links[link_name].liveness
    able = LivenessRange()
    for end in ends_of(design, link_name):
        able = able.both(end.profile.liveness)
    return able.nearest(wanted.delay, wanted.wait, wanted.tries)


def identity_of(uplink: Uplink, profile: Profile) -> str:
    """What a device says it is: as the design has it, or its public address if it can say that.

    A device that knows only its own address says that one, also behind a translator.
    """
    if uplink.identity is not None:
        return uplink.identity
    own_only = profile.identities == ("own-address",)
    return (uplink.inside or uplink.address) if own_only else uplink.address
