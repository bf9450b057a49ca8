"""From one design to another: records apart and together, states, and the order of steps."""

from __future__ import annotations

import itertools
import random
from collections import Counter
from collections.abc import Sequence

import pytest
import yaml

from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.change.as_design import state
from obrin.core.change.carrying import designed
from obrin.core.change.groups import Groups, joined_sites
from obrin.core.change.lines import ADDED, CHANGED, inverse, one_by_one
from obrin.core.change.loads import Loads
from obrin.core.change.order import STEP_SECONDS, best_order, cost_of
from obrin.core.change.outlook import ROUTED_APART, TRANSLATED_APART, Outlook, Outlooks
from obrin.core.change.place_parts import both_rules, parts_of, put_together, taken_apart
from obrin.core.change.plan import make_plan
from obrin.core.change.runbook import runbooks
from obrin.core.change.states import BOTH, CLEAR, LEG, NEW, NONE, OLD, READY, Between, Step
from obrin.core.drill.load import uses
from obrin.core.handover.configured import device_config
from obrin.core.handover.pack import gateways_of
from obrin.core.handover.standard.device import encode
from tests.doubles import settled_of, swap
from tests.live.buildable import Drawn
from tests.live.changes import both_settled, loaded, mutated

A = settled_of()
STATIC = swap(("bgp: {hold-time: 6 s}", "routing: static"))
ONE = swap(("      b: {gateway: quay-gw, uplink: radio, instance: 2}\n", ""))


def in_order(data: object) -> object:
    """Lists by their text, since their order says nothing here."""
    if isinstance(data, dict):
        return {key: in_order(value) for key, value in data.items() if key not in ("index", "id")}
    if isinstance(data, list):
        return sorted((in_order(value) for value in data), key=repr)
    return data


@pytest.mark.parametrize("seed", range(40))
def test_what_is_taken_apart_is_put_together_the_same(seed: int) -> None:
    settled = settled_of(Drawn(seed).text)
    for place in gateways_of(settled):
        config = device_config(settled, place)
        assert in_order(encode(put_together(taken_apart(config)))) == in_order(encode(config))


def test_two_lists_of_rules_are_one_with_names_of_its_own() -> None:
    old, new = (
        parts_of(A, "quay-gw").rules,
        parts_of(settled_of(swap(("tcp/443", "tcp/636"))), "quay-gw").rules,
    )
    both = both_rules(old, new)
    assert len({rule.name for rule in both}) == len(both)
    assert {str(rule.flow) for rule in both} >= {"tcp/443", "tcp/636", "icmp"}
    assert both_rules(new, new) == new


def test_nothing_is_done_where_nothing_is_entered() -> None:
    assert Between(A, A).steps == []
    assert make_plan(A, settled_of(swap(("name: test", "name: other")))).steps == ()


def test_a_tunnel_on_its_way_carries_nothing_or_what_both_have() -> None:
    between = Between(A, settled_of(STATIC))
    cloud, site = Step(LEG, "apps", "quay-apps/a"), Step(LEG, "quay-gw", "quay-apps/a")
    versions = [
        between.version("quay-apps/a", frozenset(d)) for d in ((), (cloud,), (site,), (cloud, site))
    ]
    assert versions == [OLD, NONE, NONE, NEW]
    wider = Between(A, settled_of(swap(("networks: [desks]", "networks: [desks, guests]"))))
    assert wider.version("quay-apps/a", frozenset({cloud})) == BOTH
    exposures = state(wider, frozenset({cloud})).links["quay-apps (both)"].exposures
    assert {part.network for part in exposures} == {"desks"}


def kinds(before: str, after: str) -> list[tuple[str, str]]:
    plan = make_plan(*both_settled(before, after))
    assert not plan.loses()
    return [(p.step.kind, p.step.place) for p in plan.steps]


