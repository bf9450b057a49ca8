"""Resources, their states, and the operations that build and remove them, on a scalable clock.

A change is accepted at once and finished later: the answer names an operation to watch. Nothing
here does I/O; `now` is passed in, in seconds of real time, and `speed` says how many simulated
seconds pass in each.
"""

from __future__ import annotations

import hmac
import json
import re
from collections.abc import Callable, Collection
from dataclasses import dataclass
from typing import Any

from obrin.core.catalogue.offering import GatewayClass, Offered
from obrin.core.errors import ObrinError
from obrin.core.handover.standard.ipsec import decode_suite
from obrin.device.credentials import credential_from
from obrin.live.practice.clock import wall_clock
from obrin.live.practice.cloud.bodies import (
    KINDS,
    Attachment,
    Body,
    Circuit,
    Gateway,
    JoinedBody,
    Network,
    Subnet,
    Tunnel,
    Way,
    references,
)
from obrin.live.practice.service import UNUSABLE, Problem

MINUTES = {
    "networks": 0.2,
    "subnets": 0.2,
    "addresses": 0.2,
    "far-ends": 0.2,
    "attachments": 0.5,
    "circuits": 1.0,
    "tunnels": 1.0,
    "filters": 0.2,
}
QUOTAS = {"networks": 10, "gateways": 10, "addresses": 20}
OPERATIONS_KEPT = 1000
FAILED = "failed"
WAITING = "waiting"
"""Of what is built, and another owner has to accept."""


@dataclass(slots=True)
class Resource:
    kind: str
    name: str
    body: Body
    state: str = "building"
    waits_for: str = ""

    def shown(self) -> dict[str, Any]:
        """As a client may see it: without secrets."""
        shown = self.body.model_dump(mode="json", exclude=SECRETS)
        asked = {"waits_for": self.waits_for} if self.state == WAITING else {}
        return {"name": self.name, "state": self.state, **asked, "properties": shown}

    def etag(self, key: bytes) -> str:
        """Keyed, so that it cannot be used to try out guesses at the secrets in the body."""
        text = json.dumps([self.body.model_dump(mode="json"), self.state], sort_keys=True)
        return '"' + hmac.new(key, text.encode(), "sha256").hexdigest()[:24] + '"'


@dataclass(slots=True, kw_only=True)
class Operation:
    number: int
    kind: str
    name: str
    action: str
    begun: float
    ends: float
    status: str = "running"

    def shown(self, now: float) -> dict[str, Any]:
        whole = max(self.ends - self.begun, 1e-9)
        percent = 100 if self.status != "running" else min(99, (now - self.begun) / whole * 100)
        return {
            "id": str(self.number),
            "resource": f"/v1/{self.kind}/{self.name}",
            "action": self.action,
            "status": self.status,
            "percent": int(percent),
            "seconds_left": round(max(self.ends - now, 0.0), 3),
        }


SECRETS = {"pre_shared_key", "session_passwords", "certificate"}
"""What a tunnel's body can be given and never gives back."""


_NAME = re.compile(r"[A-Za-z0-9._-]{1,128}")


