"""Questions about the address space: owners, clashes, free room, what-if, remedies, explanations."""

from __future__ import annotations

import itertools

import pytest
import yaml

from obrin.core.address.prefix import parse_prefix
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.check.space.cures import merged
from obrin.core.check.whole import check
from obrin.core.design.places import NetworkRef
from obrin.core.errors import ObrinError
from obrin.core.handover.secrets import Secrets
from obrin.core.settle.explain import explain
from obrin.core.settle.settle import settle
from obrin.core.settled.building import build_settled
from obrin.core.space.announce import announcements
from obrin.core.space.chart import KEPT, OVERLAP, USED, Lane, Part, cells, chart
from obrin.core.space.pools import free_of_length, overlapping, pool_named, pool_uses
from obrin.core.space.remedies import remedies
from obrin.core.space.renumber import renumber_plan
from obrin.core.space.view import space_view
from obrin.core.space.whatif import AddedWish, outlook
from obrin.core.space.why import chosen_from, excluded_by
from tests.core.test_settle_spaces import plan
from tests.doubles import design_of, swap

P = parse_prefix
BUSY = swap(
    ("obrin: 1", "obrin: 1\nelsewhere: {partner: {prefix: 10.64.0.0/16, owner: Bay Freight}}"),
    ("  apps:\n", "  apps:\n    region: east\n"),
)
SWALLOWED = swap(
    (
        "    subnets: {web: {hosts: 100}}",
        "    space: 10.20.0.0/20\n    subnets: {web: {prefix: 10.20.12.0/24}}",
    )
)


def view_of(text: str):
    design = design_of(text)
    choices = settle(design, {}, PRACTICE_CLOUD)
    settled = build_settled(design, choices)
    return settled, choices, space_view(settled, choices, PRACTICE_CLOUD)


def test_who_has_an_address_the_smallest_range_first() -> None:
    settled, _, view = view_of(BUSY)
    found = view.above(P("10.20.1.7/32"))
    assert [(e.kind, e.owner) for e in found] == [("network", "quay/desks")]
    web = settled.clouds["apps"].subnets["web"].prefix.ipv4
    kinds = [e.kind for e in view.above(P(f"{web.address(3)}/32"))]
    assert kinds == ["subnet", "cloud space", "region"]
    assert [e.note for e in view.above(P("10.64.1.0/24"))] == ["Bay Freight"]
    assert view.above(P("172.20.0.0/16")) == []
    inside = view.inside(P("10.20.0.0/16"))
    assert [e.owner for e in inside] == ["quay/desks", "quay/guests"]


@pytest.mark.parametrize(
    ("proposed", "owners"),
    [
        ("10.20.2.0/24", ["quay/desks"]),
        ("10.0.0.0/8", ["apps", "partner", "quay/desks", "quay/guests"]),
        ("10.20.9.0/24", []),
        ("192.168.0.0/16", []),
        ("224.0.0.0/24", [""]),
    ],
)
def test_what_a_proposed_prefix_collides_with(proposed: str, owners: list[str]) -> None:
    _, _, view = view_of(BUSY)
    found = {e.owner for e in view.clashes(P(proposed)) if e.kind != "stands for"}
    assert found == set(owners)


def test_pools_tell_what_is_used_and_what_is_free() -> None:
    settled, _, view = view_of(BUSY)
    use = pool_named(pool_uses(settled, view), "10.64.0.0/10")
    space = settled.clouds["apps"].spaces.ipv4[0]
    assert use.used == P("10.64.0.0/16").size + space.size
    blocks = free_of_length(use, 16, 3)
    assert len(blocks) == 3
    assert not any(b.overlaps(u) for b in blocks for u in (space, P("10.64.0.0/16")))
    assert use.free.slots(16) == 62
    with pytest.raises(ObrinError, match="There are: "):
        pool_named([use], "nothing")


