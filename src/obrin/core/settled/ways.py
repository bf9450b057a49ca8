"""What routes lead into. A way is known by its label, which is never taken apart again."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.settled.links import SettledCircuit, SettledTunnel


@dataclass(frozen=True, slots=True)
class Attachment:
    """An attachment between a hub and a member."""

    hub: str
    member: str

    @property
    def label(self) -> str:
        return f"{self.member}@{self.hub}"


@dataclass(frozen=True, slots=True)
class Neighbour:
    """A neighbour: another gateway of the same site, reached over the site's own network."""

    gateway: str

    @property
    def label(self) -> str:
        return f"lan:{self.gateway}"


Way = SettledTunnel | SettledCircuit | Attachment | Neighbour


@dataclass(frozen=True, slots=True)
class Router:
    """A router of the model: a site gateway, a cloud's gateway, or a `table` of a hub."""

    place: str
    table: str = ""

    @property
    def label(self) -> str:
        return f"{self.place}/{self.table}" if self.table else self.place