def test_what_is_new_comes_before_it_is_used_and_what_is_old_goes_after() -> None:
    more = swap(("subnets: {web: {hosts: 100}}", "subnets: {web: {hosts: 100}, more: {hosts: 9}}"))
    assert kinds(swap(), more) == [(READY, "apps")]
    assert kinds(more, swap()) == [(CLEAR, "apps")]
    service = swap(("tcp/443, must: work}", "tcp/636, must: work}"))
    assert kinds(swap(), service) == [
        (READY, "apps"), (READY, "quay-gw"), (CLEAR, "quay-gw"), (CLEAR, "apps"),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("before", "after", "lost"),
    [
        (swap(), STATIC, False),
        (STATIC, swap(), False),
        (swap(), ONE, False),
        (ONE, swap(), False),
        (ONE, swap(("bgp: {hold-time: 6 s}", "routing: static"), text=ONE), True),
        (
            swap(),
            swap(
                ("networks: [desks]\n", "networks: [desks]\n    seen-as: {desks: 10.99.0.0/22}\n")
            ),
            True,
        ),
        (swap(), swap(("networks: [desks]\n", "networks: [desks]\n    suite: common\n")), False),
        (
            ONE,
            swap(("networks: [desks]\n", "networks: [desks]\n    suite: common\n"), text=ONE),
            True,
        ),
        (swap(), swap(("      quay-gw:\n", "      quay-gw:\n        as: 65010\n")), False),
    ],
)
def test_with_a_second_tunnel_nothing_is_lost_but_where_it_cannot_be_helped(
    before, after, lost
) -> None:
    plan = make_plan(*both_settled(before, after))
    assert plan.loses() is lost
    assert plan.steps[-1].lost == ()


def test_reasons_for_which_nothing_is_promised() -> None:
    both = swap(("bgp: {hold-time: 6 s}", "routing: static\n    suite: common"))
    reasons = {why for p in make_plan(*both_settled(swap(), both)).steps for _, why in p.lost}
    assert reasons == {ROUTED_APART}
    seen = swap(("networks: [desks]\n", "networks: [desks]\n    seen-as: {desks: 10.99.0.0/22}\n"))
    reasons = {why for p in make_plan(*both_settled(swap(), seen)).steps for _, why in p.lost}
    assert TRANSLATED_APART in reasons


def pairs(seeds: Sequence[int], *, loads: bool = False) -> list[Outlooks]:
    found = []
    for seed in seeds:
        drawn = Drawn(seed)
        other, _ = mutated(drawn.data, random.Random(seed))
        both = [loaded(d) if loads else d for d in (drawn.data, other)]
        texts = [yaml.safe_dump(d, sort_keys=False) for d in both]
        found.append(Outlooks(Between(*both_settled(*texts))))
    return found


def least(looks: Outlooks) -> float:
    """Over all orders of all steps, ends of a tunnel apart too: the least that any loses. Of a set
    of steps it matters how it came about only by what was lost on the way."""
    steps = looks.between.steps
    best = {frozenset(): 0.0}
    for _ in steps:
        now: dict[frozenset, float] = {}
        for done, lost in best.items():
            for step in steps:
                if step in done:
                    continue
                have = done | {step}
                more = STEP_SECONDS * looks.wrong(have) if len(have) < len(steps) else 0.0
                more += sum(each.seconds for each in looks.breaks(step, done))
                now[have] = min(now.get(have, float("inf")), lost + more)
        best = now
    return next(iter(best.values()))


@pytest.mark.parametrize("seeds", [range(10), pytest.param(range(10, 60), marks=pytest.mark.long)])
def test_no_order_of_all_steps_loses_less(seeds: range) -> None:
    tried = 0
    for looks in pairs(seeds):
        if 2 <= len(looks.between.steps) <= 9:
            tried += 1
            assert cost_of(
                looks, best_order(Groups(looks.between.before, looks.between.after))
            ).lost == least(looks)
    assert tried > len(seeds) / 3


def cheapest(looks: Outlooks) -> float:
    """The same for all that an order costs: a step costs by what it comes from and what it makes."""
    steps = looks.between.steps
    best = {frozenset[Step](): 0.0}
    for left in range(len(steps) - 1, -1, -1):
        now: dict[frozenset[Step], float] = {}
        for done, paid in best.items():
            for step in (s for s in steps if s not in done):
                old, new = looks.of(done), looks.of(done | {step})
                price = 0.01 * sum(old.works.get(f, way) != way for f, way in new.works.items())
                price += sum(each.seconds for each in looks.breaks(step, done))
                if left:
                    price += 60 * looks.wrong(done | {step})
                    price += 0.6 * len(new.full - looks.of(frozenset()).full) + 0.001 * new.down
                have = done | {step}
                now[have] = min(now.get(have, float("inf")), paid + price)
        best = now
    return next(iter(best.values()))


