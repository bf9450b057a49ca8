"""What a key of the settled file stands for: the one place that takes such a key apart."""

from __future__ import annotations

from dataclasses import dataclass

_TRANSLATION = ("seen-as", "cloud-seen-as")
_POOLS = {"seen-as": "translation", "inside": "inside", "loopback": "loopbacks"}


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
        """Whose it is: a site, cloud, link, circuit or region; empty for what is nobody's."""
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
