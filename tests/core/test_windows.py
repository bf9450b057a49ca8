"""Times of the week at which a place may be changed, and when the steps of a change are done."""

from __future__ import annotations

import random
from collections.abc import Iterable, Sequence
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from itertools import pairwise, permutations

import pytest
import yaml

from obrin.core.change.calendar import MOST_TOGETHER, Turn, slots_of
from obrin.core.change.groups import Groups
from obrin.core.change.order import best_order
from obrin.core.change.outlook import interruption
from obrin.core.change.plan import make_plan
from obrin.core.change.runbook import runbooks
from obrin.core.change.schedule import schedule
from obrin.core.change.states import LEG, Step
from obrin.core.change.weave import blocks, woven
from obrin.core.design.document import load_design
from obrin.core.design.windows import DAYS, Window, next_room, parse_window
from obrin.core.errors import DesignError, ObrinError, OutsideError
from obrin.live.drivers.protocol import Progress
from obrin.live.reshape.run import Carrying, _in_time
from tests.doubles import DESIGN, swap
from tests.live.buildable import Drawn
from tests.live.changes import both_settled, mutated
from tests.live.test_kinds_of_change import SITE, SITE_LINK, WISHES

MONDAY = datetime(2026, 11, 30, tzinfo=UTC)
TEN = timedelta(minutes=10)
ONE = swap(("      b: {gateway: quay-gw, uplink: radio, instance: 2}\n", ""))
STATIC = ("bgp: {hold-time: 6 s}", "routing: static")


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


