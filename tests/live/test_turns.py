"""Whose turn it is while secrets are replaced, one site after the other or several at once."""

from __future__ import annotations

import threading
import time
from collections import Counter

import pytest

from obrin.core.errors import OutsideError
from obrin.core.handover.rotation import Turn, rotation
from obrin.live.connect.turns import Turns
from obrin.live.drivers.protocol import Ends
from tests.core.test_picture import many_sites
from tests.doubles import settled_of

SETTLED = settled_of(many_sites(12))
TURNS = list(rotation(SETTLED, {t.label for t in SETTLED.tunnels()}))


def site_of(turn: Turn) -> str:
    return SETTLED.links[turn.tunnel.link].site


class Doing:
    """Takes turns, and notes who had one at the same time."""

    def __init__(
        self, at_once: int, ill: dict[str, object] | None = None, *, meet: bool = False
    ) -> None:
        """Where they `meet`, none that is ill ends before all that are have begun."""
        self.ill = ill or {}
        self._meet = threading.Barrier(len(self.ill)) if meet else None
        self.begun: list[Turn] = []
        self.together: list[Counter[str]] = []
        self._now: Counter[str] = Counter()
        self._lock = threading.Lock()
        self.turns = Turns(
            project=None, settled=SETTLED, packs={}, ends=Ends({}, {}), report=print, timeout=1.0,
            at_once=at_once,
        )  # fmt: skip

    def __call__(self, turn: Turn) -> bool:
        with self._lock:
            self.begun.append(turn)
            self._now[site_of(turn)] += 1
            self.together.append(+self._now)
        time.sleep(0.01)
        if self._meet is not None and turn.tunnel.label in self.ill:
            self._meet.wait(timeout=30)
        with self._lock:
            self._now[site_of(turn)] -= 1
        found = self.ill.get(turn.tunnel.label, True)
        if isinstance(found, Exception):
            raise found
        return bool(found)


def test_one_after_the_other_in_the_order_that_is_shown() -> None:
    doing = Doing(1)
    assert doing.turns.take(TURNS, doing) == []
    assert doing.begun == TURNS
    assert all(now.total() == 1 for now in doing.together)


def test_several_sites_at_once_when_the_first_has_shown_that_it_works() -> None:
    doing = Doing(5)
    assert doing.turns.take(TURNS, doing) == []
    first = [turn for turn in TURNS if site_of(turn) == site_of(TURNS[0])]
    assert doing.begun[: len(first)] == first
    assert all(now.total() == 1 for now in doing.together[: len(first)])
    assert all(set(now.values()) == {1} for now in doing.together), "two of one site"
    assert max(now.total() for now in doing.together) == 5
    assert sorted(t.tunnel.label for t in doing.begun) == sorted(t.tunnel.label for t in TURNS)
    for site in SETTLED.sites:
        theirs = [turn for turn in doing.begun if site_of(turn) == site]
        assert theirs == [turn for turn in TURNS if site_of(turn) == site]


@pytest.mark.parametrize("at_once", [1, 4])
def test_after_one_that_does_not_work_no_other_is_begun(at_once: int) -> None:
    ill = TURNS[6]
    doing = Doing(at_once, {ill.tunnel.label: False})
    assert doing.turns.take(TURNS, doing) == [ill]
    assert len(doing.begun) <= 7 + 2 * (at_once - 1)
    first = Doing(at_once, {TURNS[0].tunnel.label: False})
    assert first.turns.take(TURNS, first) == [TURNS[0]]
    assert first.begun == TURNS[:1]


def test_an_error_beside_one_that_does_not_work_does_not_hide_it() -> None:
    first, second = TURNS[2], next(t for t in TURNS[3:] if site_of(t) != site_of(TURNS[2]))
    ill = {first.tunnel.label: OutsideError("silent"), second.tunnel.label: False}
    doing = Doing(4, ill, meet=True)
    assert doing.turns.take(TURNS, doing) == [second]


@pytest.mark.parametrize("at_once", [1, 4])
def test_an_error_ends_it_for_all(at_once: int) -> None:
    doing = Doing(at_once, {TURNS[4].tunnel.label: OutsideError("it does not answer")})
    with pytest.raises(OutsideError, match="does not answer"):
        doing.turns.take(TURNS, doing)
    assert len(doing.begun) < len(TURNS)
    assert doing.turns.take([], doing) == []
