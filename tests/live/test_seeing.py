"""What is seen after a step of a change: a dead line stops it, and what nobody can be asked is named
and never taken for checked."""

from __future__ import annotations

from dataclasses import replace

import pytest

from obrin.core.change.groups import Groups
from obrin.core.change.order import best_order
from obrin.core.change.states import NONE
from obrin.core.errors import OutsideError
from obrin.core.known import NotKnown
from obrin.live.drivers.observations import NOT_ASKED, Answer, EndStatus, silent
from obrin.live.drivers.protocol import Ends
from obrin.live.reshape.seeing import look
from tests.core.test_joining import crossing

UP = EndStatus(ike="established", child="up", bgp="established", received=(), announced=())
BEFORE = crossing()
AFTER = crossing(("hold-time: 9 s", "hold-time: 12 s"))
LOOKS = Groups(BEFORE, AFTER).looks
ORDER = best_order(Groups(BEFORE, AFTER))
LINE = "harbour-line/circuit"
STEP = next(
    step
    for number, step in enumerate(ORDER)
    if step.leg and LOOKS.between.version(step.leg, frozenset(ORDER[: number + 1])) != NONE
)
DONE = frozenset(ORDER[: ORDER.index(STEP) + 1])


class Place:
    """Every end of it is as `end`; a probe answers what the plan says, or raises `problem`."""

    def __init__(self, end: EndStatus, problem: str = "") -> None:
        self.end, self.problem = end, problem

    def tunnels(self, *_of: object) -> dict[str, EndStatus]:
        return {leg.label: self.end for leg in AFTER.legs()}

    def probe(self, question) -> Answer:
        if self.problem:
            raise OutsideError(self.problem)
        return Answer(answered=True, refused=False, seconds=0.01, source_port=0)

    def drops(self, *_of: object) -> list:
        return []


def ends(site: EndStatus, cloud: EndStatus, problem: str = "") -> Ends:
    clouds = {name: Place(cloud, problem) for name in AFTER.clouds}
    return Ends(clouds, {name: Place(site, problem) for name in AFTER.gateways})


def test_the_step_is_one_of_the_line() -> None:
    assert STEP.leg == LINE


def test_what_is_up_and_answers_is_seen() -> None:
    sight = look(ends(UP, UP), LOOKS, STEP, DONE)
    assert LINE in sight.seen
    assert sight.effect is True
    assert not sight.unseen


@pytest.mark.parametrize("bgp", ["active", "idle", "none"])
def test_a_line_whose_session_never_came_up_is_not_done(bgp: str) -> None:
    down = replace(UP, bgp=bgp)
    for site, cloud in ((down, UP), (UP, down), (down, down), (silent("it is off"), down)):
        sight = look(ends(site, cloud), LOOKS, STEP, DONE)
        assert f"{LINE} is not up at both ends" in sight.odd
        assert sight.effect is False


@pytest.mark.parametrize("why", ["the host is in use (409)", "it is configured by hand"])
def test_flows_that_could_not_be_asked_are_named(why: str) -> None:
    sight = look(ends(UP, UP, why), LOOKS, STEP, DONE)
    assert len(sight.unseen) >= 10
    assert all(why in text for text in sight.unseen)
    assert sight.seen == (LINE,)
    assert "not seen: " in sight.words


def test_a_line_of_which_no_end_says_anything_is_not_known() -> None:
    sight = look(ends(NOT_ASKED, NOT_ASKED), LOOKS, STEP, DONE)
    assert isinstance(sight.effect, NotKnown)
    assert sight.by_hand
    sight = look(ends(silent("no answer"), NOT_ASKED), LOOKS, STEP, DONE)
    assert "no answer" in str(sight.effect)
    assert any(text.startswith(LINE) for text in sight.unseen)
    # A session takes two ends, so that one of them is enough.
    assert look(ends(UP, NOT_ASKED), LOOKS, STEP, DONE).effect is True
