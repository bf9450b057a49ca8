"""A design rehearsed with packets: every expectation, every single failure, renewals, and back.

For each failure stands what the model says of it beside what the packets did: how long each flow
was gone, which tables the gateways had then, and that all was as before once it was mended. Flows
are asked again and again, each with its own protocol.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Protocol

from obrin.core.drill.detection import SPARE_START, detectors
from obrin.core.drill.elements import Element, lost_ways
from obrin.core.drill.sweep import Outcome, Sweep, flow_name
from obrin.core.routing.model import state_of
from obrin.core.routing.stable import Stable
from obrin.core.settled.expected import Expected
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled
from obrin.wire.ike.events import CHILD_REKEY, IKE_REKEY

SLACK, SHARE = 0.5, 0.1
"""Seconds, and a share of the window, by which a measured outage may miss what was predicted."""
QUESTIONS = 120
"""To each flow, while a failure is watched: what is noticed late need not be asked so often."""
PATIENCE = 180.0
"""Seconds until everything has to stand as before."""
AFTER_REKEY = 3.0
"""How long flows are watched after it."""
ASKED_EVERY = 60.0
"""Seconds between two questions of a flow while nothing fails."""
COMES_UP = 10.0
"""Seconds within which a tunnel comes up again that has no other beside it."""
ALL_UP, REKEYS, KEYS, TIME = "everything up", "rekeys of all SAs", "new keys", "time that passes"
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

    def cut(self, ways: Collection[str]) -> None:
        """Tunnels lose everything, without a word."""
        ...

    def heal(self) -> None: ...

    def differences(self, stable: Stable) -> Iterable[str]:
        """Where a gateway's table is not the model's, in words."""
        ...

    def new_key(self, tunnel: SettledTunnel) -> None:
        """Another pre-shared key at both ends."""
        ...

    def rekey(self, what: str) -> None:
        """Every SA of a kind gets a successor: `child SA` or `IKE SA`."""
        ...


@dataclass(frozen=True, slots=True)
class Asked:
    """An expectation, and whether it was answered."""

    flow: str
    must: str
    answered: bool

    @property
    def met(self) -> bool:
        return self.answered == (self.must == "work")


@dataclass(frozen=True, slots=True, kw_only=True)
class Gone:
    """A flow in a failure. `shortest` and `longest` are the predicted seconds without it, `longest`
    None where it is gone until all is mended; `measured` None where it was. `before` and `after`
    are the ways that the model sees it go."""

    flow: str
    longest: float | None
    measured: float | None
    shortest: float = 0.0
    before: str = ""
    after: str = ""
    noticed_by: str = ""

    @property
    def met(self) -> bool:
        if self.longest is None or self.measured is None:
            return self.longest is self.measured
        slack = max(SLACK, SHARE * self.longest)
        return self.shortest - slack <= self.measured <= self.longest + slack


@dataclass(frozen=True, slots=True, kw_only=True)
class Scene:
    """One part of a rehearsal. `apart` are tables that were not the model's, `mended` seconds until
    all stood as before, None where it did not."""

    what: str
    gone: tuple[Gone, ...] = ()
    apart: tuple[str, ...] = ()
    mended: float | None = 0.0

    @property
    def good(self) -> bool:
        return not self.apart and self.mended is not None and all(flow.met for flow in self.gone)


class Rehearsal:
    """What is done with a practice world that is connected, or about to be."""

    def __init__(self, stage: Stage) -> None:
        self._stage = stage
        self._settled = stage.settled
        self._whole = state_of(self._settled)
        self._sweep = Sweep(self._settled)
        self._flows = [wish for _, wish in self._sweep.flows]
        self._horizon = _longest(self._settled)
        self._quiet = 1.0 + max(
            (link.liveness.give_up for link in self._settled.links.values()), default=0.0
        )
        self._step = max(stage.step, self._horizon / QUESTIONS)

    def begin(self) -> Scene:
        """Wait until everything stands."""
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
        outcome = self._sweep.try_one(tuple(failed))
        lost = lost_ways(self._settled, failed)
        self._stage.cut(lost)
        gaps = self._watch(self._horizon)
        apart = tuple(self._stage.differences(Stable(self._whole.network, lost, self._whole)))
        self._stage.heal()
        mended = self._until_whole()
        gone = [_gone(outcome, flow_name(w), gap) for w, gap in zip(self._flows, gaps, strict=True)]
        return Scene(
            what=" + ".join(map(str, failed)),
            gone=tuple(flow for flow in gone if flow.longest != 0.0 or flow.measured != 0.0),
            apart=apart,
            mended=mended,
        )

    def rekey(self) -> Scene:
        """Every child SA and every IKE SA gets a successor; no flow may miss an answer."""
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
        if not tunnels:
            return None
        return Scene(what=KEYS, gone=tuple(found), mended=self._until_whole())

    def endure(self, seconds: float) -> Scene:
        """Let time pass with nothing failing: lifetimes end, SAs are rekeyed, keepalives come and
        go, and no flow that is asked every minute may miss an answer."""
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

    def _watch(self, seconds: float) -> list[float | None]:
        """How long each flow was gone within so many seconds, until its return; None for one that
        did not come back."""
        stage, begun = self._stage, self._stage.now
        last: list[float | None] = [None] * len(self._flows)
        while stage.now < begun + seconds:
            asked = stage.now
            for number, there in enumerate(stage.answered(self._flows)):
                if not there:
                    last[number] = asked
            stage.wait(max(0.0, asked + self._step - stage.now))
        back = stage.answered(self._flows, patient=True)
        return [
            (0.0 if missed is None else missed - begun + self._step) if there else None
            for missed, there in zip(last, back, strict=True)
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


def _longest(settled: Settled) -> float:
    """Seconds within which every failure is noticed that anything notices."""
    found = [
        detector.longest
        for leg in settled.legs()
        for detector in detectors(settled, settled.bundle(leg), leg)[:1]
    ]
    return max(found, default=UNNOTICED) * (1 + SHARE) + SPARE_START + SLACK + 1.0


def scenes(
    rehearsal: Rehearsal, failures: Sequence[Sequence[Element]], seconds: float = 0.0
) -> Iterator[Scene]:
    """What comes after the beginning and the expectations; in the end so many quiet seconds."""
    for failed in failures:
        yield rehearsal.fail(failed)
    yield rehearsal.rekey()
    renewed = rehearsal.renew_keys()
    if renewed is not None:
        yield renewed
    if seconds:
        yield rehearsal.endure(seconds)
