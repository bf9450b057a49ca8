"""The configuration of a cloud's data plane: networks, hubs, what is attached, and gateways."""

from __future__ import annotations

from dataclasses import dataclass, field

from obrin.core.address.prefix import Address, Prefix
from obrin.core.reach.filters import Rule
from obrin.core.settled.ways import Attachment
from obrin.core.settled.ways import Router as RouterName
from obrin.device.config import RouterConfig


@dataclass(frozen=True, slots=True, kw_only=True)
class CloudSubnet:
    """`propagation` is whether its hosts know what the network learned. Only `workload` ones have
    hosts. `routes` are its own, with what they lead to; `host_firewall` is what its hosts let in by
    themselves, None where they have no firewalls."""

    name: str
    network: str
    prefixes: tuple[Prefix, ...]
    propagation: bool
    workload: bool
    routes: tuple[tuple[Prefix, str], ...] = ()
    host_firewall: tuple[Rule, ...] | None = None

    def own_route(self, address: Address) -> tuple[Prefix, str] | None:
        """The longest of its own routes that an address lies in."""
        found = [entry for entry in self.routes if entry[0].holds(address)]
        return max(found, key=lambda entry: entry[0].length, default=None)


@dataclass(frozen=True, slots=True, kw_only=True)
class CloudNetwork:
    """A network, or a hub with its route `tables`. `asn` is 0 where it speaks no BGP."""

    spaces: tuple[Prefix, ...]
    asn: int
    identifier: int
    tables: tuple[str, ...] = ()

    def routers(self, name: str) -> list[str]:
        """The names of its route tables, where `name` is its own."""
        return [RouterName(name, table).label for table in self.tables] or [name]


@dataclass(frozen=True, slots=True, kw_only=True)
class Joined:
    """How something joins a hub: the route table that it `uses`, and the tables that it `fills`."""

    uses: str
    fills: frozenset[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class CloudAttachment:
    """Attaches a network to a hub."""

    hub: str
    network: str
    joined: Joined

    @property
    def label(self) -> str:
        return Attachment(self.hub, self.network).label


@dataclass(frozen=True, slots=True, kw_only=True)
class InstanceConfig:
    """One running instance of a gateway, or what its dedicated lines end at; `addresses` are its
    public ones."""

    network: str
    addresses: tuple[Address, ...]
    router: RouterConfig


@dataclass(frozen=True, slots=True, kw_only=True)
class CloudConfig:
    """`rules` by network: what its subnets let in and out. `instances` by name. `joined` are the
    tunnels and lines of hubs."""

    networks: dict[str, CloudNetwork] = field(default_factory=dict)
    subnets: tuple[CloudSubnet, ...] = ()
    rules: dict[str, tuple[Rule, ...]] = field(default_factory=dict)
    instances: dict[str, InstanceConfig] = field(default_factory=dict)
    attachments: tuple[CloudAttachment, ...] = ()
    joined: dict[str, Joined] = field(default_factory=dict)
