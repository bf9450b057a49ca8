"""The practice cloud as a driver: its HTTP API, operations that take time, ETags."""

from __future__ import annotations

import threading
import time
from collections.abc import Collection, Iterable, Iterator, Sequence

from obrin.core.address.prefix import parse_address
from obrin.core.errors import OutsideError
from obrin.core.handover.secrets import Secrets
from obrin.core.json_text import Json
from obrin.core.reach.filters import Rule
from obrin.core.settle.blank import cloud_key, suffix
from obrin.core.settle.choices import Value
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled
from obrin.live.drivers.differing import Differing, differing
from obrin.live.drivers.observations import Answer as ProbeAnswer
from obrin.live.drivers.observations import Dropped, EndStatus, Question
from obrin.live.drivers.observed import answered, asked, dropped, end_statuses
from obrin.live.drivers.one_at_a_time import OneAtATime
from obrin.live.drivers.places import Place
from obrin.live.drivers.practice_cloud.cloud_steps import (
    ACCESS,
    JOINING,
    RESOURCE_KINDS,
    cloud_steps,
    filter_step,
    tunnel_step,
    wanted_names,
)
from obrin.live.drivers.protocol import CloudDriver, CloudStep, Done, Progress, Report
from obrin.live.http import Answer, Client, HttpError
from obrin.live.practice.cloud.names import cloud_name

TUNNEL_CHANGE = 60.0
"""Seconds of the cloud's own clock that a tunnel's change takes."""
POLL = 0.1
CONFLICT = 5.0
"""Seconds for which a step is tried again whose addresses another resource still has."""
WAITING = "waiting"
NOT_THERE = 404


def open_cloud(place: Place) -> CloudDriver:
    """The entry point `practice`."""
    return PracticeCloud(Client.at("the cloud", place), place.speed)


