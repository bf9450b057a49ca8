"""What the cloud and the gateways still hold and the design has no more.

What Obrin built for this design is ended by the next connect: a tunnel whose link is over, or was
taken out, would otherwise go on giving access for ever. What somebody else built, or Obrin for
another design, is left alone and named.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass

from obrin.core.errors import OutsideError
from obrin.live.connect.execute import Progress, Report, wait_for
from obrin.live.connect.journal import Journal
from obrin.live.connect.steps import RESOURCE_KINDS, CloudStep, Step
from obrin.live.http import Ends, HttpError, Json

ACCESS = ("tunnels", "filters")
"""Kinds that let somebody in: they go first, before anything new is built."""


@dataclass(frozen=True, slots=True)
class Ended:
    """Names of resources as `kind/name`, and of gateways that still have what they were given."""

    ours: tuple[str, ...]
    others: tuple[str, ...]
    gateways: tuple[str, ...] = ()

    def __bool__(self) -> bool:
        return bool(self.ours or self.gateways)

    def words(self) -> str:
        return ", ".join((*self.ours, *(f"what {name} was given" for name in self.gateways)))


def find_ended(
    wanted: Collection[str], ends: Ends, made: Collection[str], handed: Collection[str]
) -> Ended:
    """`wanted` are names of steps, `made` resources built for this design, `handed` gateways that
    may have a pack of it."""
    held = [
        f"{kind}/{item['name']}"
        for kind in RESOURCE_KINDS
        for item in ends.cloud.get(f"/v1/{kind}")["items"]
        if item["state"] != "removing"
    ]
    beside = [name for name in held if name not in wanted]
    gateways = [
        name
        for name, client in ends.gateways.items()
        if f"pack/{name}" not in wanted and name in handed and client.configured()
    ]
    return Ended(
        tuple(name for name in beside if name in made),
        tuple(name for name in beside if name not in made),
        tuple(gateways),
    )


def end_access(ended: Ended, ends: Ends, journal: Journal, report: Report) -> None:
    """Before anything new is built: tunnels and filters at the cloud, packs at gateways."""
    for name in ended.ours:
        if name.partition("/")[0] in ACCESS:
            _remove(name, ends, journal, report)
    for name in ended.gateways:
        journal.begin(f"end/{name}")
        ends.gateways[name].configure({}, {"obrin-keys:keys": {}})
        journal.done(f"end/{name}", "ended")
        report(Progress(f"pack/{name}", "done", "taken away"))


def end_rest(ended: Ended, ends: Ends, journal: Journal, report: Report) -> None:
    """What carried the tunnels, once nothing uses it any more; users before what they use."""
    for kind in reversed(RESOURCE_KINDS):
        for name in ended.ours:
            if name.partition("/")[0] == kind and kind not in ACCESS:
                _remove(name, ends, journal, report)


def _remove(name: str, ends: Ends, journal: Journal, report: Report) -> None:
    journal.begin(name)
    try:
        response = ends.cloud.call("DELETE", f"/v1/{name}")
        wait_for(ends, name, response.headers["Location"], report)
    except HttpError as error:
        if error.status != 404:  # it is gone already
            raise OutsideError(f"{name}: {error}") from error
    journal.removed(name)
    report(Progress(name, "done", "ended and taken away"))


def changed_tunnels(steps: Iterable[Step], ends: Ends) -> set[str]:
    """Names of the cloud's tunnels that exist and will be another after the steps."""
    held: dict[str, Json] = {
        item["name"]: item["properties"] for item in ends.cloud.get("/v1/tunnels")["items"]
    }
    return {
        step.resource
        for step in steps
        if isinstance(step, CloudStep) and step.kind == "tunnels" and step.resource in held
        and any(_plain(held[step.resource].get(n)) != _plain(v) for n, v in step.body.items()
                if n in held[step.resource])
    }  # fmt: skip


def _plain(value: object) -> object:
    """5 and 5.0 are one value; what is not said is what is usual."""
    if isinstance(value, dict):
        return {n: _plain(v) for n, v in value.items() if v not in (None, [], "")}
    if isinstance(value, list):
        return [_plain(v) for v in value]
    return value
