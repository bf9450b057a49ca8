"""Gateways over RESTCONF (RFC 8040): standard data in, obrin-observe out."""

from __future__ import annotations

import threading
from datetime import datetime

from obrin.core.errors import OutsideError
from obrin.core.handover.standard.keys import CONTAINER as KEYS
from obrin.core.json_text import Json
from obrin.live.drivers.observations import (
    Answer,
    Dropped,
    EndStatus,
    Question,
    RouteSeen,
    Streamed,
)
from obrin.live.drivers.observed import (
    answered,
    asked,
    between,
    dropped,
    routes_seen,
    statuses_in,
)
from obrin.live.drivers.places import ROOT, Place
from obrin.live.drivers.protocol import Done, GatewayDriver
from obrin.live.http import Client

YANG_JSON = {"Content-Type": "application/yang-data+json"}
STATE = "obrin-observe:state"


def open_gateway(place: Place) -> GatewayDriver:
    """The entry point `restconf`."""
    return RestconfGateway(Client.at(f"gateway {place.name}", place), place.root)


class RestconfGateway:
    def __init__(self, client: Client, root: str = ROOT) -> None:
        self._handing = threading.Lock()
        self._client, self._data, self._operations = client, f"{root}/data", f"{root}/operations"

    def hand_over(self, config: Json, keys: Json) -> Done:
        """Keys first, so that the configuration finds them."""
        with self._handing:
            return self._hand_over(config, keys)

    def _hand_over(self, config: Json, keys: Json) -> Done:
        before = self._etag()
        self._client.call("PUT", f"{self._data}/{KEYS}", keys, YANG_JSON)
        self._client.call("PUT", self._data, {"ietf-restconf:data": config}, YANG_JSON)
        changed = before != self._etag()
        return Done(changed, "pack handed over" if changed else "already so")

    def _etag(self) -> str | None:
        found: str | None = self._client.call("GET", self._data).headers.get("etag")
        return found

    def has_pack(self) -> bool:
        return self.held() is not None

    def held(self) -> Json | None:
        found = self._client.get(self._data)["ietf-restconf:data"]
        return {name: data for name, data in found.items() if name != STATE} or None

    def begin_anew(self, label: str) -> None:
        body = {"obrin-ipsec:input": {"tunnel": label}}
        path = f"{self._operations}/obrin-ipsec:begin-anew"
        self._client.call("POST", path, body, YANG_JSON)

    def take_away(self) -> None:
        self.hand_over({}, {KEYS: {}})

    def _state(self) -> Json:
        found: Json = self._client.get(f"{self._data}/{STATE}")[STATE]
        return found

    def _part(self, name: str) -> list[Json]:
        """Raises OutsideError where the gateway does not report it."""
        found: list[Json] | None = self._state().get(name)
        if found is None:
            raise OutsideError(f"{self._client.what} reports no '{name}'")
        return found

    def tunnels(self) -> dict[str, EndStatus]:
        return statuses_in(self._state())

    def routes(self) -> list[RouteSeen]:
        return routes_seen(self._part("route"))

    def paths(self) -> None:
        return None

    def drops(self) -> list[Dropped]:
        return dropped(self._part("drop"))

    def clock(self) -> datetime | None:
        reported = str(self._state().get("current-datetime", ""))
        try:
            found = datetime.fromisoformat(reported)
        except ValueError:
            return None
        return None if found.tzinfo is None else found

    def probe(self, question: Question) -> Answer:
        return answered(self._operate("probe", asked(question)))

    def stream(self, question: Question, interval: float, duration: float) -> Streamed:
        given = {
            **between(question),
            "interval": f"{interval:.3f}",
            "duration": f"{duration:.3f}",
        }
        found = self._operate("stream", given, duration)
        return Streamed(
            sent=int(found["sent"]),
            answered=int(found["answered"]),
            longest_gap=float(found["longest-gap"]),
        )

    def _operate(self, name: str, given: Json, lasts: float = 0.0) -> Json:
        path, body = f"{self._operations}/obrin-observe:{name}", {"obrin-observe:input": given}
        found: Json = self._client.call("POST", path, body, YANG_JSON, lasts).json()
        output: Json = found["obrin-observe:output"]
        return output

    def close(self) -> None:
        self._client.close()
