"""What routes lead into. A way is known by its label, which is never taken apart again."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.settled.links import SettledCircuit, SettledTunnel


@dataclass(frozen=True, slots=True)
class Attachment:
    """Between a hub and a member."""

    hub: str
    member: str

    @property
    def label(self) -> str:
        return f"{self.member}@{self.hub}"


@dataclass(frozen=True, slots=True)
class Neighbour:
    """Over the site's own network to another of its gateways."""

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
