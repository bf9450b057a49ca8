"""Keys of the settled file: the one place that builds them and takes them apart.

A key is the place of a blank in the design, its steps joined by dots. The IPv6 half of a value for
both families has the same key with a 6 at its end.
"""

from __future__ import annotations

from dataclasses import dataclass

_TRANSLATION = ("seen-as", "cloud-seen-as")
_POOLS = {"seen-as": "translation", "inside": "inside", "loopback": "loopbacks"}


def suffix(bits: int) -> str:
    """What the keys of a family end in."""
    return "" if bits == 32 else "6"


def cloud_key(cloud: str, *steps: str, bits: int = 32) -> str:
    """The key of a blank of a cloud, such as `clouds.apps.gateway.as`."""
    return _joined("clouds", cloud, *steps, bits=bits)


def site_key(site: str, *steps: str, bits: int = 32) -> str:
    """The key of a blank of a site, such as `sites.quay.networks.desks.prefix`."""
    return _joined("sites", site, *steps, bits=bits)


def link_key(link: str, *steps: str, bits: int = 32) -> str:
    """The key of a blank of a link, such as `links.quay-apps.tunnels.a.inside`."""
    return _joined("links", link, *steps, bits=bits)


def circuit_key(circuit: str, *steps: str, bits: int = 32) -> str:
    """The key of a blank of a circuit, such as `circuits.harbour-line.inside`."""
    return _joined("circuits", circuit, *steps, bits=bits)


def region_key(region: str, purpose: str, *, bits: int = 32) -> str:
    """The key of the range of a region, such as `regions.north.sites`."""
    return _joined("regions", region, purpose, bits=bits)


def _joined(*steps: str, bits: int) -> str:
    """Names hold no dots, so nothing in a key needs quoting."""
    return ".".join(steps) + suffix(bits)


@dataclass(frozen=True, slots=True)
class Blank:
    """The place of a blank in the design: `clouds.north.subnets.apps.prefix` is one."""

    path: tuple[str, ...]

    @classmethod
    def of(cls, key: str) -> Blank:
        """Names hold no dots, so nothing in a key needs quoting."""
        return cls(tuple(key.split(".")))

    @property
    def part(self) -> str:
        """The part of the design: `sites`, `clouds`, `links`, `circuits`, `regions` or `ula`."""
        return self.path[0]

    @property
    def owner(self) -> str:
        """Say whose it is: a site, cloud, link, circuit or region; empty for what is nobody's."""
        return self.path[1] if len(self.path) > 1 else ""

    @property
    def group(self) -> str:
        """What the owner has several of: `networks`, `gateways`, `subnets`, `tunnels`; or its
        `gateway`."""
        return self.path[2] if len(self.path) > 3 else ""

    @property
    def member(self) -> str:
        """Which of the group, such as a network or a tunnel."""
        return self.path[3] if len(self.path) > 4 else ""

    @property
    def field(self) -> str:
        """What is blank, without the mark of its family; `region` for the range of a region, and
        `seen-as` for what stands for something. Names of places are not fields."""
        if self.part == "regions":
            return "region"
        if self.part == "links" and self.path[2] in _TRANSLATION:
            return "seen-as"
        return self.path[-1].removesuffix("6")

    @property
    def purpose(self) -> str:
        """What the pools are for that it may come from."""
        if self.field == "region":
            return self.path[2].removesuffix("6")
        return _POOLS.get(self.field, self.part)

    @property
    def ipv6(self) -> bool:
        """Whether it is the IPv6 half of a value for both families."""
        return self.path[-1].endswith("6") and self.field != "seen-as"

    @property
    def inside_space(self) -> bool:
        """Whether it comes out of the space of its own site or cloud."""
        return self.group in ("subnets", "networks") or self.gateway_subnet

    @property
    def gateway_subnet(self) -> bool:
        return self.group == "gateway" and self.field == "subnet"
