"""What stops only while a step is done, held against packets and against what a device moves."""

from __future__ import annotations

import random
from collections.abc import Iterator
from datetime import UTC, datetime

import pytest
import yaml

from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.change.as_design import state
from obrin.core.change.breaks import downs
from obrin.core.change.groups import Groups
from obrin.core.change.order import best_order
from obrin.core.change.plan import make_plan
from obrin.core.change.states import Between, Flow, Step
from obrin.core.handover.secrets import Secrets
from obrin.core.reach.paths import key_of
from obrin.device.changes import changes_between
from obrin.device.standard.from_standard import router_config
from obrin.live.reshape.work import gateway_work
from tests.doubles import DESIGN, swap
from tests.live.buildable import Drawn
from tests.live.changes import both_settled, mutated
from tests.live.reshaping import Reshaped
from tests.live.test_kinds_of_change import BGP, CLOUD, OWN_SUITE, SECOND
from tests.live.virtual_world import certificates_of, keys_of

TICK = 0.05
ONE = (SECOND, "")
SLOWER = "    bgp: {hold-time: 30 s}\n"
LARGER = (CLOUD, CLOUD + "    gateway: {throughput: 900 Mbit/s}\n")
KINDS = {
    "hold time": (swap(ONE), swap(ONE, (BGP, SLOWER))),
    "hold time of two": (DESIGN, swap((BGP, SLOWER))),
    "liveness": (swap(ONE), swap(ONE, (BGP, BGP + "    liveness: {delay: 33 s}\n"))),
    "lifetime": (
        swap(ONE, text=OWN_SUITE),
        swap(ONE, text=OWN_SUITE.replace("esp: {", "esp: {lifetime: 30 min, ")),
    ),
    "the gateway's subnet": (swap(ONE), swap(ONE, LARGER)),
    "a summary": (swap(ONE), swap(ONE, (BGP, "    bgp: {hold-time: 6 s, summaries: 10.20.0.0/20}\n"))),
}  # fmt: skip
STOPS = {"hold time", "liveness", "lifetime", "the gateway's subnet"}


class Watched(Reshaped):
    """A change from its first step on, with a question for each flow every TICK seconds."""

    def __init__(self, *pair: str) -> None:
        self._begun = False
        super().__init__(*both_settled(*pair))
        self._begun = True

    def do(self, step: Step) -> None:
        if self._begun:
            super().do(step)

    def gaps(self, step: Step) -> dict[Flow, float]:
        """The longest time without an answer, for each flow that was answered."""
        last, longest, run = dict[Flow, float](), dict[Flow, float](), self.world.run
        asked = list(self._asked())

        def watch(seconds: float) -> None:
            until = self.world.now + seconds
            while self.world.now < until - 1e-9:
                run(min(TICK, until - self.world.now))
                for flow, host, key, port in asked:
                    query = host.ask(key.protocol, key.destination, port, self.world.now)
                    self.world.move()
                    if query.answered_at is not None:
                        gone = self.world.now - last.get(flow, self.world.now)
                        longest[flow] = max(longest.get(flow, 0.0), gone)
                        last[flow] = self.world.now
                    host.forget(query)

        self.world.run = watch
        try:
            watch(1.0)
            self.do(step)
            watch(12.0)
        finally:
            del self.world.run
        return longest

    def _asked(self) -> Iterator[tuple]:
        settled = state(self.between, self.done)
        for wish in settled.own_expectations():
            flow = Flow(str(wish.source), str(wish.destination), wish.service, wish.must)
            if flow in self.between.flows and flow.must == "work":
                key = key_of(settled, (wish.source, None), (wish.destination, None), wish.flow)
                yield (
                    flow,
                    self.world.host_at(wish.source.place, key.source),
                    key,
                    wish.flow.first_port,
                )


@pytest.mark.parametrize("undone", [False, True])
@pytest.mark.parametrize("kind", KINDS)
def test_what_stops_while_a_step_is_done_stops_for_as_long_as_is_said(kind, undone) -> None:
    watched, stopped = Watched(*(KINDS[kind][::-1] if undone else KINDS[kind])), False
    between, looks = watched.between, watched.looks
    for step in best_order(Groups(between.before, between.after)):
        done = watched.done
        said = {each.flow: each.seconds for each in looks.breaks(step, done)}
        works = looks.of(done).works.keys() & looks.of(done | {step}).works.keys()
        for flow, gone in watched.gaps(step).items():
            if flow in works:
                assert gone == pytest.approx(said.get(flow, 0.0), abs=0.5), (step.name, flow.words)
                stopped |= gone > 1
    assert stopped is (kind in STOPS and (kind, undone) != ("the gateway's subnet", True))


@pytest.mark.parametrize(
    "seeds", [range(12), pytest.param(range(100, 220), marks=pytest.mark.long)]
)
def test_what_a_step_takes_down_is_what_the_device_begins_anew(seeds: range) -> None:
    begun = 0
    for seed in seeds:
        drawn = Drawn(seed)
        other, _ = mutated(drawn.data, random.Random(seed))
        designs = both_settled(drawn.text, yaml.safe_dump(other, sort_keys=False))
        between, done = Between(*designs), frozenset[Step]()
        for step in best_order(Groups(*designs)):
            if step.place not in {*designs[0].clouds, *designs[1].clouds}:
                said = {
                    label
                    for each in downs(between, step, done, PRACTICE_CLOUD)
                    for label in each.labels
                }
                assert said == _begun_anew(between, step, done), (seed, step.name)
                begun += bool(said)
            done |= {step}
    assert begun


def _begun_anew(between: Between, step: Step, done: frozenset[Step]) -> set[str]:
    """By the device's own comparison of two configurations."""
    designs = between.before, between.after
    keys = {name: key for d in designs for name, key in keys_of(d).items()}
    files = {name: file for d in designs for name, file in certificates_of(d).items()}
    secrets, now = Secrets(keys, files), datetime(2026, 7, 1, tzinfo=UTC)
    old, new = (
        router_config(*gateway_work(between, step.place, state_of, secrets), lambda _: now)
        for state_of in (done, done | {step})
    )
    changes = changes_between(old, new)
    again = [name for name in changes.sessions_new if name in changes.sessions_gone]
    over = {way for name in again for way in new.neighbours[name].ways}
    return {*changes.anew, *over}


def test_a_gateway_that_cannot_change_in_place_is_down_while_it_is_built_anew() -> None:
    before, after = both_settled(swap(ONE), swap(ONE, LARGER))
    from dataclasses import replace

    rigid = replace(PRACTICE_CLOUD, in_place=("subnet", "instances"))
    plan = make_plan(before, after, rigid)
    minutes = rigid.find_class(after.clouds["apps"].gateway.gateway_class).build_minutes
    (step,) = plan.steps
    assert {each.seconds for each in step.breaks} == {minutes * 60.0}
    assert plan.loses()
    assert not make_plan(before, after).loses()