def test_announcements_are_exact_and_name_what_is_kept() -> None:
    regions = {"a": "north", "b": "north", "c": "south"}
    _, _, view = view_of(plan("10.0.0.0/16", {n: [24, 25] for n in regions}, regions=regions))
    found = {(a.kind, a.name): a for a in announcements(view)}
    north = found["region", "north"]
    networks = [e.prefix for e in view.of_kind("network") if e.region == "north"]
    assert sum(p.size for p in north.exact) == sum(p.size for p in networks)
    assert all(any(a.covers(p) for a in north.exact) for p in networks)
    assert len(north.held) == 1
    assert all(north.held[0].covers(p) for p in networks)
    assert len(found["site", "c"].held) == 1


def test_outlook_places_every_year_and_says_when_it_ends() -> None:
    settled, _, view = view_of(plan("10.0.0.0/22", {"a": [24]}))
    use = pool_named(pool_uses(settled, view), "p")
    years = outlook(use, [AddedWish("kiosk", 50, 6)], 1.5, 3)
    assert [bool(y.short) for y in years] == [False, False, False, True]
    assert years[3].short == "no /24 for kiosk; nothing is free"
    for year in years[:3]:
        blocks = [p for _, p in year.placed]
        assert len(blocks) == 6
        assert not any(
            a.overlaps(b)
            for a, b in itertools.combinations([*blocks, *use.taken], 2)
            if a in blocks
        )


def errors_of(text: str) -> list[str]:
    design = design_of(text)
    settled = build_settled(design, settle(design, {}, PRACTICE_CLOUD))
    return [f.code for f in check(settled, PRACTICE_CLOUD, Secrets()) if "overlap" in f.code]


def test_remedies_stand_side_by_side_and_the_translation_they_propose_cures() -> None:
    settled, _, view = view_of(SWALLOWED)
    (outer, inner), *_ = list(overlapping(view))
    found = {r.name: r for r in remedies(settled, view, outer, inner)}
    assert set(found) == {"another-range", "renumber", "translate", "some-hosts"}
    assert "space-overlap" in errors_of(SWALLOWED)
    rest = "guests"
    assert yaml.safe_load("\n".join(found["translate"].lines)) == found["translate"].change
    cured = yaml.safe_dump(merged(yaml.safe_load(SWALLOWED), found["translate"].change))
    assert f"quay/{rest}" not in str(errors_of(cured))
    assert {r.place for r in found["translate"].rules} == {"quay", "apps"}
    assert not any(
        a.seen.overlaps(b.seen) for a, b in itertools.combinations(found["translate"].rules, 2)
    )
    assert found["translate"].breaks
    another = next(r for r in remedies(settled, view, outer, inner) if "apps" in r.title)
    assert errors_of(yaml.safe_dump(merged(yaml.safe_load(SWALLOWED), another.change))) == []


def test_translation_on_both_sides_is_no_overlap_any_more() -> None:
    base = swap(("guests: 10.20.8.0/24", "guests: 10.30.8.0/24"), text=SWALLOWED)
    assert errors_of(base) == ["space-overlap"]
    both = base.replace(
        "    networks: [desks]\n",
        "    networks: [desks]\n    seen-as: {desks: }\n    cloud-seen-as:\n",
    )
    assert errors_of(both) == []
    one = base.replace("    networks: [desks]\n", "    networks: [desks]\n    seen-as: {desks: }\n")
    assert errors_of(one) == ["space-overlap"]
    bad = base.replace(
        "    networks: [desks]\n",
        "    networks: [desks]\n    seen-as: {desks: 10.20.0.0/22}\n    cloud-seen-as: 10.30.0.0/20\n",
    )
    assert "translation-overlap" in errors_of(bad)


def test_some_hosts_of_an_overlap_are_a_warning_where_nobody_else_has_their_addresses() -> None:
    base = SWALLOWED.replace("guests: 10.20.8.0/24", "guests: 10.30.8.0/24")
    only = "    networks: [desks]\n    only: {desks: 10.20.1.16/28}\n"
    good = base.replace("    networks: [desks]\n", only)
    bad = good.replace("prefix: 10.20.12.0/24", "prefix: 10.20.1.0/24")
    for text, severity in ((base, "error"), (good, "warning"), (bad, "error")):
        design = design_of(text)
        settled = build_settled(design, settle(design, {}, PRACTICE_CLOUD))
        (finding,) = [
            f for f in check(settled, PRACTICE_CLOUD, Secrets()) if f.code == "space-overlap"
        ]
        assert finding.severity.label == severity


