"""Resources, their states, and the operations that build and remove them, on a scalable clock.

A change is accepted at once and finished later: the answer names an operation to watch. Nothing
here does I/O; `now` is passed in, in seconds of real time, and `speed` says how many simulated
seconds pass in each.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Mapping, Sequence
from types import MappingProxyType
from typing import Any

from obrin.core.catalogue.offering import Offered
from obrin.live.practice.cloud.bodies import (
    KINDS,
    Attachment,
    Body,
    Circuit,
    Gateway,
    Network,
    Way,
    references,
)
from obrin.live.practice.cloud.giving import Giving
from obrin.live.practice.cloud.resource import FAILED, WAITING, Operation, Resource
from obrin.live.practice.cloud.rules import Rules
from obrin.live.practice.cloud.troubles import altered
from obrin.live.practice.service import Problem

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
OPERATIONS_KEPT = 1000
_NAME = re.compile(r"[A-Za-z0-9._-]{1,128}")


class Store:
    """`agreed` is what other owners have accepted before, as `kind/name`; None where they accept
    everything. What is `failing`, by kind or by `kind/name`, fails once when it is built. Of what
    the cloud gives, it gives what is `wished`, by `kind/name`, and otherwise what it likes."""

    def __init__(
        self,
        offering: Offered,
        speed: float,
        changed: Callable[[], None],
        etag_key: bytes,
        agreed: Collection[str] | None = None,
        wished: Mapping[str, Sequence[str]] = MappingProxyType({}),
    ) -> None:
        self._etag_key = etag_key
        self._agreed = None if agreed is None else set(agreed)
        self.resources: dict[tuple[str, str], Resource] = {}
        self._giving = Giving(offering, wished)
        self._rules = Rules(offering, self.resources)
        self.operations: dict[int, Operation] = {}
        self.failing: set[str] = set()
        self._altered: dict[tuple[str, str], tuple[Body, Body]] = {}
        self._speed = speed
        self._changed = changed
        self._next = 1

    def etag(self, resource: Resource) -> str:
        return resource.etag(self._etag_key)

    def running(self, kind: str) -> list[tuple[Resource, Body]]:
        """What runs of a kind: one that is being changed as it was before, until that is done."""
        mine = (r for r in self.resources.values() if r.kind == kind)
        return [(r, body) for r in mine if (body := r.running) is not None]

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

    def operation_on(self, kind: str, name: str) -> Operation | None:
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
            running = self.operation_on(kind, name)
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
        self._rules.admit(kind, name, body)
        resource = Resource(kind, name, body)
        resource.given = self._giving.give(self.resources, resource, existing)
        if existing is not None and self._rules.in_place(existing.body, body):
            resource.runs = existing.running
        self.resources[kind, name] = resource
        return resource, self._begin(kind, name, "build", self._seconds(kind, body), now)

    def alter(self, kind: str, name: str) -> None:
        """Somebody changes it at the console: who asked for it is not informed. Raises Problem."""
        resource = self.get(kind, name)
        body = altered(resource.body)
        if body is None:
            raise Problem(422, "nothing to change", f"nobody changes anything of {kind}")
        self._altered.setdefault((kind, name), (resource.body, body))
        resource.body = body
        self._changed()

    def heal(self) -> None:
        """What somebody changed at the console is as it was, unless it was changed again since; and
        nothing more fails."""
        for key, (before, since) in self._altered.items():
            resource = self.resources.get(key)
            if resource is not None and resource.body == since:
                resource.body = before
        self._altered.clear()
        self.failing.clear()
        self._changed()

    def delete(self, kind: str, name: str, now: float) -> Operation:
        resource = self.get(kind, name)
        running = self.operation_on(kind, name)
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
            return self._rules.class_of(body).build_minutes * 60.0
        return MINUTES[kind] * 60.0

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
        """Say who has to accept something: whose networks it joins, and whose line it is."""
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
        """Accept in the name of the owner. Raises Problem where nobody is asked."""
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