class Store:
    """`agreed` is what other owners have accepted before, as `kind/name`; None where they accept
    everything. What is `failing`, by kind or by `kind/name`, fails once when it is built."""

    def __init__(
        self,
        offering: Offered,
        speed: float,
        changed: Callable[[], None],
        etag_key: bytes,
        agreed: Collection[str] | None = None,
    ) -> None:
        self._etag_key = etag_key
        self._agreed = None if agreed is None else set(agreed)
        self.offering = offering
        self.resources: dict[tuple[str, str], Resource] = {}
        self.operations: dict[int, Operation] = {}
        self.failing: set[str] = set()
        self._speed = speed
        self._changed = changed
        self._next = 1

    def etag(self, resource: Resource) -> str:
        return resource.etag(self._etag_key)

    def ready(self, kind: str) -> list[Resource]:
        return [r for r in self.resources.values() if r.kind == kind and r.state == "ready"]

    def changing(self, kind: str) -> list[Resource]:
        """Resources that are being built, for the first time or again."""
        return [r for r in self.resources.values() if r.kind == kind and r.state == "building"]

    def get(self, kind: str, name: str) -> Resource:
        found = self.resources.get((kind, name))
        if found is None:
            raise Problem(404, "not found", f"there is no {kind} {name}")
        return found

    def operation(self, number: int) -> Operation:
        found = self.operations.get(number)
        if found is None:
            raise Problem(404, "not found", f"there is no operation {number}")
        return found

    def running(self, kind: str, name: str) -> Operation | None:
        for operation in self.operations.values():
            if (operation.kind, operation.name, operation.status) == (kind, name, "running"):
                return operation
        return None

    def put(
        self, kind: str, name: str, data: dict[str, Any], if_match: str | None, now: float
    ) -> tuple[Resource, Operation | None]:
        """Create or change. The same body again changes nothing. Raises Problem."""
        body = _parse(kind, data)
        if not _NAME.fullmatch(name):
            raise Problem(422, "not a name", "1 to 128 letters, digits, dots, dashes, underscores")
        existing = self.resources.get((kind, name))
        if existing is not None:
            running = self.running(kind, name)
            if running is not None and running.action == "remove":
                raise Problem(409, "busy", f"{kind} {name} is being removed; wait for it")
            if existing.body == body and existing.state != FAILED:
                return existing, running
            if running is not None:
                raise Problem(409, "busy", f"{kind} {name} is {existing.state}; wait for it")
            if if_match is None and existing.state != FAILED:
                raise Problem(428, "precondition required", "send If-Match with the ETag you read")
            if if_match is not None and if_match != self.etag(existing):
                raise Problem(412, "changed meanwhile", f"{kind} {name} is not as you read it")
        elif if_match is not None:
            raise Problem(412, "gone", f"there is no {kind} {name} to change")
        self._admit(kind, name, body)
        resource = Resource(kind, name, body)
        self.resources[kind, name] = resource
        return resource, self._begin(kind, name, "build", self._seconds(kind, body), now)

    def delete(self, kind: str, name: str, now: float) -> Operation:
        resource = self.get(kind, name)
        running = self.running(kind, name)
        if running is not None and running.action == "remove":
            return running
        users = [
            f"{r.kind} {r.name}"
            for r in self.resources.values()
            if (kind, name) in references(r.kind, r.body)
        ]
        if users:
            raise Problem(409, "in use", f"{kind} {name} is used by {', '.join(users)}")
        resource.state = "removing"
        self._changed()
        return self._begin(kind, name, "remove", self._seconds(kind, resource.body) / 4, now)

    def _begin(self, kind: str, name: str, action: str, seconds: float, now: float) -> Operation:
        operation = Operation(
            number=self._next,
            kind=kind,
            name=name,
            action=action,
            begun=now,
            ends=now + seconds / self._speed,
        )
        self._next += 1
        self.operations[operation.number] = operation
        if len(self.operations) > OPERATIONS_KEPT:
            done = (n for n, o in self.operations.items() if o.status != "running")
            del self.operations[next(done)]
        return operation

    def _seconds(self, kind: str, body: Body) -> float:
        if isinstance(body, Gateway):
            return self._class(body.network, body.capacity_class).build_minutes * 60.0
        return MINUTES[kind] * 60.0

    def _class(self, network: str, name: str) -> GatewayClass:
        found = self.offering.of(network).find_class(name)
        if found is not None:
            return found
        raise Problem(422, "no such class", f"there is no capacity class {name}")

    def next_timer(self) -> float:
        return min(
            (o.ends for o in self.operations.values() if o.status == "running"),
            default=float("inf"),
        )

    def handle_timer(self, now: float) -> None:
        for operation in list(self.operations.values()):
            if operation.status == "running" and now >= operation.ends:
                operation.status = "succeeded"
                key = (operation.kind, operation.name)
                if operation.action == "remove":
                    self.resources.pop(key, None)
                else:
                    self._built(operation, self.resources[key])
                self._changed()

    def _built(self, operation: Operation, resource: Resource) -> None:
        for name in (f"{resource.kind}/{resource.name}", resource.kind):
            if name in self.failing:
                self.failing.discard(name)
                resource.state, operation.status = FAILED, FAILED
                return
        owners = " and ".join(self._owners(resource.body))
        agreed = self._agreed is None or f"{resource.kind}/{resource.name}" in self._agreed
        resource.state = "ready" if agreed or not owners else WAITING
        if resource.state == WAITING:
            resource.waits_for, operation.status = owners, WAITING

    def _owners(self, body: Body) -> list[str]:
        """Who has to accept something: whose networks it joins, and whose line it is."""
        joins = [body.hub, body.network] if isinstance(body, Attachment) else []
        if isinstance(body, Way):
            gateway = self.resources["gateways", body.gateway].body
            joins += [gateway.network] if isinstance(gateway, Gateway) else []
        networks = (self.resources["networks", name].body for name in joins)
        found = [network.owner for network in networks if isinstance(network, Network)]
        if isinstance(body, Circuit):
            found.append(body.owner)
        return list(dict.fromkeys(owner for owner in found if owner is not None))

    def accept(self, kind: str, name: str) -> Resource:
        """Its owner says yes. Raises Problem where nobody is asked."""
        resource = self.get(kind, name)
        if resource.state != WAITING:
            raise Problem(409, "not asked", f"{kind} {name} is {resource.state}; nobody is asked")
        resource.state, resource.waits_for = "ready", ""
        if self._agreed is not None:
            self._agreed.add(f"{kind}/{name}")
        for operation in self.operations.values():
            mine = (operation.kind, operation.name, operation.status) == (kind, name, WAITING)
            operation.status = "succeeded" if mine else operation.status
        self._changed()
        return resource

    # Rules of the cloud

    def _admit(self, kind: str, name: str, body: Body) -> None:
        for other_kind, other in references(kind, body):
            needed = self.resources.get((other_kind, other))
            if needed is None:
                raise Problem(409, "missing", f"{kind} {name} needs {other_kind} {other}")
            if needed.state != "ready":
                raise Problem(
                    409, "not ready", f"{other_kind} {other} is {needed.state}; wait for it"
                )
        count = sum(k == kind for k, _ in self.resources)
        if (kind, name) not in self.resources and count >= QUOTAS.get(kind, 10_000):
            raise Problem(403, "quota", f"no more than {QUOTAS[kind]} {kind} are allowed")
        if isinstance(body, Network):
            for space in body.spaces:
                if space.bits == 32 and space.length < self.offering.of(name).largest_space:
                    raise Problem(422, "too large", f"{space} is larger than allowed")
        elif isinstance(body, Subnet):
            self._admit_subnet(name, body)
        elif isinstance(body, Gateway):
            self._admit_gateway(body)
        elif isinstance(body, Attachment):
            self._admit_joined(body.hub, body.joined)
        elif isinstance(body, Way):
            gateway = self.resources["gateways", body.gateway].body
            if isinstance(gateway, Gateway):
                self._admit_joined(gateway.network, body.joined)
        if isinstance(body, Tunnel):
            self._admit_tunnel(name, body)

    def _admit_joined(self, network: str, joined: JoinedBody | None) -> None:
        """Everything at a hub uses one of its tables, and nothing elsewhere does."""
        body = self.resources["networks", network].body
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
            for (k, n), r in self.resources.items()
            if k == "subnets"
            and n != but
            and isinstance(r.body, Subnet)
            and r.body.network == network
        ]

    def _admit_subnet(self, name: str, body: Subnet) -> None:
        network = self.resources["networks", body.network].body
        others = self._subnets(body.network, name)
        smallest = self.offering.of(body.network).smallest_subnet
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
        found = self._class(body.network, body.capacity_class)
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
        gateway = self.resources["gateways", body.gateway].body
        if not isinstance(gateway, Gateway):
            return
        if body.instance > len(gateway.public_addresses):
            raise Problem(422, "no such instance", f"{body.gateway} has no {body.instance}")
        found = self._class(gateway.network, gateway.capacity_class)
        if body.bgp is not None and not found.bgp:
            raise Problem(422, "no BGP", f"class {found.name} does not speak BGP")
        others = [
            r
            for r in self.resources.values()
            if isinstance(r.body, Tunnel) and r.body.gateway == body.gateway and r.name != name
        ]
        if len(others) >= found.tunnels:
            raise Problem(403, "quota", f"class {found.name} holds {found.tunnels} tunnels")
        for reserved in self.offering.of(gateway.network).reserved_inside:
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
                credential_from(body.certificate.as_standard(), wall_clock)
        except ObrinError as error:
            raise Problem(422, "certificate", str(error)) from error


def _parse(kind: str, data: dict[str, Any]) -> Body:
    from pydantic import ValidationError

    model = KINDS.get(kind)
    if model is None:
        raise Problem(404, "not found", f"there is no kind of resource {kind}")
    try:
        return model.model_validate(data)
    except ValidationError as error:
        # Messages only: the input may hold a secret.
        texts = [f"{'.'.join(map(str, e['loc']))}: {e['msg']}" for e in error.errors()]
        raise Problem(422, "not valid", "; ".join(texts)) from None