def test_two_sites_with_one_range_are_kept_apart_by_translating_one() -> None:
    pier = (
        "  pier:\n    networks: {lan: 10.20.0.0/22}\n    gateways: {pier-gw: {uplinks: {x: "
        "{address: 192.0.2.90}}}}\nclouds:\n"
    )
    link = "  pier-apps:\n    site: pier\n    cloud: apps\n    tunnels: {a: {gateway: pier-gw, uplink: x}}\n"
    text = swap(("clouds:\n", pier), ("expectations:", f"{link}expectations:"))
    assert errors_of(text) == ["space-overlap"]
    assert (
        errors_of(
            text.replace(
                "    cloud: apps\n    tunnels: {a",
                "    cloud: apps\n    seen-as: {lan: }\n    tunnels: {a",
            )
        )
        == []
    )
    apart = text.replace(link, "")
    design = design_of(apart)
    settled = build_settled(design, settle(design, {}, PRACTICE_CLOUD))
    (finding,) = [f for f in check(settled, PRACTICE_CLOUD, Secrets()) if f.code == "space-overlap"]
    assert finding.severity.label == "warning"


def test_renumbering_keeps_the_old_range_up_until_nothing_uses_it() -> None:
    settled, _, view = view_of(BUSY)
    steps = renumber_plan(settled, view, NetworkRef.of("quay/desks"), P("10.40.0.0/22"))
    words = [s.what for s in steps.steps]
    order = [
        next(i for i, w in enumerate(words) if key in w)
        for key in (
            "announce 10.40.0.0/22",
            "Move clients",
            "Move servers",
            "Watch",
            "Withdraw 10.20.0.0/22",
        )
    ]
    assert order == sorted(order)
    assert all("10.20.0.0/22" in s.up for s in steps.steps[: order[-1]])
    pairs = list(steps.addresses())
    assert len(pairs) == 1024
    assert pairs[5] == ("10.20.0.5", "10.40.0.5")
    for target, words_ in (("10.64.0.0/22", "collides with"), ("10.40.0.0/24", "does not hold")):
        with pytest.raises(ObrinError, match=words_):
            renumber_plan(settled, view, NetworkRef.of("quay/desks"), P(target))
    with pytest.raises(ObrinError, match="no site network 'quay/nothing'"):
        renumber_plan(settled, view, NetworkRef.of("quay/nothing"), None)


@pytest.mark.parametrize(
    ("key", "candidate", "verdict"),
    [
        ("clouds.apps.space", "10.64.0.0", "used by 10.64.0.0/16 of partner (elsewhere)"),
        ("clouds.apps.gateway.class", "punt", "runs 1 instance, 2 are asked"),
        ("clouds.apps.gateway.subnet", "10.65", "used by"),
        ("links.quay-apps.suite", "high", ""),
        (
            "links.quay-apps.tunnels.a.inside",
            "169.254.0.0/30",
            "169.254.0.0/24 of the cloud, which keeps it",
        ),
        (
            "links.quay-apps.tunnels.b.inside",
            "169.254.1.0/30",
            "used by 169.254.1.0/30 of inside quay-apps/a",
        ),
        ("sites.quay.gateways.quay-gw.as", "64512", "has cloud apps"),
    ],
)
def test_an_explanation_names_what_excluded_the_others(
    key: str, candidate: str, verdict: str
) -> None:
    settled, choices, view = view_of(BUSY)
    found = explain(
        design_of(BUSY),
        PRACTICE_CLOUD,
        choices,
        key,
        chosen_from(settled, choices, key),
        lambda prefix: excluded_by(view, key, prefix),
    )
    assert found.value == str(choices[key].value)
    assert any(c.value.startswith(candidate) and verdict in c.excluded for c in found.candidates), (
        found
    )
    assert any(c.value == found.value and not c.excluded for c in found.candidates)
    assert found.decided


