"""Single hosts and parts of networks: in flows, in rules, and in what hosts let in."""

from __future__ import annotations

import pytest

from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.check.whole import check
from obrin.core.design.places import NetworkRef
from obrin.core.errors import DesignError, SettleError
from obrin.core.handover.pack import make_pack
from obrin.core.reach.filters import filter_of
from obrin.core.reach.matrix import matrix
from obrin.core.reach.model import ReachModel
from obrin.core.reach.paths import key_of
from obrin.core.reach.trace import probe_key, there_and_back
from tests.core.test_healthy import secrets_of
from tests.doubles import settled_of, swap

HTTPS = "{from: quay/desks, to: apps/web, flow: tcp/443, must: work}"
ONE = "{from: quay/desks/10.20.1.7, to: apps/web, flow: tcp/22, must: work}"
WITH_ONE = (HTTPS, f"{HTTPS}\n  - {ONE}")
SEEN = ("    networks: [desks]\n", "    networks: [desks]\n    seen-as: {desks: 10.99.0.0/22}\n")


def codes(settled) -> set[str]:
    return {f.code for f in check(settled, PRACTICE_CLOUD, secrets_of(settled))}


@pytest.mark.parametrize(
    "text",
    [
        "quay/desks",
        "quay/desks/10.20.1.7",
        "quay/desks/10.20.1.0/28",
        "quay",
        "quay/desks/10.20.0.0/22",
    ],
)
def test_a_reference_reads_back_as_it_was_written(text: str) -> None:
    assert str(NetworkRef.of(text)) == text


def test_a_part_is_covered_by_its_network_and_by_wider_parts_only() -> None:
    whole, part = NetworkRef.of("q/d"), NetworkRef.of("q/d/10.0.0.0/24")
    host, other = NetworkRef.of("q/d/10.0.0.9"), NetworkRef.of("q/e/10.0.0.9")
    assert whole.covers(part)
    assert part.covers(host)
    assert host.covers(host)
    assert not (part.covers(whole))
    assert not (host.covers(part))
    assert not (whole.covers(other))
    assert host.whole == whole


@pytest.mark.parametrize("changes", [(WITH_ONE,), (WITH_ONE, SEEN)])
def test_an_expectation_for_one_host_opens_for_that_host_alone(changes) -> None:
    settled = settled_of(swap(*changes))
    assert codes(settled) == {"one-gateway"}
    wish = settled.expectations[1]
    assert str(probe_key(settled, wish).source) == "10.20.1.7"
    there, back = there_and_back(ReachModel(settled), wish)
    assert there.arrived is not None
    assert back is not None
    assert back.arrived is not None
    known = "10.99.1.7/32" if SEEN in changes else "10.20.1.7/32"
    rules = {str(rule.source) for rule in filter_of(settled, "apps") if rule.flow == wish.flow}
    assert rules == {known}
    ends = NetworkRef("quay", "desks"), NetworkRef("apps", "web")
    cell = next(
        c for c in matrix(ReachModel(settled), closed=True) if (c.source, c.destination) == ends
    )
    assert cell.verdict == "as wished"
    assert "tcp/22" in cell.allowed
    neighbour = settled.network(ends[0]).address_at(11)
    key = key_of(settled, (ends[0], neighbour), (ends[1], None), wish.flow)
    assert "no rule lets" in there_and_back(ReachModel(settled), wish, key)[0].dropped


