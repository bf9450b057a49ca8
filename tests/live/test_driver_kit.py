"""The tests of drivers are tried themselves: the driver of docs/drivers.md passes them, and each of
many faults in it is caught."""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

import pytest

from obrin.core.errors import OutsideError
from obrin.core.handover.pack import make_pack
from obrin.core.handover.secrets import Secrets
from obrin.core.known import NotKnown
from obrin.live.drivers.differing import differing
from obrin.live.drivers.observations import Answer, EndStatus, silent
from obrin.live.drivers.one_at_a_time import OneAtATime
from obrin.live.drivers.protocol import CloudStep, Done, Progress
from obrin.testing.drivers import CloudDriverTests, GatewayDriverTests
from tests.doubles import DESIGN, settled_of, swap

DOCS = Path(__file__).parents[2] / "docs" / "drivers.md"
SETTLED = settled_of()
ALTERED = settled_of(swap(("hold-time: 6 s", "hold-time: 9 s"), text=DESIGN))
KEYS = {tunnel.label: f"key-of-{tunnel.label}-1234567890" for tunnel in SETTLED.tunnels()}
SECRETS = Secrets(KEYS)
RENEWED = Secrets({label: f"another-{key}" for label, key in KEYS.items()})
PACK, OTHER = (make_pack(s, "quay-gw", k) for s, k in ((SETTLED, SECRETS), (ALTERED, RENEWED)))


def documented() -> type:
    """The class of the page, made from the page alone."""
    block = re.search(r"```python\n(class ShelfCloud.*?)```", DOCS.read_text(), re.DOTALL)
    assert block is not None
    names: dict[str, Any] = {
        "Any": Any, "CloudStep": CloudStep, "Done": Done, "EndStatus": EndStatus,
        "OneAtATime": OneAtATime, "OutsideError": OutsideError, "Progress": Progress,
        "differing": differing,
    }  # fmt: skip
    exec(block[1], names)
    found: type = names["ShelfCloud"]
    return found


ShelfCloud: Any = documented()


class ShelfGateway:
    """A gateway that keeps its pack."""

    def __init__(self, shelf: dict[str, Any]) -> None:
        self.shelf, self.lock = shelf, threading.Lock()

    def hand_over(self, config, keys):
        with self.lock:
            return self._hand_over(config, keys)

    def _hand_over(self, config, keys):
        if "obrin-nothing:at-all" in config:
            raise OutsideError("no module has obrin-nothing:at-all")
        if (self.shelf.get("config"), self.shelf.get("keys")) == (config, keys):
            return Done(False, "already so")
        self.shelf.update(config=config, keys=keys)
        return Done(True, "handed over")

    def labels(self):
        data = self.shelf.get("keys", {}).get("obrin-keys:keys", {})
        return [entry["tunnel"] for entry in data.get("pre-shared-key", [])]

    def has_pack(self):
        return "config" in self.shelf

    def take_away(self):
        self.shelf.clear()

    def begin_anew(self, label):
        if label not in self.labels():
            raise OutsideError(f"there is no tunnel {label}")
        self.shelf[label] = self.shelf.get(label, 0) + 1

    def held(self):
        return self.shelf.get("config")

    def tunnels(self):
        return {n: EndStatus(ike="down", child="down", bgp="idle") for n in self.labels()}

    def routes(self):
        return []

    def paths(self):
        return None

    def drops(self):
        return []

    def clock(self):
        return None

    def probe(self, question):
        raise OutsideError("no host can be asked")

    def stream(self, question, interval, duration):
        raise OutsideError("no host can be asked")

    def close(self):
        pass


class TestShelfCloud(CloudDriverTests):
    settled, altered, secrets, renewed = SETTLED, ALTERED, SECRETS, RENEWED

    @pytest.fixture
    def driver(self) -> Any:
        return ShelfCloud({})


class TestShelfGateway(GatewayDriverTests):
    config, keys, altered, renewed = PACK.config, PACK.keys, OTHER.config, OTHER.keys
    labels = frozenset(KEYS)

    @pytest.fixture
    def driver(self) -> Any:
        return ShelfGateway({})

    def begun(self, driver: Any, label: str) -> object:
        return driver.shelf.get(label)


# Faults at a cloud


class TellsTheKey(ShelfCloud):
    def do(self, step, report, stop):
        done = super().do(step, report, stop)
        return Done(done.changed, f"{done.note} with {step.body.get('key', '')}")


class ReportsTheKey(ShelfCloud):
    def do(self, step, report, stop):
        report(Progress(step.name, "begun", str(step.body)))
        return super().do(step, report, stop)


class ShowsTheKey(ShelfCloud):
    def standing(self, steps):
        found = {s.name: self._shelf.get(s.name) for s in steps}
        return {s.name: differing(found[s.name], s.body) for s in steps if found[s.name]}


