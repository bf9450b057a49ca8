"""A resource of the practice cloud, and the operation that builds or removes it."""

from __future__ import annotations

import hmac
import json
from dataclasses import dataclass
from typing import Any

from obrin.live.practice.cloud.bodies import Address, Body, Gateway

FAILED = "failed"
WAITING = "waiting"
"""State of what is built and waits for another owner to accept it."""


@dataclass(slots=True)
class Resource:
    """`given` are the addresses that the cloud itself gave it. `runs` is what runs on while it is
    being changed."""

    kind: str
    name: str
    body: Body
    state: str = "building"
    waits_for: str = ""
    given: tuple[str, ...] = ()
    runs: Body | None = None

    @property
    def running(self) -> Body | None:
        """What runs now: nothing while it is built for the first time, or anew."""
        return {"ready": self.body, "building": self.runs}.get(self.state)

    def shown(self) -> dict[str, Any]:
        """The resource as a client may see it, without secrets."""
        shown = self.body.model_dump(mode="json", exclude=SECRETS)
        asked = {"waits_for": self.waits_for} if self.state == WAITING else {}
        gave = {"given": list(self.given)} if self.given and self.state != "building" else {}
        return {"name": self.name, "state": self.state, **asked, **gave, "properties": shown}

    @property
    def addresses(self) -> tuple[str, ...]:
        """Addresses of the resource, asked for or assigned."""
        return self.addresses_of(self.body)

    def addresses_of(self, body: Body) -> tuple[str, ...]:
        """The same of what it is now or was before."""
        if isinstance(body, Address):
            return tuple(body.addresses) or self.given
        return (tuple(body.peer_addresses) if isinstance(body, Gateway) else ()) or self.given

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