@pytest.mark.parametrize(
    "seeds", [(*range(20), 52), pytest.param(range(20, 160), marks=pytest.mark.long)]
)
def test_no_order_of_what_is_loaded_costs_less(seeds: Sequence[int]) -> None:
    """What gets too much counts, and never as much as a flow that is lost."""
    tried = full = 0
    for looks in pairs(seeds, loads=True):
        if 2 <= len(looks.between.steps) <= 8:
            tried += 1
            found = cost_of(looks, best_order(Groups(looks.between.before, looks.between.after)))
            full += found.full > 0
            assert found.lost == least(looks)
            assert found.total == pytest.approx(cheapest(looks))
    assert tried > len(seeds) / 7
    assert full > 0


@pytest.mark.parametrize(
    "seeds", [(*range(10), 42), pytest.param(range(200, 320), marks=pytest.mark.long)]
)
def test_states_that_are_looked_at_once_are_alike(seeds: Sequence[int]) -> None:
    """A state that was looked at stands for all with its key: each is looked at by itself here."""
    shared = 0
    for seed, looks in zip(seeds, pairs(seeds), strict=True):
        steps, rng = looks.between.steps, random.Random(seed)
        states = [frozenset(step for step in steps if rng.random() < 0.6) for _ in range(40)]
        seen: dict[object, Outlook] = {}
        for done in states:
            alone = Outlooks(looks.between).of(done)
            key = looks.between.key_of(done)
            shared += key in seen
            assert seen.setdefault(key, alone) == alone
    assert shared > len(seeds)


def test_the_least_is_that_of_every_permutation() -> None:
    looks = Outlooks(
        Between(*both_settled(ONE, swap(("bgp: {hold-time: 6 s}", "routing: static"))))
    )
    orders = itertools.permutations(looks.between.steps)
    assert len(looks.between.steps) <= 7
    assert min(cost_of(looks, order).lost for order in orders) == least(looks)


def turns(order) -> int:
    """How often tunnels are gone on with at another place."""
    places = [step.place for step in order if step.kind == LEG]
    return sum(1 for one, other in itertools.pairwise(places) if one != other)


@pytest.mark.parametrize("seed", range(400, 440))
def test_of_orders_that_cost_the_same_nobody_has_to_come_back_without_need(seed: int) -> None:
    drawn = Drawn(seed)
    other, _ = mutated(drawn.data, random.Random(seed))
    looks = Outlooks(Between(*both_settled(drawn.text, yaml.safe_dump(other, sort_keys=False))))
    steps = looks.between.steps
    if len(steps) > 6 or len(joined_sites(looks.between.before, looks.between.after)) > 1:
        return
    found = best_order(Groups(looks.between.before, looks.between.after))
    orders = list(itertools.permutations(steps))
    costs = [cost_of(looks, order).total for order in orders]
    cheapest = pytest.approx(min(costs))
    assert cost_of(looks, found).total == cheapest
    alike = [order for order, cost in zip(orders, costs, strict=True) if cost == cheapest]
    assert turns(found) == min(map(turns, alike))


def test_a_plan_is_the_same_every_time_and_a_runbook_has_every_value() -> None:
    before, after = both_settled(swap(), STATIC)
    plan, again = make_plan(before, after), make_plan(before, after)
    assert plan == again
    books = runbooks(plan)
    assert set(books) == {
        f"{name}{way}.{kind}"
        for name in ("cloud-apps", "site-quay")
        for way in ("", "-back")
        for kind in ("md", "html")
    }
    values = [line for p in plan.steps if p.owner == "site quay" for line in p.lines]
    assert len(values) > 10
    for line in values:
        assert all(
            cell in books["site-quay.md"]
            for cell in (*line.before, *line.after, line.row.split()[0])
        )
        assert line.value
    assert any(line.what == CHANGED for line in values)
    lossy = runbooks(
        make_plan(*both_settled(ONE, swap(("bgp: {hold-time: 6 s}", "routing: static"), text=ONE)))
    )
    assert "Lost from here until step 2" in lossy["cloud-apps.md"]