class PrintsItself(ShelfCloud):
    def __repr__(self):
        return f"ShelfCloud({self._shelf})"

    def do(self, step, report, stop):
        return super().do(step, report, stop)

    def held(self):
        return [f"{n}" for n in super().held()]

    def waiting(self):
        return {n: str(b.get("key")) for n, b in self._shelf.items() if "key" in b}


class KeepsTheOldKey(ShelfCloud):
    def do(self, step, report, stop):
        held = self._shelf.get(step.name)
        if held and {**held, "key": 0} == {**step.body, "key": 0}:
            return Done(False, "already so")
        return super().do(step, report, stop)


class SaysUnchanged(ShelfCloud):
    def do(self, step, report, stop):
        new = step.name not in self._shelf
        return Done(super().do(step, report, stop).changed and new, "")


class AlwaysChanges(ShelfCloud):
    def do(self, step, report, stop):
        super().do(step, report, stop)
        return Done(True, "built")


class NeverCompares(ShelfCloud):
    def standing(self, steps):
        return {step.name: () for step in steps if step.name in self._shelf}


class AllStands(ShelfCloud):
    def standing(self, steps):
        return {step.name: () for step in steps}


class NothingStands(ShelfCloud):
    def standing(self, steps):
        return {}


class UpAtOnce(ShelfCloud):
    def tunnels(self, settled, cloud):
        return {t.label: EndStatus(ike="established", child="up") for t in settled.tunnels()}


class UpWhenGone(ShelfCloud):
    def do(self, step, report, stop):
        self.__dict__.setdefault("seen", set()).add(step.tunnel)
        return super().do(step, report, stop)

    def tunnels(self, settled, cloud):
        seen = self.__dict__.get("seen", set())
        return {
            t.label: EndStatus(child="down" if f"tunnel/{t.label}" in self._shelf else "up")
            for t in settled.tunnels()
            if t.label in seen
        }


class TakesAll(ShelfCloud):
    def remove(self, name, report):
        if name in self._shelf:
            self._shelf.clear()


class TakesNothing(ShelfCloud):
    def remove(self, name, report):
        pass


class TakesWhatNeedsIt(ShelfCloud):
    def remove(self, name, report):
        for held in list(self._shelf):
            if held.partition("/")[0] == name.partition("/")[0]:
                del self._shelf[held]


class RefusesWhatIsGone(ShelfCloud):
    def remove(self, name, report):
        if name not in self._shelf:
            raise OutsideError(f"there is no {name}")
        del self._shelf[name]


class OwnWords(ShelfCloud):
    def tunnels(self, settled, cloud):
        found = super().tunnels(settled, cloud)
        return dict.fromkeys(found, EndStatus(child="UP-IDLE"))


class OwnSessionWords(ShelfCloud):
    def tunnels(self, settled, cloud):
        found = super().tunnels(settled, cloud)
        return dict.fromkeys(found, EndStatus(child="down", bgp="Established"))


class CountsBelowZero(ShelfCloud):
    def tunnels(self, settled, cloud):
        return dict.fromkeys(super().tunnels(settled, cloud), EndStatus(packets_in=-1))


class GivesNoReason(ShelfCloud):
    def tunnels(self, settled, cloud):
        return dict.fromkeys(super().tunnels(settled, cloud), silent(" "))


class OtherLabels(ShelfCloud):
    def tunnels(self, settled, cloud):
        found = super().tunnels(settled, cloud)
        return {label.partition("/")[2]: end for label, end in found.items()}


class NeverStops(ShelfCloud):
    def do(self, step, report, stop):
        time.sleep(0.3)
        return super().do(step, report, threading.Event())


class NoLock(ShelfCloud):
    def do(self, step, report, stop):
        new = self._shelf.get(step.name) != step.body
        time.sleep(0.001)
        self._shelf[step.name] = dict(step.body)
        return Done(new, "built")


class BuildsTheRevoked(ShelfCloud):
    def _tunnels(self, settled, clouds, barred):
        return super()._tunnels(settled, clouds, ())


class WantsLess(ShelfCloud):
    def wanted(self, settled, clouds, barred):
        return set(sorted(super().wanted(settled, clouds, barred))[1:])


class OneStepForTwo(ShelfCloud):
    def tunnel_step(self, settled, tunnel, secrets):
        step = super().tunnel_step(settled, tunnel, secrets)
        return CloudStep(name=f"tunnel/{tunnel.link}", body=step.body, needs=step.needs,
                         tunnel=step.tunnel, cloud=step.cloud)  # fmt: skip


class NeedsItself(ShelfCloud):
    def steps(self, settled, clouds, secrets):
        found = super().steps(settled, clouds, secrets)
        return [CloudStep(name=s.name, body=s.body, needs=frozenset({s.name}), tunnel=s.tunnel,
                          cloud=s.cloud) for s in found]  # fmt: skip


class NoAccess(ShelfCloud):
    def gives_access(self, name):
        return False


