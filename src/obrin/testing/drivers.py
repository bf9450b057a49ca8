"""What every driver must hold to, as tests to be run against a new one.

In a test module, make a class of one of these and give it what it asks for:

    class TestMyCloud(CloudDriverTests):
        settled = ...   # a design whose clouds the driver can build
        secrets = ...   # with the keys of its tunnels
        @pytest.fixture
        def driver(self): ...   # opened on a cloud with nothing in it

The tests change what is there, and leave nothing behind.
"""

from __future__ import annotations

import threading
from collections.abc import Iterable
from typing import Any, ClassVar

from obrin.core.address.prefix import Address
from obrin.core.errors import OutsideError
from obrin.core.handover.secrets import Secrets
from obrin.core.settled.model import Settled
from obrin.live.drivers.observations import Question
from obrin.live.drivers.protocol import CloudDriver, CloudStep, Done, GatewayDriver, Progress

NOWHERE = Question(
    source=Address(32, 1), destination=Address(32, 2), protocol="icmp", port=0, timeout=0.2
)


def ignore(_progress: Progress) -> None:
    """A report that nobody reads."""


def in_order(steps: Iterable[CloudStep]) -> list[CloudStep]:
    """The steps, each after those that it needs. Fails where that cannot be."""
    left, done = list(steps), dict[str, CloudStep]()
    while left:
        ready = [step for step in left if step.needs <= done.keys()]
        assert ready, f"these wait for each other: {[step.name for step in left]}"
        done |= {step.name: step for step in ready}
        left = [step for step in left if step.name not in done]
    return list(done.values())


class CloudDriverTests:
    """Tests that every `CloudDriver` must pass; building may take `patience` seconds."""

    settled: ClassVar[Settled]
    secrets: ClassVar[Secrets]

    def steps(self, driver: CloudDriver) -> list[CloudStep]:
        return in_order(driver.steps(self.settled, list(self.settled.clouds), self.secrets))

    def build(self, driver: CloudDriver) -> dict[str, Done]:
        stop = threading.Event()
        return {step.name: driver.do(step, ignore, stop) for step in self.steps(driver)}

    def clear(self, driver: CloudDriver) -> None:
        for name in reversed(driver.held()):
            driver.remove(name, ignore)

    def test_steps_have_names_of_their_own_and_are_what_is_wanted(
        self, driver: CloudDriver
    ) -> None:
        steps = self.steps(driver)
        names = {step.name for step in steps}
        assert len(names) == len(steps)
        assert names == driver.wanted(self.settled, list(self.settled.clouds), ())
        labels = [step.tunnel for step in steps if step.tunnel]
        assert sorted(labels) == sorted(tunnel.label for tunnel in self.settled.tunnels())

    def test_barred_gateways_are_not_built(self, driver: CloudDriver) -> None:
        clouds, barred = list(self.settled.clouds), frozenset(self.settled.gateways)
        secrets = Secrets(self.secrets.keys, self.secrets.certificates, barred)
        steps = driver.steps(self.settled, clouds, secrets)
        assert not any(step.tunnel for step in steps)
        assert {step.name for step in steps} == driver.wanted(self.settled, clouds, barred)

    def test_no_secret_is_printed(self, driver: CloudDriver) -> None:
        printed = repr(self.steps(driver)) + repr(driver)
        assert not any(key in printed for key in self.secrets.keys.values())

    def test_what_is_done_twice_is_done_once(self, driver: CloudDriver) -> None:
        try:
            assert all(done.changed for done in self.build(driver).values())
            assert not any(done.changed for done in self.build(driver).values())
            names = driver.held()
            assert {step.name for step in self.steps(driver)} <= set(names)
            for step in self.steps(driver):
                assert all(names.index(n) < names.index(step.name) for n in step.needs)
            assert driver.standing(self.steps(driver)) == dict.fromkeys(
                (step.name for step in self.steps(driver)), ()
            )
            labels = {tunnel.label for tunnel in self.settled.tunnels()}
            seen = [driver.tunnels(self.settled, cloud) for cloud in self.settled.clouds]
            assert {label for ends in seen for label in ends} == labels
            assert all(isinstance(driver.drops(cloud), list) for cloud in self.settled.clouds)
            assert driver.waiting().keys() <= set(names)
        finally:
            self.clear(driver)
        assert driver.held() == []

    def test_each_tunnel_has_a_step_of_its_own(self, driver: CloudDriver) -> None:
        by_tunnel = {step.tunnel: step for step in self.steps(driver) if step.tunnel}
        for tunnel in self.settled.tunnels():
            alone = driver.tunnel_step(self.settled, tunnel, self.secrets)
            assert alone == by_tunnel[tunnel.label]

    def test_taking_away_what_is_gone_is_good(self, driver: CloudDriver) -> None:
        try:
            first = self.steps(driver)[0]
            driver.do(first, ignore, threading.Event())
            driver.remove(first.name, ignore)
            driver.remove(first.name, ignore)
        finally:
            self.clear(driver)

    def test_what_lets_somebody_in_is_known(self, driver: CloudDriver) -> None:
        assert all(driver.gives_access(s.name) for s in self.steps(driver) if s.tunnel)
        assert driver.tunnel_change >= 0

    def test_a_question_from_nowhere_is_refused(self, driver: CloudDriver) -> None:
        try:
            answer = driver.probe(NOWHERE)
        except OutsideError:
            return
        assert not answer.answered