def test_what_is_no_time_of_the_week_is_reported() -> None:
    for text, words in (
        ("sat", "not a time of the week"),
        ("sat 22-04", "not a time of the week"),
        ("noday 22:00-04:00", "not a time of the week"),
        ("abc 22:00-04:00", "no day of the week"),
        ("sat 25:00-04:00", "no such time of day"),
        ("sat 22:61-04:00", "no such time of day"),
        ("sat 22:00-04:00 Nowhere/Land", "not a time zone"),
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
    assert plan.loses()
    assert sorted(set(places)) == ["apps", "quay-gw"]
    windows = "windows: {quay: 'sat 22:00-04:00', apps: 'mon 06:00-07:00'}\n"
    after = both_settled(ONE, text + windows)[1]
    free, plan = plan, make_plan(both_settled(ONE, ONE)[0], after, begins=MONDAY)
    times = schedule(plan, MONDAY, TEN)
    assert times.waits
    assert [
        (p.step.place, p.wrong, f"{s.begin:%a %H:%M}")
        for p, s in zip(plan.steps, times.slots, strict=True)
    ] == [
        ("quay-gw", 2, "Sun 03:50"),  # as late as can be: what it interrupts waits for Monday
        ("apps", 0, "Mon 06:00"),
        ("apps", 0, "Mon 06:10"),
    ]
    assert set(times.lost(plan).values()) == {26 * 3600 + 600}
    assert "When: Sun 2026-12-06 03:50 to 04:00 UTC" in runbooks(plan, times)["site-quay.md"]
    at_once = schedule(free, MONDAY, TEN)
    assert not at_once.waits
    assert at_once.lost(free) == {f: n * 600.0 for f, n in free.lost_steps().items()}
    assert "When:" not in "".join(runbooks(free, at_once).values())
    with pytest.raises(ObrinError, match="long enough"):
        schedule(plan, MONDAY, timedelta(hours=7))


def drawn_windows(draw: random.Random, most: int) -> tuple[Window, ...]:
    """On full hours, none of them open around the clock."""
    texts = []
    for _ in range(draw.randint(0, most)):
        begin, lasts = draw.randrange(24), draw.choice([1, 2, 3, 8])
        days = draw.choice([draw.choice(DAYS), "mon-fri", "sat-sun", "tue-thu"])
        texts.append(f"{days} {begin:02}:00-{(begin + lasts) % 24:02}:00")
    return tuple(map(parse_window, texts))


def hours_lost(turns: list[Turn], wrong: int, begins: list[int]) -> int:
    """Flows times hours from the start until the last is done."""
    ends = [0, *(begin + 1 for begin in begins)]
    states = [wrong, *(turn.price for turn in turns)]
    return sum(w * (b - a) for w, a, b in zip(states, ends, ends[1:], strict=False))


@pytest.mark.parametrize("seed", range(60))
def test_no_times_of_all_lose_less(seed: int) -> None:
    """Where windows open and close on full hours and a step takes one, only full hours matter."""
    draw = random.Random(seed)
    turns = [Turn("p", drawn_windows(draw, 2), draw.randint(1, 4)) for _ in range(3)]
    turns = [*turns[: draw.randint(1, 2)], replace(turns[-1], price=0)]
    wrong, hour = draw.choice([0, 0, 3]), timedelta(hours=1)
    slots = list(slots_of(turns, MONDAY, hour, wrong))
    begins = [int((slot.begin - MONDAY) / hour) for slot in slots]
    for turn, slot in zip(turns, slots, strict=True):
        assert next_room(turn.windows, slot.begin, hour) == slot.begin
    assert all(b - a >= 1 for a, b in pairwise(begins))
    ways = {0: wrong and 0}
    state = wrong
    for turn in turns:
        fits = [
            h
            for h in range(24 * 21)
            if next_room(turn.windows, MONDAY + h * hour, hour) == MONDAY + h * hour
        ]
        ways = {
            h + 1: min(lost + state * (h + 1 - free) for free, lost in ways.items() if free <= h)
            for h in fits
            if min(ways) <= h
        }
        state = turn.price
    assert hours_lost(turns, wrong, begins) == min(ways.values())
    assert begins[-1] + 1 == min(end for end, lost in ways.items() if lost == min(ways.values()))


@pytest.mark.parametrize("seed", range(24))
def test_no_order_loses_less_with_the_windows_of_its_places(seed: int) -> None:
    draw = random.Random(seed)
    windows = {
        place: [str(w) for w in drawn_windows(draw, 2)] or "mon-sun 00:00-24:00"
        for place in ("quay", "apps")
    }
    change = draw.choice(
        [STATIC, ("bgp: {hold-time: 6 s}", "bgp: {hold-time: 6 s}\n    suite: common")]
    )
    text = draw.choice([ONE, swap()])
    before, after = both_settled(
        text, swap(change, text=text) + yaml.safe_dump({"windows": windows})
    )
    groups = Groups(before, after, begins=MONDAY, each=timedelta(hours=1))
    steps = groups.between.steps
    assert 2 <= len(steps) <= 8
    orders = (
        permutations(steps)
        if len(steps) < 6
        else (draw.sample(steps, len(steps)) for _ in range(400))
    )
    assert least_hours(groups, [best_order(groups)]) <= least_hours(groups, orders)


def least_hours(groups: Groups, orders: Iterable[Sequence[Step]]) -> int:
    """Flows times hours that the best of these loses, each at its best times."""

    def lost(order: Sequence[Step]) -> int:
        wrong = [groups.looks.wrong(frozenset(order[: n + 1])) for n in range(len(order) - 1)]
        windows = [groups.between.windows(step.place) for step in order]
        turns = [Turn("", w, n) for w, n in zip(windows, [*wrong, 0], strict=True)]
        hour = timedelta(hours=1)
        begins = [int((slot.begin - MONDAY) / hour) for slot in slots_of(turns, MONDAY, hour)]
        return hours_lost(turns, 0, begins)

    return min(map(lost, orders))


@pytest.mark.parametrize("seeds", [range(8), pytest.param(range(8, 60), marks=pytest.mark.long)])
def test_no_order_of_drawn_changes_loses_less(seeds: range) -> None:
    tried = lose = 0
    for seed in seeds:
        drawn, draw = Drawn(seed), random.Random(seed)
        other, _ = mutated(drawn.data, random.Random(seed))
        other["windows"] = {
            place: [str(w) for w in drawn_windows(draw, 2)] or "mon-sun 00:00-24:00"
            for place in (*other["sites"], *other["clouds"])
        }
        before, after = both_settled(drawn.text, yaml.safe_dump(other, sort_keys=False))
        groups = Groups(before, after, begins=MONDAY, each=timedelta(hours=1))
        if 2 <= len(groups.between.steps) <= 6 and len(groups.all) == 1:
            tried += 1
            found = least_hours(groups, [best_order(groups)])
            lose += found > 0
            assert found == least_hours(groups, permutations(groups.between.steps)), seed
    assert tried > len(seeds) / 4
    assert lose


def test_what_interrupts_is_begun_when_it_is_soon_over() -> None:
    windows = "windows: {quay: 'sat 22:00-04:00', apps: 'sun 01:00-05:00'}\n"
    before, after = both_settled(ONE, swap(STATIC, text=ONE) + windows)
    groups = Groups(before, after, begins=MONDAY)
    order, looks = best_order(groups), groups.looks
    assert [step.place for step in order[:2]] == ["quay-gw", "apps"]
    saturday, told, slept = MONDAY + timedelta(days=5), list[Progress](), list[float]()
    clock = [saturday + timedelta(hours=22)]

    def sleep(seconds: float) -> None:
        slept.append(seconds)
        clock[0] += timedelta(seconds=seconds)

    def in_time(step: timedelta | None, done: int) -> None:
        carrying = Carrying(
            None, None, None, told.append, step=step, now=lambda: clock[0], sleep=sleep
        )
        _in_time(carrying, order[done:], frozenset(order[:done]), looks, looks.between)

    in_time(None, 0)
    with pytest.raises(OutsideError, match=r"would wait, since apps .* Sun 2026-12-06 00:50 UTC"):
        in_time(TEN, 0)
    clock[0] = saturday + timedelta(hours=4)
    with pytest.raises(OutsideError, match=r": quay-gw may be changed sat .* 00:50 UTC"):
        in_time(TEN, 0)
    assert not slept
    clock[0] = saturday + timedelta(hours=24, minutes=47)
    in_time(TEN, 0)
    assert slept == [180.0]
    clock[0] += timedelta(seconds=5)  # the step took no longer
    in_time(TEN, 1)
    assert slept == [180.0, 595.0]
    assert f"{clock[0]:%a %H:%M}" == "Sun 01:00"
    assert {p.note for p in told} == {"until 00:50 UTC", "until 01:00 UTC"}
    with pytest.raises(ObrinError, match="no window of quay-gw is long enough"):
        in_time(timedelta(hours=7), 0)


@pytest.mark.parametrize("seed", range(40))
def test_independent_parts_use_every_window(seed: int) -> None:
    """Each in its own order, what belongs together stays together, and nobody waits while somebody
    could go on."""
    draw, hour = random.Random(seed), timedelta(hours=1)
    parts = []
    for part in range(draw.randint(1, 5)):
        turns = [
            Turn(
                f"{part}",
                drawn_windows(draw, 2),
                interruption(draw.choice([0, 0, 1]), draw.choice([0, 0, 1])),
            )
            for _ in range(draw.randint(1, 4))
        ]
        steps = [Step(LEG, f"{part}", f"{number}") for number in range(len(turns))]
        parts.append(list(blocks(steps, turns)))
    found = woven(parts, MONDAY, hour)
    held = [block for part in parts for block in part]
    assert sorted(found) == sorted(step for block in held for step in block.steps)
    for part in parts:
        mine = [step for block in part for step in block.steps]
        assert [step for step in found if step in mine] == mine
    left, moment = [list(part) for part in parts], MONDAY
    while found:
        (part,) = (p for p in left if p and p[0].steps == tuple(found[: len(p[0].steps)]))
        slots = list(slots_of(part[0].turns, moment, hour))
        others = (next(slots_of(p[0].turns, moment, hour)) for p in left if p)
        assert slots[0].begin == min(slot.begin for slot in others)
        moment = slots[-1].end
        del found[: len(part[0].steps)], part[0]


def test_many_steps_that_interrupt_are_done_as_early_as_can_be() -> None:
    windows = (parse_window("sat 22:00-04:00"),)
    for count, early in ((MOST_TOGETHER, False), (MOST_TOGETHER + 1, True)):
        turns = [Turn("p", (), 1), *(Turn("q", windows, 1) for _ in range(count - 1))]
        slots = list(slots_of(turns, MONDAY, TEN))
        assert all(a.end <= b.begin for a, b in pairwise(slots))
        assert (slots[0].begin == MONDAY) is early


def test_without_windows_one_part_comes_after_the_other() -> None:
    parts, steps = [], []
    for part in range(3):
        mine = [Step(LEG, f"{part}", f"{number}") for number in range(4)]
        steps += mine
        parts.append(list(blocks(mine, [Turn(f"{part}", (), wrong) for wrong in (0, 1, 0, 2)])))
    assert [len(part) for part in parts] == [3, 3, 3]
    assert woven(parts, MONDAY, TEN) == steps


def test_a_window_too_short_for_a_step_is_not_waited_for() -> None:
    turn = Turn("p", (parse_window("mon 10:00-10:05"),), 0)
    other = Turn("q", (parse_window("mon 10:00-11:00"),), 0)
    parts = [list(blocks([Step(LEG, t.place)], [t])) for t in (other, turn)]
    assert [step.place for step in woven(parts, MONDAY, TEN)] == ["p", "q"]


def test_while_a_tunnel_is_down_only_its_other_end_is_changed() -> None:
    shop = "  - {from: pier/shop, to: apps/web, flow: tcp/80, must: work}\n"
    two = swap(("clouds:\n", SITE + "clouds:\n"), (WISHES, SITE_LINK + WISHES + shop))
    windows = "windows: {quay: 'fri 20:00-24:00', pier: 'fri 20:00-24:00'}\n"
    before, after = both_settled(two, two.replace(*TURNS["another suite"][0]) + windows)
    plan = make_plan(before, after, begins=MONDAY)
    times = schedule(plan, MONDAY, TEN)
    assert sum(planned.down for planned in plan.steps) >= 2
    for planned, following in pairwise(plan.steps):
        assert planned.down <= 1
        if planned.down:
            assert planned.step.leg == following.step.leg
            assert times.slot(following).begin == times.slot(planned).end


TURNS = {
    "another suite": [("bgp: {hold-time: 6 s}", "bgp: {hold-time: 6 s}\n    suite: common")],
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
    last = schedule(plan, MONDAY, TEN).slots[-1].end
    assert last - MONDAY < timedelta(days=7)
    unasked = make_plan(before, after)
    assert sorted(p.step.name for p in unasked.steps) == sorted(p.step.name for p in plan.steps)
    assert schedule(unasked, MONDAY, TEN).slots[-1].end >= last
    begun = [p.step.name for p in unasked.steps]
    kept = make_plan(before, after, begins=MONDAY, begun=begun)
    assert [p.step.name for p in kept.steps] == begun
    other = make_plan(before, after, begins=MONDAY, begun=begun[1:])
    assert [p.step.name for p in other.steps] == [p.step.name for p in plan.steps]