def test_a_rule_for_all_where_one_host_was_meant_is_wider() -> None:
    rules = ", ".join(
        f"{{allow: {flow}, from: quay/desks, to: apps/web}}"
        for flow in ("tcp/22", "tcp/443", "icmp")
    )
    text = swap(
        WITH_ONE,
        ("  apps:\n", f"  apps:\n    filters: [{rules}]\n"),
        ("      quay-gw:\n", f"      quay-gw:\n        filters: [{rules}]\n"),
    )
    found = check(settled := settled_of(text), PRACTICE_CLOUD, secrets_of(settled))
    wider = [f for f in found if f.code == "reach-wider"]
    assert len(wider) == 1
    assert "tcp/22 passes from quay/desks to apps/web" in wider[0].cause
    narrow = text.replace("allow: tcp/22, from: quay/desks,", "allow: tcp/22, from: 10.20.1.7,")
    assert "reach-wider" not in codes(settled_of(narrow))
    one_end = text.replace("allow: tcp/22, from: quay/desks,", "allow: tcp/22, from: 10.20.1.7,", 1)
    assert "reach-wider" not in codes(settled_of(one_end))


@pytest.mark.parametrize(
    ("change", "error", "words"),
    [
        (
            (HTTPS, HTTPS.replace("desks", "desks/10.20.9.9")),
            SettleError,
            "10.20.9.9 is not inside 10.20.0.0/22",
        ),
        ((HTTPS, HTTPS.replace("desks", "desks/10.20.0.x")), DesignError, "'x' is not a number"),
        ((HTTPS, HTTPS.replace("desks", "tables/10.20.0.9")), DesignError, "quay/tables"),
        (
            ("web: {hosts: 100}", "web: {hosts: 100, hosts-accept: [{allow: icmp, from: quai}]}"),
            DesignError,
            "Did you mean 'quay'",
        ),
        (
            (
                "web: {hosts: 100}",
                "web: {hosts: 100, hosts-accept: [{allow: icmp, from: quay/desks/9.9.9.9}]}",
            ),
            SettleError,
            "clouds.apps.subnets.web.hosts-accept.0.from: 9.9.9.9",
        ),
    ],
)
def test_a_part_that_is_none_is_refused_with_its_place(change, error, words: str) -> None:
    with pytest.raises(error) as raised:
        settled_of(swap(change))
    assert words in str(raised.value)


def accepting(*rules: str) -> str:
    return swap(
        WITH_ONE, ("web: {hosts: 100}", f"web: {{hosts: 100, hosts-accept: [{', '.join(rules)}]}}")
    )


FROM_ONE = "{allow: tcp/22, from: quay/desks/10.20.1.7}"


def test_a_host_lets_in_by_sender_too() -> None:
    settled = settled_of(accepting("tcp/443", "icmp", FROM_ONE))
    assert codes(settled) == {"one-gateway"}
    model = ReachModel(settled)
    ends = NetworkRef("quay", "desks"), NetworkRef("apps", "web")
    cell = next(c for c in matrix(model) if (c.source, c.destination) == ends)
    assert set(cell.allowed) == {"tcp/443", "icmp", "tcp/22"}
    assert not cell.broken
    sheet = str(make_pack(settled, "apps", secrets_of(settled)).sheet)
    assert "10.20.1.7/32" in sheet
    assert "hosts' own firewalls" in sheet


def test_a_host_that_lets_in_another_is_named_with_its_senders() -> None:
    settled = settled_of(accepting("tcp/443", "icmp", FROM_ONE.replace("1.7", "1.8")))
    found = [
        f
        for f in check(settled, PRACTICE_CLOUD, secrets_of(settled))
        if f.code == "expectation-unmet"
    ]
    assert len(found) == 1
    assert "lets in tcp/443, icmp, tcp/22 from quay/desks/10.20.1.8 only" in found[0].cause.replace(
        "let in", "lets in"
    )


def test_a_firewall_that_names_half_a_network_is_an_expectation_in_part() -> None:
    half = accepting("{allow: tcp/443, from: quay/desks/10.20.0.0/23}", "icmp", FROM_ONE)
    found = check(settled := settled_of(half), PRACTICE_CLOUD, secrets_of(settled))
    part = [f for f in found if f.code == "expectation-part"]
    assert len(part) == 1
    assert "not for 10.20.2.0/23 of quay/desks" in part[0].cause
