"""What every driver must hold to, as tests to be run against a new one.

In a test module, make a class of one of these and give it what it asks for:

    class TestMyCloud(CloudDriverTests):
        settled = ...   # a design whose clouds the driver can build
        altered = ...   # the same with another value in each tunnel, such as a lifetime
        secrets = ...   # with the keys of its tunnels
        renewed = ...   # with other keys
        @pytest.fixture
        def driver(self): ...   # opened on a cloud with nothing in it

The tests change what is there, and leave nothing behind. docs/drivers.md has a whole driver that
passes them; tests/live/test_driver_kit.py has what they catch.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Iterable, Mapping
from functools import partial
from typing import Any, ClassVar

from obrin.core.handover.secrets import Secrets
from obrin.core.settled.model import Settled
from obrin.live.drivers.protocol import CloudDriver, CloudStep, Done, GatewayDriver
from obrin.testing.checking import (
    NOWHERE,
    Reports,
    at_once,
    ignore,
    in_order,
    is_listed,
    need_known_words,
    need_none_up,
    raises,
    said,
)


class CloudDriverTests:
    """Tests that every `CloudDriver` must pass. `takes` are seconds that its longest step takes
    at least, 0 where all are done at once; `stops_within` seconds it has to end when it is
    ordered to."""

    settled: ClassVar[Settled]
    altered: ClassVar[Settled]
    secrets: ClassVar[Secrets]
    renewed: ClassVar[Secrets]
    takes: ClassVar[float] = 0.0
    stops_within: ClassVar[float] = 2.0

    def steps(
        self, driver: CloudDriver, settled: Settled | None = None, secrets: Secrets | None = None
    ) -> list[CloudStep]:
        design = settled or self.settled
        return in_order(driver.steps(design, list(design.clouds), secrets or self.secrets))

    def build(self, driver: CloudDriver) -> dict[str, Done]:
        stop = threading.Event()
        return {step.name: driver.do(step, ignore, stop) for step in self.steps(driver)}

    def clear(self, driver: CloudDriver) -> None:
        for name in reversed(driver.held()):
            driver.remove(name, ignore)

    def seen(self, driver: CloudDriver) -> dict[str, Any]:
        """Every end that the clouds report, by label."""
        clouds = self.settled.clouds
        return {k: e for c in clouds for k, e in driver.tunnels(self.settled, c).items()}

    def test_steps_have_names_of_their_own_and_are_what_is_wanted(
        self, driver: CloudDriver
    ) -> None:
        steps = self.steps(driver)
        names = {step.name for step in steps}
        assert len(names) == len(steps)
        assert names == driver.wanted(self.settled, list(self.settled.clouds), ())
        labels = [step.tunnel for step in steps if step.tunnel]
        assert sorted(labels) == sorted(tunnel.label for tunnel in self.settled.tunnels())
        assert {step.cloud for step in steps} <= self.settled.clouds.keys()

    def test_barred_gateways_are_not_built(self, driver: CloudDriver) -> None:
        clouds, barred = list(self.settled.clouds), frozenset(self.settled.gateways)
        secrets = Secrets(self.secrets.keys, self.secrets.certificates, barred)
        steps = driver.steps(self.settled, clouds, secrets)
        assert not any(step.tunnel for step in steps)
        assert {step.name for step in steps} == driver.wanted(self.settled, clouds, barred)

    def test_no_secret_is_shown(self, driver: CloudDriver) -> None:
        reports = Reports()
        try:
            shown = [repr(self.steps(driver)), repr(driver)]
            for step in self.steps(driver):
                shown.append(repr(driver.do(step, reports, threading.Event())))
            altered = self.steps(driver, secrets=self.renewed)
            shown += [repr(driver.standing(altered)), repr(driver.waiting()), repr(driver.held())]
            shown += [repr(self.seen(driver)), *map(repr, reports.given)]
            shown += [said(partial(driver.drops, cloud)) for cloud in self.settled.clouds]
            broken = CloudStep(name=altered[-1].name, body=altered[-1].body)
            self.clear(driver)
            shown.append(str(raises(lambda: driver.do(broken, reports, threading.Event()))))
        finally:
            self.clear(driver)
        secrets = {*self.secrets.keys.values(), *self.renewed.keys.values()}
        assert not [text for text in shown if any(secret in text for secret in secrets)]

    def test_what_is_done_twice_is_done_once(self, driver: CloudDriver) -> None:
        try:
            assert all(done.changed for done in self.build(driver).values())
            assert not any(done.changed for done in self.build(driver).values())
            names = driver.held()
            assert {step.name for step in self.steps(driver)} <= set(names)
            assert len(names) == len(set(names))
            for step in self.steps(driver):
                assert all(names.index(n) < names.index(step.name) for n in step.needs)
            assert driver.standing(self.steps(driver)) == dict.fromkeys(
                (step.name for step in self.steps(driver)), ()
            )
            assert self.seen(driver).keys() == {t.label for t in self.settled.tunnels()}
            assert all(is_listed(partial(driver.drops, c)) for c in self.settled.clouds)
            assert driver.waiting().keys() <= set(names)
        finally:
            self.clear(driver)
        assert driver.held() == []

    def test_nothing_stands_and_nothing_is_up_before_it_is_built(self, driver: CloudDriver) -> None:
        assert driver.held() == []
        assert driver.standing(self.steps(driver)) == {}
        need_none_up(self.seen(driver))

    def test_what_ends_report_is_in_the_words_of_obrin(self, driver: CloudDriver) -> None:
        try:
            need_known_words(self.seen(driver))
            self.build(driver)
            need_known_words(self.seen(driver))
        finally:
            self.clear(driver)

    def test_an_altered_value_is_a_difference_until_it_is_done(self, driver: CloudDriver) -> None:
        try:
            self.build(driver)
            before = {step.name: step for step in self.steps(driver)}
            changed = [s for s in self.steps(driver, self.altered) if s != before.get(s.name)]
            assert changed, "'altered' makes the same steps as 'settled'"
            standing = driver.standing(changed)
            for step in changed:
                assert standing.get(step.name), f"{step.name} has another value, and none differs"
                assert driver.do(step, ignore, threading.Event()).changed
                assert not driver.do(step, ignore, threading.Event()).changed
            assert not any(driver.standing(changed).values())
        finally:
            self.clear(driver)

    def test_another_key_is_a_change(self, driver: CloudDriver) -> None:
        """It cannot be seen in `standing`, so that doing the step has to give it."""
        try:
            self.build(driver)
            for step in self.steps(driver, secrets=self.renewed):
                if step.tunnel:
                    assert driver.do(step, ignore, threading.Event()).changed
                    assert not driver.do(step, ignore, threading.Event()).changed
        finally:
            self.clear(driver)

    def test_what_is_taken_away_is_gone_alone(self, driver: CloudDriver) -> None:
        try:
            self.build(driver)
            last = next(step for step in reversed(self.steps(driver)) if step.tunnel)
            before = driver.held()
            driver.remove(last.name, ignore)
            assert driver.held() == [name for name in before if name != last.name]
            end = self.seen(driver).get(last.tunnel)
            need_none_up({} if end is None else {last.tunnel: end})
            assert last.name not in driver.standing(self.steps(driver))
            assert driver.do(last, ignore, threading.Event()).changed
        finally:
            self.clear(driver)

    def test_each_tunnel_has_a_step_of_its_own(self, driver: CloudDriver) -> None:
        by_tunnel = {step.tunnel: step for step in self.steps(driver) if step.tunnel}
        for tunnel in self.settled.tunnels():
            alone = driver.tunnel_step(self.settled, tunnel, self.secrets)
            assert alone == by_tunnel.get(tunnel.label)

    def test_taking_away_what_is_gone_is_good(self, driver: CloudDriver) -> None:
        try:
            first = self.steps(driver)[0]
            driver.do(first, ignore, threading.Event())
            driver.remove(first.name, ignore)
            driver.remove(first.name, ignore)
        finally:
            self.clear(driver)

    def test_a_step_done_by_many_at_once_is_done_once(self, driver: CloudDriver) -> None:
        try:
            for step in self.steps(driver):
                done = at_once(lambda s=step: driver.do(s, ignore, threading.Event()))  # type: ignore[misc]
                assert sum(one.changed for one in done) == 1, step.name
            names = driver.held()
            assert sorted(names) == sorted({*names})
        finally:
            self.clear(driver)

    def test_a_step_ends_when_stop_is_set(self, driver: CloudDriver) -> None:
        """With `stop` set, a step that takes its time is left, and says so."""
        stop = threading.Event()
        stop.set()
        try:
            for step in self.steps(driver):
                began = time.monotonic()
                error = raises(lambda s=step: driver.do(s, ignore, stop))  # type: ignore[misc]
                assert time.monotonic() - began < self.stops_within
                if error is not None:
                    return
            assert not self.takes, "every step went on to its end, though 'stop' was set"
        finally:
            time.sleep(self.takes)
            self.clear(driver)

    def test_what_lets_somebody_in_is_known(self, driver: CloudDriver) -> None:
        assert all(driver.gives_access(s.name) for s in self.steps(driver) if s.tunnel)
        assert driver.tunnel_change >= 0

    def test_a_question_from_nowhere_is_refused(self, driver: CloudDriver) -> None:
        answers: list[Any] = []
        if raises(lambda: answers.append(driver.probe(NOWHERE))) is None:
            assert not answers[0].answered


class GatewayDriverTests:
    """Tests that every `GatewayDriver` must pass; `config` and `keys` are a pack of its own, with
    `altered` another configuration and `renewed` other keys."""

    config: ClassVar[dict[str, Any]]
    keys: ClassVar[dict[str, Any]]
    altered: ClassVar[dict[str, Any]]
    renewed: ClassVar[dict[str, Any]]
    labels: ClassVar[frozenset[str]]

    def begun(self, driver: GatewayDriver, label: str) -> object:
        """Anything of the device that is another after `begin_anew`: a count at a stand-in of it,
        the SPI of its IKE SA, a line of its log."""
        raise NotImplementedError

    def test_a_pack_is_given_once_and_taken_away(self, driver: GatewayDriver) -> None:
        assert not driver.has_pack()
        try:
            assert driver.hand_over(self.config, self.keys).changed
            assert not driver.hand_over(self.config, self.keys).changed
            assert driver.has_pack()
            assert driver.held() in (self.config, None)
            assert driver.tunnels().keys() == self.labels
            assert is_listed(driver.routes)
            assert is_listed(driver.drops)
        finally:
            driver.take_away()
        assert not driver.has_pack()
        assert driver.held() is None
        assert not driver.tunnels()

    def test_other_keys_and_another_configuration_are_changes(self, driver: GatewayDriver) -> None:
        try:
            driver.hand_over(self.config, self.keys)
            for config, keys in ((self.config, self.renewed), (self.altered, self.renewed)):
                assert driver.hand_over(config, keys).changed
                assert not driver.hand_over(config, keys).changed
                assert driver.held() in (config, None)
        finally:
            driver.take_away()

    def test_a_pack_given_by_many_at_once_is_given_once(self, driver: GatewayDriver) -> None:
        try:
            done = at_once(lambda: driver.hand_over(self.config, self.keys))
            assert sum(one.changed for one in done) == 1
        finally:
            driver.take_away()

    def test_nothing_is_up_that_has_no_peer(self, driver: GatewayDriver) -> None:
        need_none_up(driver.tunnels())
        try:
            driver.hand_over(self.config, self.keys)
            need_none_up(driver.tunnels())
            need_known_words(driver.tunnels())
        finally:
            driver.take_away()

    def test_a_tunnel_is_begun_anew_where_there_is_one(self, driver: GatewayDriver) -> None:
        try:
            driver.hand_over(self.config, self.keys)
            label = min(self.labels)
            before = self.begun(driver, label)
            driver.begin_anew(label)
            assert self.begun(driver, label) != before, "nothing happened at the device"
            assert driver.tunnels().keys() == self.labels
            assert raises(lambda: driver.begin_anew("nothing/at-all")) is not None
        finally:
            driver.take_away()

    def test_no_secret_is_shown(self, driver: GatewayDriver) -> None:
        secrets = {*secrets_in(self.keys), *secrets_in(self.renewed)}
        try:
            shown = [repr(driver.hand_over(self.config, self.keys)), repr(driver)]
            shown += [repr(driver.held()), repr(driver.tunnels())]
            shown += [said(driver.routes), said(driver.drops)]
            shown.append(repr(driver.hand_over(self.config, self.renewed)))
            shown.append(str(raises(lambda: driver.hand_over(WRONG, self.keys))))
        finally:
            driver.take_away()
        assert not [text for text in shown if any(secret in text for secret in secrets)]

    def test_a_pack_that_cannot_be_is_refused_and_nothing_has_changed(
        self, driver: GatewayDriver
    ) -> None:
        error = raises(lambda: driver.hand_over(WRONG, {"obrin-keys:keys": {}}))
        assert error is not None, "data that fits no module was taken"
        assert not driver.has_pack()
        try:
            driver.hand_over(self.config, self.keys)
            assert raises(lambda: driver.hand_over(WRONG, self.keys)) is not None
            assert driver.held() in (self.config, None)
            assert driver.tunnels().keys() == self.labels
            assert not driver.hand_over(self.config, self.keys).changed
        finally:
            driver.take_away()

    def test_its_clock_has_a_zone(self, driver: GatewayDriver) -> None:
        clock = driver.clock()
        assert clock is None or clock.tzinfo is not None

    def test_a_question_from_nowhere_is_refused(self, driver: GatewayDriver) -> None:
        answers: list[Any] = []
        if raises(lambda: answers.append(driver.probe(NOWHERE))) is None:
            assert not answers[0].answered


WRONG: dict[str, Any] = {"obrin-nothing:at-all": {}}
"""A configuration that fits no module."""


def secrets_in(keys: Mapping[str, Any]) -> Iterable[str]:
    """The keys of tunnels in the data of obrin-keys."""
    return [entry["secret"] for entry in keys["obrin-keys:keys"]["pre-shared-key"]]