def test_a_tunnel_that_comes_is_listed_value_by_value_and_one_that_goes_is_one_line() -> None:
    two = both_settled(ONE, swap())
    (come,) = [p for p in make_plan(*two).steps if p.step.place == "quay-gw" and p.step.kind == LEG]
    listed = list(one_by_one(come.lines))
    assert len(listed) > 30
    assert {line.what for line in listed} == {ADDED}
    assert all(line.value for line in listed)
    back = inverse(come.lines)
    assert [line.row for line in one_by_one(back) if not line.head] == ["all of it"]
    assert sorted(map(str, one_by_one(inverse(back)))) == sorted(map(str, listed))


def test_what_is_lost_is_lost_for_as_many_steps_as_go_by() -> None:
    plan = make_plan(
        *both_settled(ONE, swap(("bgp: {hold-time: 6 s}", "routing: static"), text=ONE))
    )
    for flow, count in plan.lost_steps().items():
        assert count == sum(flow in (lost for lost, _ in p.lost) for p in plan.steps) > 0
    assert plan.lost_steps()
    assert make_plan(*both_settled(swap(), STATIC)).lost_steps() == {}


def test_a_link_to_a_cloud_of_somebody_else_waits_until_it_is_accepted() -> None:
    owned = (
        "clouds:\n",
        "clouds:\n  other:\n    owner: the office\n    accepted: 2026-10-05\n"
        "    subnets: {db: {hosts: 9}}\n",
    )
    link = (
        "expectations:\n",
        "  quay-other:\n    site: quay\n    cloud: other\n    networks: [desks]\n    tunnels:\n"
        "      c: {gateway: quay-gw, uplink: fibre, instance: 1}\nexpectations:\n",
    )
    none, one = swap(owned), swap(owned, link)
    again = swap(("2026-10-05", "2026-11-05"), text=one)
    plan = make_plan(*both_settled(none, one))
    waited = {(p.step.leg, p.step.place): p.waits for p in plan.steps if p.waits}
    assert waited == {("quay-other/c", "other"): ("the office accepts link quay-other of quay",)}
    assert "the office accepts" in "".join(runbooks(plan).values())
    for before, after in ((one, one), (none, again), (one, none), (one, again)):
        assert not any(p.waits for p in make_plan(*both_settled(before, after)).steps)


def test_a_gateway_of_a_cloud_that_goes_gives_its_addresses_back() -> None:
    two = swap(
        ("clouds:\n", "clouds:\n  other:\n    subnets: {db: {hosts: 9}}\n"),
        ("expectations:\n", "  quay-other:\n    site: quay\n    cloud: other\n    networks: [desks]\n    tunnels:\n"
         "      c: {gateway: quay-gw, uplink: fibre, instance: 1}\nexpectations:\n"),
    )  # fmt: skip
    plan = make_plan(*both_settled(two, swap()))
    assert not plan.loses()
    assert [p.step.place for p in plan.steps if p.for_good] == ["other"]
    assert [p.step.place for p in plan.steps][-1] == "other"


@pytest.mark.parametrize("seed", range(25))
def test_what_groups_carry_is_what_the_whole_carries(seed: int) -> None:
    drawn = Drawn(seed)
    other, _ = mutated(drawn.data, random.Random(seed))
    texts = [yaml.safe_dump(loaded(d), sort_keys=False) for d in (drawn.data, other)]
    groups = Groups(*both_settled(*texts))
    whole, done = Outlooks(groups.between), frozenset[Step]()
    loads = Loads(groups, PRACTICE_CLOUD)
    for step in (None, *best_order(groups)):
        if step is not None:
            done |= {step}
            for group in groups.by_step.get(step, ()):
                group.done = group.after(step)
            loads.follow(groups.by_step.get(step, ()))
        now = state(groups.between, done)
        said = Counter[str]()
        for use in uses(now, PRACTICE_CLOUD, whole.of(done).carried):
            kind, _, name = use.name.partition(" ")
            said[f"{kind} {designed(now, name)}"] += use.rate
        assert loads.now() == pytest.approx(dict(said))