def test_cells_show_each_state_where_it_is() -> None:
    parts = (
        Part(P("10.0.0.0/26"), "a", USED),
        Part(P("10.0.0.64/27"), "b", KEPT),
        Part(P("10.0.0.128/25"), "c", OVERLAP),
    )
    lane = Lane("site", "x", "", (P("10.0.0.0/24"),), parts)
    assert cells(lane, 8) == [USED, USED, KEPT, "", OVERLAP, OVERLAP, OVERLAP, OVERLAP]
    assert (
        cells(Lane("site", "x", "", (P("10.0.0.0/24"),), (Part(P("10.0.0.0/30"), "a", USED),)), 2)[
            0
        ]
        == "partly"
    )
    assert lane.share == pytest.approx(0.75)
    six = Lane("cloud", "x", "", (P("fd00::/48"),), (Part(P("fd00::/49"), "a", USED),))
    assert cells(six, 4) == [USED, USED, "", ""]


def test_the_chart_marks_what_others_use_of_a_range() -> None:
    settled, _, view = view_of(SWALLOWED)
    made = chart(settled, view, tuple(overlapping(view)))
    lane = next(h for h in made.holders if h.title == "apps")
    assert [(p.label, p.state) for p in lane.parts if p.state == OVERLAP] == [
        ("quay/desks", OVERLAP),
        ("quay/guests", OVERLAP),
    ]
    assert len(made.overlaps) == 2
    assert {p.title for p in made.pools} == {"inside tunnels", "for sites and clouds"}


BUSY_SITE = swap(
    ("networks: {desks: 10.20.0.0/22, guests: 10.20.8.0/24}",
     "space: 10.20.0.0/16\n    networks: {desks: 10.20.0.0/22, guests: 10.20.8.0/24, more: {hosts: 9}}"),
    ("    networks: [desks]\n", "    networks: [desks]\n    seen-as: {desks: }\n"),
    ("name: test", "name: test\npools: {mine: {prefixes: 10.77.0.0/16, for: clouds}}"),
)  # fmt: skip


@pytest.mark.parametrize(
    ("key", "among"),
    [
        ("clouds.apps.space", "10.77.0.0/16"),
        ("clouds.apps.subnets.web.prefix", "10.77."),
        ("clouds.apps.gateway.subnet", "10.77."),
        ("sites.quay.networks.more.prefix", "10.20.0.0/16"),
        ("links.quay-apps.seen-as.desks", ""),
        ("links.quay-apps.tunnels.a.inside", "169.254.0.0/16"),
        ("clouds.apps.gateway.class", ""),
    ],
)
def test_every_choice_says_what_it_was_chosen_from(key: str, among: str) -> None:
    settled, choices, _view = view_of(BUSY_SITE)
    found = chosen_from(settled, choices, key)
    if key.endswith("class"):
        assert found == []
        return
    value = P(choices[key].value[0] if isinstance(choices[key].value, list) else choices[key].value)
    assert any(prefix.covers(value) for prefix in found)
    assert any(str(prefix).startswith(among) for prefix in found)


FULL = "elsewhere: {{{}}}\n".format(
    ", ".join(
        f"e{n}: '{text}'"
        for n, text in enumerate(("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16"))
    )
)


def ways_out(text: str) -> dict[str, str]:
    """For the first overlap: each way out, with what is in the way of it."""
    settled, _, view = view_of(text)
    one, other = next(pair for pair in overlapping(view) if "pool" not in {e.kind for e in pair})
    found = remedies(settled, view, one, other)
    assert all(r.lines or r.impossible for r in found)
    return {r.name: r.impossible for r in found}


def test_ways_out_of_an_overlap_say_what_is_in_their_way() -> None:
    beside = swap(("name: test", "name: test\nelsewhere: {old: 10.20.0.0/16}"))
    found = ways_out(beside)
    assert "no link of this design joins" in found["translate"]
    assert "neither is a site's network" in found["some-hosts"]
    assert found["another-range"] == found["renumber"] == ""
    given = swap(("    subnets: {web", "    space: 10.77.0.0/20\n    subnets: {web"))
    full = ways_out(given + FULL)
    assert "is left in private space" in full["another-range"]
    assert "is left in private space" in full["renumber"]
