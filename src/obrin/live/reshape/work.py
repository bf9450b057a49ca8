"""What a step of a change is for the drivers: things to be made at a cloud and taken away, or what
a gateway is configured with from then on."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from obrin.core.change.as_design import grounds
from obrin.core.change.place_parts import put_together
from obrin.core.change.states import CLEAR, LEG, Between, Done, Step
from obrin.core.handover.secrets import Secrets, keys_of
from obrin.core.handover.standard.device import encode
from obrin.core.handover.standard.keys import Keys
from obrin.core.handover.standard.keys import encode as encode_keys
from obrin.core.json_text import Json
from obrin.core.settled.model import Settled
from obrin.live.drivers.protocol import CloudDriver, CloudStep


@dataclass(frozen=True, slots=True)
class CloudWork:
    """`make` in the order of their needs, `remove` likewise."""

    make: tuple[CloudStep, ...]
    remove: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class At:
    """A cloud's driver, and all clouds that it serves: what is at one hangs on the others."""

    driver: CloudDriver
    clouds: Collection[str]
    secrets: Secrets

    def steps(self, settled: Settled, cloud: str) -> dict[str, CloudStep]:
        """Steps of one cloud, by name."""
        clouds = [name for name in self.clouds if name in settled.clouds]
        found = self.driver.steps(settled, clouds, self.secrets) if cloud in clouds else []
        return {step.name: step for step in found if step.cloud == cloud}


def cloud_work(between: Between, step: Step, done: Done, at: At) -> CloudWork:
    """`done` has the step in it. Raises ObrinError for what that kind of cloud cannot have."""
    cloud, driver = step.place, at.driver
    old, new = (at.steps(settled, cloud) for settled in (between.before, between.after))
    if step.kind == LEG:
        make = [s for s in new.values() if step.leg in s.legs]
        gone = [s for s in old.values() if step.leg in s.legs and s.name not in new]
        left = {leg for leg in between.legs if cloud in between.holders(leg, done)}
        gone = [s for s in gone if not s.legs & left]
        moved = _elsewhere(between, cloud, done, at)
        gone = [s for s in gone if s.name not in moved]
        return CloudWork(tuple(_in_order(make)), _backwards(gone))
    if step.kind == CLEAR:
        make = [s for s in new.values() if not s.legs]
        gone = [s for s in old.values() if not s.legs and s.name not in new]
        return CloudWork(tuple(_in_order(make)), _backwards(gone))
    state = grounds(between, done)
    ground = {**new, **at.steps(state, cloud)}
    make = [s for s in ground.values() if not s.legs]
    parts = between.parts(cloud, done).rules
    filtered = driver.filtered(state, cloud, parts) if cloud in state.clouds else None
    if filtered is not None:
        make = [*(s for s in make if s.name != filtered.name), filtered]
    return CloudWork(tuple(_in_order(make)), ())


def _elsewhere(between: Between, cloud: str, done: Done, at: At) -> set[str]:
    """Names that other clouds have given to something of theirs: what was here is gone by that."""
    return {
        step.name
        for other in at.clouds
        if other != cloud
        for step in at.steps(between.after, other).values()
        if any(Step(LEG, other, leg) in done for leg in step.legs)
    }


def _in_order(steps: list[CloudStep]) -> list[CloudStep]:
    """What others need comes first; needs that stand already are none."""
    left, made = {step.name: step for step in steps}, list[CloudStep]()
    while left:
        ready = [s for s in left.values() if not s.needs & left.keys()] or list(left.values())
        for step in ready:
            made.append(left.pop(step.name))
    return made


def _backwards(steps: list[CloudStep]) -> tuple[str, ...]:
    """Names of what is to go, what needs others first."""
    return tuple(step.name for step in reversed(_in_order(steps)))


def gateway_work(between: Between, place: str, done: Done, secrets: Secrets) -> tuple[Json, Json]:
    """The data and the keys that a site's gateway has in a state."""
    config = put_together(between.parts(place, done))
    return encode(config), _keys(between, place, secrets)


def _keys(between: Between, place: str, secrets: Secrets) -> Json:
    """Keys of both designs, so that the keys for any configuration it gets are there."""
    keys = Keys()
    for settled in (between.before, between.after):
        if place in settled.gateways and place not in secrets.barred:
            keys = keys.beside(keys_of(settled, place, secrets))
    return encode_keys(keys)
