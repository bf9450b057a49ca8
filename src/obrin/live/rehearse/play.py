"""A design rehearsed with packets: every expectation, every single failure, renewals, and back.

For each failure stands what the model says of it beside what the packets did: how long each flow
was gone, which tables the gateways had then, and that all was as before once it was mended. Flows
are asked again and again, each with its own protocol.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from datetime import date
from typing import Protocol

from obrin.core.drill.detection import SPARE_START, Detector
from obrin.core.drill.elements import Element, lost_ways
from obrin.core.drill.noticing import Noticing
from obrin.core.drill.sweep import Outcome, Sweep, flow_name
from obrin.core.routing.model import all_up, state_of
from obrin.core.routing.stable import Stable
from obrin.core.settled.expected import Expected
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled
from obrin.live.practice.faults import Fault
from obrin.live.rehearse.scenes import (
    ALL_UP,
    ENDED,
    KEYS,
    REKEYS,
    SHARE,
    SLACK,
    TIME,
    Asked,
    Gone,
    Scene,
    Share,
)
from obrin.wire.ike.events import CHILD_REKEY, IKE_REKEY

AGAIN = SHARE / 2
"""The next question to a flow comes after such a share of the time that a failure lasts: what is
noticed late need not be asked so often, and the answer is finer than what it is held against."""
SELDOM = 6
"""One in this many probes goes to flows that by the model do not notice."""
PATIENCE = 180.0
"""Seconds until everything has to stand as before."""
AFTER_REKEY = 3.0
"""How long flows are watched after it."""
ASKED_EVERY = 60.0
"""Seconds between two questions of a flow while nothing fails."""
COMES_UP = 10.0
"""Seconds within which a tunnel comes up again that has no other beside it."""
TROUBLED, TROUBLE_STEP = 40.0, 0.5
"""Seconds that a fault lasts, and between two questions meanwhile."""
UNNOTICED = 10.0
"""How long a failure is watched that nothing notices."""


class Stage(Protocol):
    """A practice world, as a rehearsal needs it. `step` is the least number of seconds between two
    questions of a flow."""

    @property
    def settled(self) -> Settled: ...

    @property
    def now(self) -> float: ...

    @property
    def step(self) -> float: ...

    def wait(self, seconds: float) -> None: ...

    def answered(self, wishes: Sequence[Expected], *, patient: bool = False) -> list[bool]:
        """Whether each is answered now, or when `patient` within a moment."""
        ...

    def cut(self, ways: Collection[str], dead: Collection[str]) -> None:
        """Ways lose everything, without a word, and gateways of sites are `dead`."""
        ...

    def heal(self) -> None: ...

    def differences(self, stable: Stable) -> Iterable[str]:
        """Say where a gateway's table is not the model's, in words."""
        ...

    def new_key(self, tunnel: SettledTunnel) -> None:
        """Another pre-shared key at both ends."""
        ...

    def rekey(self, what: str) -> None:
        """Every SA of a kind gets a successor: `child SA` or `IKE SA`."""
        ...

    def scene(self, what: str) -> None:
        """A part of the rehearsal begins, which may be recorded."""
        ...

    def trouble(self, fault: Fault) -> None:
        """Something is wrong until `heal`. Raises ObrinError for what cannot be there."""
        ...

    def noted(self) -> list[str]:
        """What `status` says of it now that it does not say when all is well."""
        ...

    def change(self, settled: Settled) -> None:
        """Connect with another design."""
        ...


class Rehearsal:
    """What is done with a practice world that is connected, or about to be."""

    def __init__(self, stage: Stage) -> None:
        self._stage = stage
        self._settled = stage.settled
        self._whole = state_of(self._settled)
        self._sweep = Sweep(self._settled)
        self._flows = [wish for _, wish in self._sweep.flows]
        self._noticing = Noticing(self._settled)
        self._horizon = watched_for(map(self._noticing.of, all_up(self._settled)))
        self._quiet = 1.0 + max(
            (link.liveness.give_up for link in self._settled.links.values()), default=0.0
        )

    @property
    def now(self) -> float:
        """Seconds that have passed in its world."""
        return self._stage.now

    def begin(self, *, aside: bool = False) -> Scene:
        """Wait until everything stands; `aside` where that is not part of what is rehearsed."""
        if not aside:
            self._stage.scene(ALL_UP)
        mended = self._until_whole()
        apart = () if mended is not None else tuple(self._stage.differences(self._whole))
        return Scene(what=ALL_UP, apart=apart, mended=mended)

    def ask_all(self) -> list[Asked]:
        """Every expectation, with real packets."""
        wishes = list(self._settled.own_expectations())
        seen = self._stage.answered(wishes, patient=True)
        return [Asked(flow_name(w), w.must, s) for w, s in zip(wishes, seen, strict=True)]

    def fail(self, failed: Sequence[Element]) -> Scene:
        """Let things fail together, watch, and mend them."""
        self._stage.scene(" + ".join(map(str, failed)))
        begun, outcome = self._stage.now, self._sweep.try_one(tuple(failed))
        lost = lost_ways(self._settled, failed)
        self._stage.cut(lost, [one.name for one in failed if one.kind == "gateway"])
        moved = {*outcome.lost, *(m.flow for m in outcome.moved)}
        longest = max((m.seconds or 0.0 for m in outcome.moved), default=0.0)
        first, last = self._until_noticed(lost)
        watched = max(first, longest * (1 + SHARE) + 1.0)
        gaps = self._watch(watched, moved)
        self._stage.wait(max(0.0, last - watched))
        apart = tuple(self._stage.differences(Stable(self._whole.network, lost, self._whole)))
        self._stage.heal()
        mended = self._until_whole()
        gone = [_gone(outcome, flow_name(w), gap) for w, gap in zip(self._flows, gaps, strict=True)]
        return Scene(
            what=" + ".join(map(str, failed)),
            gone=tuple(flow for flow in gone if flow.longest != 0.0 or flow.measured != 0.0),
            apart=apart,
            mended=mended,
            took=self._stage.now - begun,
        )

    def suffer(self, fault: Fault) -> Scene:
        """Let something be wrong for a while, ask on, see what is noted of it, and mend it."""
        stage, begun = self._stage, self._stage.now
        stage.scene(str(fault))
        counts = [0] * len(self._flows)
        asked = 0
        try:
            stage.trouble(fault)
            while stage.now < begun + TROUBLED:
                asked += 1
                for number, there in enumerate(stage.answered(self._flows, patient=True)):
                    counts[number] += there
                stage.wait(TROUBLE_STEP)
            noted = tuple(stage.noted())
        finally:
            stage.heal()
        return Scene(
            what=str(fault),
            mended=self._until_whole(),
            took=stage.now - begun,
            answered=tuple(
                Share(flow_name(wish), asked, count)
                for wish, count in zip(self._flows, counts, strict=True)
                if count < asked
            ),
            noted=noted,
        )

    def end_access(self, day: date, after: Settled) -> Scene:
        """Connect with the design as it is once what is granted until a day is over: what was
        granted has no answer any more, the rest has; then back to the design of today."""
        stage = self._stage
        begun, settled = stage.now, stage.settled
        stage.scene(f"{ENDED} {day}")
        stage.change(after)
        left = {(flow_name(wish), wish.must) for wish in after.own_expectations()}
        wishes = [wish for wish in settled.own_expectations() if wish.must == "work"]
        stays = [(flow_name(wish), "work") in left for wish in wishes]
        stage.wait(self._horizon)
        seen = stage.answered(wishes, patient=True)
        gone = tuple(
            Gone(flow=flow_name(w), longest=0.0 if s else None, measured=0.0 if there else None)
            for w, s, there in zip(wishes, stays, seen, strict=True)
            if not (s and there)
        )
        apart = tuple(stage.differences(state_of(after)))
        stage.change(settled)
        mended, took = self._until_whole(), stage.now - begun
        return Scene(what=f"{ENDED} {day}", gone=gone, apart=apart, mended=mended, took=took)

    def rekey(self) -> Scene:
        """Every child SA and every IKE SA gets a successor; no flow may miss an answer."""
        self._stage.scene(REKEYS)
        missed: list[Gone] = []
        for what in (CHILD_REKEY, IKE_REKEY):
            self._stage.rekey(what)
            for wish, gap in zip(self._flows, self._watch(AFTER_REKEY), strict=True):
                if gap != 0.0:
                    missed.append(Gone(flow=flow_name(wish), longest=0.0, measured=gap))
        return Scene(what=REKEYS, gone=tuple(missed), mended=self._until_whole())

    def renew_keys(self) -> Scene | None:
        """Another pre-shared key for each tunnel, one after the other: no flow is gone for longer
        than when the tunnel fails, or than it takes to come up where there is no other. None where
        there are no such keys."""
        found: list[Gone] = []
        tunnels = list(self._settled.keyed_tunnels())
        if not tunnels:
            return None
        self._stage.scene(KEYS)
        for tunnel in tunnels:
            outcome = self._sweep.try_one((Element("tunnel", tunnel.label),))
            longest = {m.flow: m.seconds or COMES_UP for m in outcome.moved}
            longest |= dict.fromkeys(outcome.lost, COMES_UP)
            self._stage.new_key(tunnel)
            for wish, gap in zip(self._flows, self._watch(self._horizon), strict=True):
                name = flow_name(wish)
                most = longest.get(name, 0.0)
                if gap is None or gap > most + SLACK:
                    words = f"{name}, with the key of {tunnel.label}"
                    found.append(Gone(flow=words, longest=most, measured=gap))
        return Scene(what=KEYS, gone=tuple(found), mended=self._until_whole())

    def endure(self, seconds: float) -> Scene:
        """Let time pass with nothing failing: lifetimes end, SAs are rekeyed, keepalives come and
        go, and no flow that is asked every minute may miss an answer."""
        self._stage.scene(TIME)
        begun, missed = self._stage.now, dict.fromkeys(range(len(self._flows)), 0)
        while self._stage.now < begun + seconds:
            self._stage.wait(min(ASKED_EVERY, begun + seconds - self._stage.now))
            for number, there in enumerate(self._stage.answered(self._flows)):
                missed[number] += not there
        gone = [
            Gone(flow=flow_name(wish), longest=0.0, measured=missed[number] * ASKED_EVERY)
            for number, wish in enumerate(self._flows)
            if missed[number]
        ]
        apart = tuple(self._stage.differences(self._whole))
        return Scene(what=TIME, gone=tuple(gone), apart=apart, mended=self._until_whole())

    def _until_noticed(self, lost: Collection[str]) -> tuple[float, float]:
        """Seconds until the flows have to go on, and until all tables are the model's: the last
        thing that notices takes the routes by which peers are reached."""
        found = self._noticing
        return watched_for(map(found.of, lost)), watched_for(map(found.last, lost))

    def _watch(self, seconds: float, moved: Collection[str] | None = None) -> list[float | None]:
        """How long each flow was gone within so many seconds, until its return; None for one that
        did not come back. Those that are not `moved` are asked seldom, where these are known."""
        stage, begun = self._stage, self._stage.now
        gone: list[float | None] = [0.0] * len(self._flows)
        often = [moved is None or flow_name(wish) in moved for wish in self._flows]
        round_number = 0
        while stage.now < begun + seconds:
            asked, seldom = stage.now, round_number % SELDOM == 0
            now = [n for n in range(len(self._flows)) if seldom or often[n] or gone[n] != 0.0]
            answers = stage.answered([self._flows[n] for n in now])
            for number, there in zip(now, answers, strict=True):
                if not there:
                    gone[number] = None
                elif gone[number] is None:
                    gone[number] = asked - begun
            round_number += 1
            following = asked + max(stage.step, (asked - begun) * AGAIN)
            stage.wait(max(0.0, min(following, begun + seconds) - stage.now))
        over = stage.now - begun
        back = stage.answered(self._flows, patient=True)
        return [
            (over if gap is None else gap) if there else None
            for gap, there in zip(gone, back, strict=True)
        ]

    def _until_whole(self) -> float | None:
        """Seconds until tables and flows are as with everything up, and stay so while a question of
        liveness may still be open; None when it takes too long."""
        begun = self._stage.now
        while self._stage.now - begun < PATIENCE:
            if self._stands():
                whole = self._stage.now
                self._stage.wait(self._quiet)
                if self._stands():
                    return whole - begun
            self._stage.wait(1.0)
        return None

    def _stands(self) -> bool:
        apart = next(iter(self._stage.differences(self._whole)), None)
        return apart is None and all(self._stage.answered(self._flows, patient=True))


def _gone(outcome: Outcome, flow: str, measured: float | None) -> Gone:
    """What was predicted of a flow, beside what was measured."""
    if flow in outcome.lost:
        return Gone(flow=flow, longest=None, measured=measured)
    moved = next((m for m in outcome.moved if m.flow == flow), None)
    if moved is None:
        return Gone(flow=flow, longest=0.0, measured=measured)
    return Gone(
        flow=flow,
        shortest=0.0 if moved.noticed is None else moved.noticed.shortest,
        longest=moved.seconds,
        measured=measured,
        before=moved.before,
        after=moved.after,
        noticed_by="" if moved.noticed is None else moved.noticed.name,
    )


def watched_for(found: Iterable[Detector | None]) -> float:
    """Seconds within which all of these have noticed."""
    known = (detector.longest for detector in found if detector is not None)
    return max(known, default=UNNOTICED) * (1 + SHARE) + SPARE_START + SLACK + 1.0


def ending(rehearsal: Rehearsal, seconds: float = 0.0) -> Iterator[Scene]:
    """What comes after the failures; in the end so many quiet seconds."""
    yield rehearsal.rekey()
    renewed = rehearsal.renew_keys()
    if renewed is not None:
        yield renewed
    if seconds:
        yield rehearsal.endure(seconds)