class GatewayDriverTests:
    """Tests that every `GatewayDriver` must pass; `config` and `keys` are a pack of its own."""

    config: ClassVar[dict[str, Any]]
    keys: ClassVar[dict[str, Any]]
    labels: ClassVar[frozenset[str]]

    def test_a_pack_is_given_once_and_taken_away(self, driver: GatewayDriver) -> None:
        assert not driver.has_pack()
        try:
            assert driver.hand_over(self.config, self.keys).changed
            assert not driver.hand_over(self.config, self.keys).changed
            assert driver.has_pack()
            assert driver.held() in (self.config, None)
            assert driver.tunnels().keys() == self.labels
            assert isinstance(driver.routes(), list)
            assert isinstance(driver.drops(), list)
        finally:
            driver.take_away()
        assert not driver.has_pack()
        assert driver.held() is None
        assert not driver.tunnels()

    def test_a_tunnel_is_begun_anew_where_there_is_one(self, driver: GatewayDriver) -> None:
        try:
            driver.hand_over(self.config, self.keys)
            driver.begin_anew(min(self.labels))
            assert driver.tunnels().keys() == self.labels
            try:
                driver.begin_anew("nothing/at-all")
            except OutsideError:
                return
            raise AssertionError("a tunnel that there is not was begun anew")
        finally:
            driver.take_away()

    def test_no_secret_is_shown(self, driver: GatewayDriver) -> None:
        secrets = [entry["secret"] for entry in self.keys["obrin-keys:keys"]["pre-shared-key"]]
        try:
            done = driver.hand_over(self.config, self.keys)
            shown = repr(
                (done, driver, driver.held(), driver.tunnels(), driver.routes(), driver.drops())
            )
        finally:
            driver.take_away()
        assert not any(secret in shown for secret in secrets)

    def test_a_pack_that_cannot_be_is_refused_and_nothing_has_changed(
        self, driver: GatewayDriver
    ) -> None:
        try:
            driver.hand_over({"obrin-nothing:at-all": {}}, {"obrin-keys:keys": {}})
        except OutsideError:
            assert not driver.has_pack()
            return
        raise AssertionError("data that fits no module was taken")

    def test_a_question_from_nowhere_is_refused(self, driver: GatewayDriver) -> None:
        try:
            answer = driver.probe(NOWHERE)
        except OutsideError:
            return
        assert not answer.answered
