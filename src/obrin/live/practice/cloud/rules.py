"""What the practice cloud allows: order, quotas, sizes, and nothing that overlaps."""

from __future__ import annotations

from collections.abc import Mapping

from obrin.core.catalogue.offering import GatewayClass, Offered
from obrin.core.errors import ObrinError
from obrin.core.handover.standard.ipsec import decode_suite
from obrin.device.standard.credentials import credential_from
from obrin.live.practice.clock import wall_clock
from obrin.live.practice.cloud.bodies import (
    Attachment,
    Body,
    Gateway,
    JoinedBody,
    Network,
    Subnet,
    Tunnel,
    Way,
    references,
)
from obrin.live.practice.cloud.resource import Resource
from obrin.live.practice.service import UNUSABLE, Problem

QUOTAS = {"networks": 10, "gateways": 10, "addresses": 20}


class Rules:
    """`resources` are those that are there, by kind and name, as they come and go."""

    def __init__(self, offering: Offered, resources: Mapping[tuple[str, str], Resource]) -> None:
        self._offering = offering
        self._resources = resources

    def class_of(self, gateway: Gateway) -> GatewayClass:
        """Raises Problem where it is not offered."""
        found = self._offering.of(gateway.network).find_class(gateway.capacity_class)
        if found is None:
            raise Problem(
                422, "no such class", f"there is no capacity class {gateway.capacity_class}"
            )
        return found

    def in_place(self, old: Body, new: Body) -> bool:
        """Whether it runs on while it is changed; else it is built anew."""
        if not isinstance(old, Gateway) or not isinstance(new, Gateway):
            return True
        changes = {
            "class": old.capacity_class != new.capacity_class,
            "subnet": old.peer_addresses[: len(new.peer_addresses)]
            != new.peer_addresses[: len(old.peer_addresses)],
            "instances": len(old.public_addresses) != len(new.public_addresses),
        }
        offered = self._offering.of(new.network).in_place
        return all(name in offered for name, changed in changes.items() if changed)

    def admit(self, kind: str, name: str, body: Body) -> None:
        """Raises Problem where it may not be, as things are now."""
        for other_kind, other in references(kind, body):
            needed = self._resources.get((other_kind, other))
            if needed is None:
                raise Problem(409, "missing", f"{kind} {name} needs {other_kind} {other}")
            if needed.state != "ready":
                raise Problem(
                    409, "not ready", f"{other_kind} {other} is {needed.state}; wait for it"
                )
        count = sum(k == kind for k, _ in self._resources)
        if (kind, name) not in self._resources and count >= QUOTAS.get(kind, 10_000):
            raise Problem(403, "quota", f"no more than {QUOTAS[kind]} {kind} are allowed")
        if isinstance(body, Network):
            for space in body.spaces:
                if space.bits == 32 and space.length < self._offering.of(name).largest_space:
                    raise Problem(422, "too large", f"{space} is larger than allowed")
        elif isinstance(body, Subnet):
            self._admit_subnet(name, body)
        elif isinstance(body, Gateway):
            self._admit_gateway(body)
        elif isinstance(body, Attachment):
            self._admit_joined(body.hub, body.joined)
        elif isinstance(body, Way):
            gateway = self._resources["gateways", body.gateway].body
            if isinstance(gateway, Gateway):
                self._admit_joined(gateway.network, body.joined)
        if isinstance(body, Tunnel):
            self._admit_tunnel(name, body)

    def _admit_joined(self, network: str, joined: JoinedBody | None) -> None:
        """Everything at a hub uses one of its tables, and nothing elsewhere does."""
        body = self._resources["networks", network].body
        tables = body.tables if isinstance(body, Network) else []
        if (joined is None) is bool(tables):
            what = "name the table that it uses" if tables else f"{network} has no route tables"
            raise Problem(422, "route table", what)
        named = () if joined is None else (joined.uses, *joined.fills)
        for table in named:
            if table not in tables:
                raise Problem(422, "no such table", f"{network} has no route table {table}")

    def _subnets(self, network: str, but: str) -> list[Subnet]:
        return [
            r.body
            for (k, n), r in self._resources.items()
            if k == "subnets"
            and n != but
            and isinstance(r.body, Subnet)
            and r.body.network == network
        ]

    def _admit_subnet(self, name: str, body: Subnet) -> None:
        network = self._resources["networks", body.network].body
        others = self._subnets(body.network, name)
        smallest = self._offering.of(body.network).smallest_subnet
        for prefix in body.prefixes:
            if isinstance(network, Network) and not any(s.covers(prefix) for s in network.spaces):
                held = ", ".join(map(str, network.spaces))
                raise Problem(422, "outside", f"{prefix} is not inside {held}")
            if prefix.bits == 32 and prefix.length > smallest:
                raise Problem(422, "too small", f"{prefix} is smaller than a subnet can be")
            for other in (p for subnet in others for p in subnet.prefixes):
                if other.overlaps(prefix):
                    raise Problem(409, "overlap", f"{prefix} overlaps {other}")

    def _admit_gateway(self, body: Gateway) -> None:
        found = self.class_of(body)
        if len(body.public_addresses) > found.instances:
            raise Problem(422, "too many instances", f"{found.name} runs {found.instances}")
        subnets = [s for s in self._subnets(body.network, "") if s.role == "gateway"]
        if not subnets:
            raise Problem(409, "missing", f"network {body.network} has no gateway subnet")
        for prefix in subnets[0].prefixes:
            if prefix.bits == 32 and prefix.length > found.subnet_length:
                raise Problem(
                    422,
                    "gateway subnet too small",
                    f"{found.name} needs a /{found.subnet_length}, there is {prefix}",
                )

    def _admit_tunnel(self, name: str, body: Tunnel) -> None:
        gateway = self._resources["gateways", body.gateway].body
        if not isinstance(gateway, Gateway):
            return
        if body.instance > len(gateway.public_addresses):
            raise Problem(422, "no such instance", f"{body.gateway} has no {body.instance}")
        found = self.class_of(gateway)
        if body.bgp is not None and not found.bgp:
            raise Problem(422, "no BGP", f"class {found.name} does not speak BGP")
        others = [
            r
            for r in self._resources.values()
            if isinstance(r.body, Tunnel) and r.body.gateway == body.gateway and r.name != name
        ]
        if len(others) >= found.tunnels:
            raise Problem(403, "quota", f"class {found.name} holds {found.tunnels} tunnels")
        for reserved in self._offering.of(gateway.network).reserved_inside:
            for block in body.inside:
                if reserved.overlaps(block):
                    raise Problem(422, "reserved", f"{block} lies in {reserved}")
        for other in others:
            held = other.body.inside if isinstance(other.body, Tunnel) else ()
            taken = [b for b in body.inside if any(b.overlaps(one) for one in held)]
            if taken:
                raise Problem(409, "overlap", f"{taken[0]} is used by tunnel {other.name}")
        try:
            decode_suite(body.suite)
        except (*UNUSABLE, ObrinError) as error:
            raise Problem(422, "suite", f"the suite is not usable: {error}") from error
        try:
            if body.certificate is not None:
                credential_from(body.certificate.files, wall_clock)
        except ObrinError as error:
            raise Problem(422, "certificate", str(error)) from error