class AnswersAnything(ShelfCloud):
    def probe(self, question):
        return Answer(answered=True, refused=False, seconds=0.0, source_port=0)


class HoldsInAnyOrder(ShelfCloud):
    def held(self):
        return sorted(self._shelf, reverse=True)


class LeavesSomething(ShelfCloud):
    def remove(self, name, report):
        if not name.startswith("network/"):
            super().remove(name, report)


# Faults at a gateway


class TellsTheKeyThere(ShelfGateway):
    def hand_over(self, config, keys):
        done = super().hand_over(config, keys)
        return Done(done.changed, f"{done.note}: {keys}")


class TellsTheKeyInAnError(ShelfGateway):
    def hand_over(self, config, keys):
        try:
            return super().hand_over(config, keys)
        except OutsideError as error:
            raise OutsideError(f"{error}: {keys}") from None


class KeepsTheOldKeyThere(ShelfGateway):
    def _hand_over(self, config, keys):
        if self.shelf.get("config") == config:
            return Done(False, "already so")
        return super()._hand_over(config, keys)


class KeepsTheOldConfiguration(ShelfGateway):
    def _hand_over(self, config, keys):
        if self.shelf.get("keys") == keys:
            return Done(False, "already so")
        return super()._hand_over(config, keys)


class BeginsNothing(ShelfGateway):
    def begin_anew(self, label):
        if label not in self.labels():
            raise OutsideError(f"there is no tunnel {label}")


class BeginsAnything(ShelfGateway):
    def begin_anew(self, label):
        self.shelf[label] = self.shelf.get(label, 0) + 1


class UpWithoutAPeer(ShelfGateway):
    def tunnels(self):
        return {name: EndStatus(ike="established", child="up") for name in self.labels()}


class OwnWordsThere(ShelfGateway):
    def tunnels(self):
        return {name: EndStatus(ike="DOWN") for name in self.labels()}


class HalfTaken(ShelfGateway):
    def _hand_over(self, config, keys):
        self.shelf.update(config=config, keys=keys)
        if "obrin-nothing:at-all" in config:
            raise OutsideError("no module has it")
        return Done(True, "handed over")


class TakesAnything(ShelfGateway):
    def _hand_over(self, config, keys):
        new = (self.shelf.get("config"), self.shelf.get("keys")) != (config, keys)
        self.shelf.update(config=config, keys=keys)
        return Done(new, "handed over")


class KeepsItsKeys(ShelfGateway):
    def take_away(self):
        self.shelf.pop("config", None)


class NoLockThere(ShelfGateway):
    def hand_over(self, config, keys):
        if "obrin-nothing:at-all" in config:
            raise OutsideError("no module has it")
        new = (self.shelf.get("config"), self.shelf.get("keys")) != (config, keys)
        time.sleep(0.001)
        self.shelf.update(config=config, keys=keys)
        return Done(new, "handed over")


class NoZone(ShelfGateway):
    def clock(self):
        return datetime(2026, 6, 1)


class HoldsAnother(ShelfGateway):
    def held(self):
        return None if not self.shelf else {"another": {}}


class AnswersAnythingThere(ShelfGateway):
    def probe(self, question):
        return Answer(answered=True, refused=False, seconds=0.0, source_port=0)


def faults(of: type) -> list[type]:
    return [one for one in of.__subclasses__() if not one.__name__.startswith("Test")]


def caught(kit: Any, driver: Any) -> Iterator[str]:
    """Names of the tests that a driver does not pass."""
    for name in dir(type(kit)):
        if name.startswith("test_"):
            try:
                getattr(kit, name)(driver)
            except (AssertionError, OutsideError):
                yield name


@pytest.mark.parametrize("fault", faults(ShelfCloud), ids=lambda f: f.__name__)
def test_a_fault_of_a_cloud_driver_is_caught(fault: type, monkeypatch) -> None:
    kit = TestShelfCloud()
    if fault is NeverStops:
        monkeypatch.setattr(kit, "takes", 0.3, raising=False)
    found = next(caught(kit, fault({})), None)
    assert found is not None


@pytest.mark.parametrize("fault", faults(ShelfGateway), ids=lambda f: f.__name__)
def test_a_fault_of_a_gateway_driver_is_caught(fault: type) -> None:
    assert next(caught(TestShelfGateway(), fault({})), None) is not None


def test_there_are_as_many_faults_as_are_said() -> None:
    assert len(faults(ShelfCloud)) + len(faults(ShelfGateway)) >= 45
    assert not list(caught(TestShelfCloud(), ShelfCloud({})))
    assert not list(caught(TestShelfGateway(), ShelfGateway({})))


def test_what_a_driver_does_not_report_is_not_known() -> None:
    end = EndStatus(child="down")
    assert isinstance(end.packets_in, NotKnown)
    assert end.packets_in.why == "its driver does not report it"