class PracticeCloud:
    """`speed` says how many seconds of the cloud's clock pass in one."""

    def __init__(self, client: Client, speed: float) -> None:
        self._client = client
        self._speed = speed
        self._doing = OneAtATime()

    @property
    def tunnel_change(self) -> float:
        return TUNNEL_CHANGE / self._speed

    def steps(self, settled: Settled, clouds: Collection[str], secrets: Secrets) -> list[CloudStep]:
        return cloud_steps(settled, clouds, secrets)

    def wanted(
        self, settled: Settled, clouds: Collection[str], barred: Collection[str]
    ) -> set[str]:
        return wanted_names(settled, clouds, barred)

    def tunnel_step(self, settled: Settled, tunnel: SettledTunnel, secrets: Secrets) -> CloudStep:
        return tunnel_step(settled, tunnel, secrets)

    def filtered(self, settled: Settled, cloud: str, rules: Sequence[Rule]) -> CloudStep | None:
        return None if settled.clouds[cloud].is_hub else filter_step(cloud, rules)

    def do(self, step: CloudStep, report: Report, stop: threading.Event) -> Done:
        with self._doing.of(step.name):
            return self._do(step, report, stop)

    def _do(self, step: CloudStep, report: Report, stop: threading.Event) -> Done:
        until = time.monotonic() + CONFLICT
        while True:
            try:
                response = self._put(step)
                break
            except HttpError as error:
                # What it needs may still be another's who is being changed as well.
                if error.status != 409 or time.monotonic() > until or stop.wait(POLL):
                    raise
        if response.status != 202:
            return Done(False, _asks(response.json()) or "already so")
        state = self._wait_for(step.name, response.headers["location"], report, stop)
        if state == WAITING:
            return Done(True, _asks(self._client.get(f"/v1/{step.name}")))
        return Done(True, "built")

    def _put(self, step: CloudStep) -> Answer:
        path = f"/v1/{step.name}"
        try:
            return self._client.call("PUT", path, step.body)
        except HttpError as error:
            if error.status != 428:
                raise
            # It exists and differs: change what we read, or learn that it changed meanwhile.
            etag = self._client.call("GET", path).headers["etag"]
            return self._client.call("PUT", path, step.body, {"If-Match": etag})

    def _wait_for(self, name: str, operation: str, report: Report, stop: threading.Event) -> str:
        """How it ended."""
        while True:
            state = self._client.get(operation)
            if state["status"] in ("succeeded", WAITING):
                return str(state["status"])
            if state["status"] != "running":
                raise OutsideError(
                    f"the cloud gave up halfway: {state['status']}. 'obrin connect' tries it again"
                )
            left = float(state["seconds_left"])
            report(Progress(name, "waiting", f"{state['percent']} %", left))
            if stop.wait(min(max(left, 0.02), POLL)):
                raise OutsideError("interrupted while the cloud was building")

    def assigned(self, settled: Settled, cloud: str) -> dict[str, Value]:
        """Values that the cloud assigns, of those that it `assigns` by the design."""
        own, found = settled.clouds[cloud].gateway, dict[str, Value]()
        if own is None or not own.assigns:
            return found
        items = {
            name: item.get("given", []) for name, item in self._items(("addresses", "gateways"))
        }
        here = cloud_key(cloud, "gateway")
        if "peers" in own.assigns and items.get(f"gateways/{cloud}"):
            found[f"{here}.peers"] = items[f"gateways/{cloud}"]
        public = [items.get(f"addresses/{cloud}.{n}", []) for n, _ in enumerate(own.instances, 1)]
        if "addresses" in own.assigns and all(public):
            for bits in (32, 128):
                held = [t for texts in public for t in texts if parse_address(t).bits == bits]
                if held:
                    found[f"{here}.addresses{suffix(bits)}"] = held
        return found

    def _items(self, kinds: Iterable[str]) -> Iterator[tuple[str, Json]]:
        """Everything there of some kinds, by its name."""
        for kind in kinds:
            for item in self._client.get(f"/v1/{kind}")["items"]:
                yield f"{kind}/{item['name']}", item

    def _staying(self) -> Iterator[tuple[str, Json]]:
        """All resources that are not being removed, with their names."""
        items = self._items(RESOURCE_KINDS)
        return ((name, item) for name, item in items if item["state"] != "removing")

    def held(self) -> list[str]:
        return [name for name, _ in self._staying()]

    def waiting(self) -> dict[str, str]:
        items = self._items(JOINING)
        return {name: item["waits_for"] for name, item in items if item["state"] == WAITING}

    def gives_access(self, name: str) -> bool:
        return name.startswith(ACCESS)

    def remove(self, name: str, report: Report) -> None:
        try:
            response = self._client.call("DELETE", f"/v1/{name}")
            self._wait_for(name, response.headers["location"], report, threading.Event())
        except HttpError as error:
            if error.status != NOT_THERE:  # it is gone already
                raise OutsideError(f"{name}: {error}") from error

    def standing(self, steps: Iterable[CloudStep]) -> dict[str, tuple[Differing, ...]]:
        held = {name: item["properties"] for name, item in self._staying()}
        return {s.name: differing(held[s.name], s.body) for s in steps if s.name in held}

    def tunnels(self, settled: Settled, cloud: str) -> dict[str, EndStatus]:
        instances = self._instances(cloud)
        parts = ("tunnel", "circuit", "session")
        found = end_statuses(*([e for i in instances for e in i[part]] for part in parts))
        labels = {cloud_name(leg.label): leg.label for leg in settled.legs_at(cloud)}
        return {labels[name]: end for name, end in found.items() if name in labels}

    def _instances(self, cloud: str) -> list[Json]:
        """What the instances of its gateway report; none where the cloud has no gateway."""
        try:
            found: list[Json] = self._client.get(f"/v1/gateways/{cloud}/state")["instances"]
        except HttpError as error:
            if error.status != NOT_THERE:
                raise
            return []
        return found

    def drops(self, cloud: str) -> list[Dropped]:
        instances = self._instances(cloud)
        found = [drop for instance in instances for drop in instance["drop"]]
        return dropped((*found, *self._client.get(f"/v1/networks/{cloud}/drops")["drop"]))

    def probe(self, question: Question) -> ProbeAnswer:
        found: Json = self._client.call("POST", "/v1/probes", asked(question)).json()
        return answered(found)

    def close(self) -> None:
        self._client.close()


def _asks(shown: Json) -> str:
    """Say who has to accept it; empty where nobody has."""
    who = shown.get("waits_for")
    return f"waits for {who}, who has to accept it" if who else ""