def test_what_gets_too_much_meanwhile_is_reported() -> None:
    narrow = (
        ("provider: two}", "provider: two, rate: 10 Mbit/s}"),
        ("flow: tcp/443, must: work", "flow: tcp/443, load: 20 Mbit/s, must: work"),
    )
    suite = ("bgp: {hold-time: 6 s}", "bgp: {hold-time: 6 s}\n    suite: common")
    plan = make_plan(*both_settled(swap(*narrow), swap(*narrow, suite)))
    assert not plan.loses()
    told = [p.too_much for p in plan.steps]
    assert ("uplink quay-gw/radio gets 20 Mbit/s, it carries 10",) in told
    assert told[-1] == ()
    assert "at the busiest hour: uplink quay-gw/radio" in "".join(runbooks(plan).values())
    enough = swap(*narrow).replace("10 Mbit/s", "30 Mbit/s")
    plan = make_plan(*both_settled(enough, swap(suite, text=enough)))
    assert not any(p.too_much for p in plan.steps)


def test_a_tunnel_that_starts_for_traffic_alone_is_reported() -> None:
    asleep = swap(
        ("bgp: {hold-time: 6 s}", "routing: static"),
        ("      quay-gw:\n", "      quay-gw:\n        profile: waits\n"),
        ("\nclouds:\n", "\nprofiles:\n  waits: {initiates: false}\nclouds:\n"),
    )
    common = swap(("routing: static", "routing: static\n    suite: common"), text=asleep)
    looks = [p.look for p in make_plan(*both_settled(asleep, common)).steps]
    assert any("loses the first packets" in look for look in looks)
    awake = [swap(("initiates: false", "initiates: true"), text=t) for t in (asleep, common)]
    looks = [p.look for p in make_plan(*both_settled(*awake)).steps]
    assert not any("loses the first packets" in look for look in looks)


@pytest.mark.parametrize("first", range(200, 260, 10))
def test_a_plan_of_any_change_has_every_step_once(first: int) -> None:
    for seed in range(first, first + 10):
        drawn = Drawn(seed)
        other, what = mutated(drawn.data, random.Random(seed))
        before, after = both_settled(drawn.text, yaml.safe_dump(other, sort_keys=False))
        plan, between = make_plan(before, after), Between(before, after)
        assert sorted(p.step.name for p in plan.steps) == sorted(s.name for s in between.steps)
        assert [p.number for p in plan.steps] == list(range(1, len(plan.steps) + 1)), what
        assert set(plan.lost_steps()) <= set(plan.flows)
        assert bool(runbooks(plan)) is bool(plan.steps)


def test_a_large_site_is_ordered_by_rank() -> None:
    """More steps than are searched whole, and nothing is lost for all that."""
    tunnels = [
        f"      t{n}: {{gateway: box-{n // 2}, uplink: {'ab'[n % 2]}, instance: {1 + n % 2}}}\n"
        for n in range(8)
    ]
    boxes = [
        f"      box-{n}:\n        uplinks:\n"
        + "".join(f"          {u}: {{address: 192.0.{2 if u == 'a' else 3}.{n + 1}, provider: {u}}}\n" for u in "ab")
        for n in range(4)
    ]  # fmt: skip
    text = swap(
        ("      quay-gw:\n        uplinks:\n          fibre: {address: 192.0.2.10, provider: one}\n"
         "          radio: {address: 198.51.100.20, provider: two}\n", "".join(boxes)),
        ("      a: {gateway: quay-gw, uplink: fibre, instance: 1}\n"
         "      b: {gateway: quay-gw, uplink: radio, instance: 2}\n", "".join(tunnels)),
        ("quay/guests, to: apps/web, flow: tcp/443, must: not", "quay/guests, to: apps/web, flow: tcp/22, must: not"),
    )  # fmt: skip
    common = swap(("bgp: {hold-time: 6 s}", "bgp: {hold-time: 6 s}\n    suite: common"), text=text)
    plan = make_plan(*both_settled(text, common))
    assert len(plan.steps) > 12
    assert not plan.loses()
    ends = [p.step.leg for p in plan.steps if p.step.kind == LEG]
    assert all(ends[n] == ends[n + 1] for n in range(0, len(ends), 2))
