"""Times of the week at which a place may be changed, and when the steps of a change are done."""

from __future__ import annotations

import random
from datetime import UTC, datetime, timedelta

import pytest

from obrin.core.change.plan import make_plan
from obrin.core.change.runbook import runbooks
from obrin.core.change.schedule import schedule
from obrin.core.design.document import load_design
from obrin.core.design.windows import DAYS, next_room, parse_window
from obrin.core.errors import DesignError, ObrinError
from tests.doubles import DESIGN, swap
from tests.live.changes import both_settled
from tests.live.test_kinds_of_change import SITE, SITE_LINK, WISHES

MONDAY = datetime(2026, 11, 30, tzinfo=UTC)
TEN = timedelta(minutes=10)
ONE = swap(("      b: {gateway: quay-gw, uplink: radio, instance: 2}\n", ""))
STATIC = ("bgp: {hold: 6 s}", "routing: static")


def open_at(window, moment: datetime) -> bool:
    return any(opens <= moment < closes for opens, closes in window.around(moment))


@pytest.mark.parametrize("seed", range(60))
def test_the_next_room_is_the_first_of_all_minutes(seed: int) -> None:
    draw = random.Random(seed)
    windows = []
    for _ in range(draw.randint(1, 3)):
        days = draw.choice([draw.choice(DAYS), "mon-fri", "fri-sun", "sat-mon"])
        begin, end = draw.randrange(1440), draw.randrange(1440)
        zone = draw.choice(["", " UTC", " Europe/Lisbon", " Pacific/Auckland"])
        text = f"{days} {begin // 60:02}:{begin % 60:02}-{end // 60:02}:{end % 60:02}{zone}"
        windows.append(parse_window(text))
        assert str(windows[-1]) == text
    start = MONDAY + timedelta(minutes=draw.randrange(10080))
    needed = timedelta(minutes=draw.choice([1, 10, 45]))

    def fits(moment: datetime) -> bool:
        """One of them is open from then on for so long."""
        minutes = range(int(needed.total_seconds()) // 60)
        return any(
            all(open_at(window, moment + timedelta(minutes=m)) for m in minutes)
            for window in windows
        )

    found = next_room(windows, start, needed)
    if found is None:
        assert all(window.lasts < needed.total_seconds() / 60 for window in windows)
        return
    assert fits(found)
    before = range(0, int((found - start).total_seconds()) // 60, draw.choice([7, 11]))
    assert not any(fits(start + timedelta(minutes=m)) for m in before)


def test_what_is_no_time_of_the_week_is_told() -> None:
    for text, words in (
        ("sat", "no time of the week"),
        ("sat 22-04", "no time of the week"),
        ("noday 22:00-04:00", "no time of the week"),
        ("abc 22:00-04:00", "no day of the week"),
        ("sat 25:00-04:00", "no such time of day"),
        ("sat 22:61-04:00", "no such time of day"),
        ("sat 22:00-04:00 Nowhere/Land", "no time zone"),
    ):
        with pytest.raises(ValueError, match=words):
            parse_window(text)
        with pytest.raises(DesignError, match=r"windows.yaml:\d+:\d+"):
            load_design(DESIGN + f"windows: {{quay: '{text}'}}\n", "windows.yaml")
    with pytest.raises(DesignError, match=r"there is no site or cloud 'quai'. Did you mean 'quay'"):
        load_design(DESIGN + "windows: {quai: 'sat 22:00-04:00'}\n", "windows.yaml")
    assert parse_window("Sat 00:00-24:00").lasts == 1440


def test_a_flow_is_lost_until_the_next_window() -> None:
    text = swap(STATIC, text=ONE)
    plan = make_plan(*both_settled(ONE, text))
    places = [p.step.place for p in plan.steps]
    assert plan.loses
    assert sorted(set(places)) == ["apps", "quay-gw"]
    windows = "windows: {quay: 'sat 22:00-04:00', apps: 'mon 06:00-07:00'}\n"
    settled = both_settled(ONE, text + windows)[1]
    times = schedule(plan, settled, MONDAY, TEN)
    assert times.waits
    for planned, slot in zip(plan.steps, times.slots, strict=True):
        day, hour = (5, 22) if planned.step.place == "quay-gw" else (0, 6)
        assert (slot.begin.weekday(), slot.begin.hour) == (day, hour)
    assert max(times.lost(plan).values()) > 86_400
    assert "When: Sat 2026-12-05 22:00 to 22:10 UTC" in runbooks(plan, times)["site-quay.md"]
    free = schedule(plan, both_settled(ONE, text)[1], MONDAY, TEN)
    assert not free.waits
    assert free.lost(plan) == {f: n * 600.0 for f, n in plan.lost_steps().items()}
    assert "When:" not in "".join(runbooks(plan, free).values())
    with pytest.raises(ObrinError, match="long enough"):
        schedule(plan, settled, MONDAY, timedelta(hours=7))


TURNS = {
    "another suite": [("bgp: {hold: 6 s}", "bgp: {hold: 6 s}\n    suite: common")],
    "renumbered": [
        ("desks: 10.20.0.0/22", "desks: 10.77.0.0/22"),
        ("10.30.0.0/24", "10.78.0.0/24"),
    ],
}


@pytest.mark.parametrize("turn", TURNS)
@pytest.mark.parametrize(("days", "first"), [(("fri", "wed"), "pier"), (("tue", "sat"), "quay")])
def test_the_site_whose_window_comes_first_is_changed_first(
    days: tuple[str, str], first: str, turn: str
) -> None:
    quay, pier = days
    shop = "  - {from: pier/shop, to: apps/web, flow: tcp/80, must: work}\n"
    two = swap(("clouds:\n", SITE + "clouds:\n"), (WISHES, SITE_LINK + WISHES + shop))
    windows = f"windows: {{quay: '{quay} 20:00-24:00', pier: '{pier} 20:00-24:00'}}\n"
    changed = two
    for old, new in TURNS[turn]:
        assert old in changed
        changed = changed.replace(old, new)
    before, after = both_settled(two, changed + windows)
    plan = make_plan(before, after, begins=MONDAY)
    sites = [after.gateways[p.step.place].site for p in plan.steps if p.step.place != "apps"]
    assert sites[0] == first
    assert sites == sorted(sites, key=lambda site: site != first)
    last = schedule(plan, after, MONDAY, TEN).slots[-1].end
    assert last - MONDAY < timedelta(days=7)
    unasked = make_plan(before, after)
    assert sorted(p.step.name for p in unasked.steps) == sorted(p.step.name for p in plan.steps)
    assert schedule(unasked, after, MONDAY, TEN).slots[-1].end >= last
    begun = [p.step.name for p in unasked.steps]
    kept = make_plan(before, after, begins=MONDAY, begun=begun)
    assert [p.step.name for p in kept.steps] == begun
    other = make_plan(before, after, begins=MONDAY, begun=begun[1:])
    assert [p.step.name for p in other.steps] == [p.step.name for p in plan.steps]
