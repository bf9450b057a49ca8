"""How two ends fail to agree: each stage of both versions of IKE, with what the peer answers."""

from __future__ import annotations

from dataclasses import replace

import pytest

from obrin.core.address.prefix import parse_prefix
from obrin.core.ipsec.agreement import predict
from obrin.core.ipsec.ends import AUTH_FAILED, NO_PROPOSAL, SELECTORS_APART, End, Step
from obrin.core.ipsec.selectors import ANY_IPV4, Selector, narrow
from obrin.core.ipsec.suite import SHIPPED, Suite, make_suite

DESKS, WEB = (Selector.of(parse_prefix(text)) for text in ("10.20.0.0/22", "10.64.0.0/24"))
HALF = Selector.of(parse_prefix("10.20.0.0/23"))


def old(**changes: object) -> Suite:
    """A suite for IKEv1."""
    given = {
        "encryption": "AES-CBC-128",
        "integrity": "HMAC-SHA1-96",
        "prf": "PRF-HMAC-SHA1",
        "group": "MODP-1024",
        "esp_integrity": "HMAC-SHA1-96",
        "esn": False,
        "ike_lifetime": 28800.0,
        "esp_lifetime": 3600.0,
        "ike_version": 1,
    } | changes
    return make_suite("old", **given)


OLD = old()
ONE = End(name="site", suites=(OLD,), sends="a", expects="b", local=(DESKS,), remote=(WEB,))
TWO = End(name="cloud", suites=(OLD,), sends="b", expects="a", local=(WEB,), remote=(DESKS,))
HIGH, MODERN = SHIPPED["high"], SHIPPED["modern"]


def new(end: End, *suites: Suite, **changes: object) -> End:
    return replace(end, suites=suites or (HIGH,), **changes)


CASES: dict[str, tuple[End, End, bool, str, str]] = {
    "v1: phase 1": (
        ONE,
        replace(TWO, suites=(old(group="MODP-1536"),)),
        True,
        "phase 1",
        NO_PROPOSAL,
    ),
    "v1: identity": (replace(ONE, sends="x"), TWO, True, "phase 1 authentication", AUTH_FAILED),
    "v1: key": (ONE, TWO, False, "phase 1 authentication", AUTH_FAILED),
    "v1: phase 2": (ONE, replace(TWO, suites=(old(pfs=None),)), True, "phase 2", NO_PROPOSAL),
    "v1: selectors": (ONE, replace(TWO, remote=(HALF,)), True, "phase 2", SELECTORS_APART),
    "v2: groups": (new(ONE), new(TWO, MODERN), True, "IKE_SA_INIT", NO_PROPOSAL),
    "v2: identity": (new(ONE), new(TWO, expects="x"), True, "IKE_AUTH", AUTH_FAILED),
    "v2: key": (new(ONE), new(TWO), False, "IKE_AUTH", AUTH_FAILED),
    "v2: ESP": (
        new(ONE),
        new(TWO, replace(HIGH, esp=SHIPPED["common"].esp)),
        True,
        "first child SA",
        NO_PROPOSAL,
    ),
    "v2: selectors": (new(ONE), new(TWO, remote=(WEB,)), True, "first child SA", SELECTORS_APART),
    "no version in common": (ONE, new(TWO), True, "", ""),
}


@pytest.mark.parametrize("case", CASES)
def test_the_first_that_fails_is_named_and_nothing_comes_after(case: str) -> None:
    one, two, same_key, exchange, notify = CASES[case]
    steps = predict(one, two, same_key=same_key)
    assert not steps[-1].good
    assert all(step.good for step in steps[:-1])
    if exchange:
        assert (steps[-1].exchange, steps[-1].notify) == (exchange, notify)


BARE = replace(HIGH, esp=replace(HIGH.esp, group=None))
LATER = 7200.0
GROUPS = {
    "another group": (
        new(ONE),
        new(TWO, replace(HIGH, esp=replace(HIGH.esp, group=MODERN.esp.group))),
    ),
    "none here, which acts later": (
        new(ONE, replace(BARE, esp=replace(BARE.esp, lifetime=LATER))),
        new(TWO),
    ),
    "none there, which acts sooner": (
        new(ONE, replace(HIGH, esp=replace(HIGH.esp, lifetime=LATER))),
        new(TWO, BARE),
    ),
}


@pytest.mark.parametrize("case", GROUPS)
def test_groups_that_differ_fail_at_the_first_rekey_and_not_before(case: str) -> None:
    steps = predict(*GROUPS[case])
    failed = [step for step in steps if not step.good]
    assert [(step.exchange, step.notify) for step in failed] == [
        ("first child rekey", NO_PROPOSAL),
        ("end of the child SA", "lifetime ended"),
    ]


def test_phases_of_the_old_protocol_come_again_within_the_shorter_lifetime() -> None:
    steps = predict(ONE, replace(TWO, suites=(old(esp_lifetime=1800.0),)))
    assert all(step.good for step in steps)
    again = {step.exchange: step for step in steps if step.earliest}
    assert again["phase 2 again"].latest == 1800.0
    assert again["phase 1 again"].latest == 28800.0
    assert again["phase 2 again"].earliest < again["phase 2 again"].latest


def exchanges(steps: tuple[Step, ...]) -> list[str]:
    return [step.exchange for step in steps]


def test_rekeys_come_by_lifetime_and_reauthentication_starts_anew() -> None:
    steps = predict(new(ONE), new(TWO))
    assert exchanges(steps)[-2:] == ["first child rekey", "IKE rekey"]
    short = replace(HIGH, ike=replace(HIGH.ike, lifetime=1800.0))
    steps = predict(new(ONE, short, reauthenticates=True), new(TWO, short))
    assert "reauthentication" in exchanges(steps)
    assert any("starts anew with IKE_SA_INIT" in step.text for step in steps)
    # The child asks for a group that the other end has not: the tunnel lives to its lifetime.
    apart = replace(HIGH, esp=replace(HIGH.esp, group=None))
    steps = predict(new(ONE), new(TWO, apart))
    failed = [step for step in steps if not step.good]
    assert failed[0].exchange == "first child rekey"
    assert failed[1].notify == "lifetime ended"


def test_several_suites_and_narrowed_selectors_are_said() -> None:
    steps = predict(new(ONE, MODERN, HIGH), new(TWO, HIGH))
    assert "the first of 2 that site offers" in steps[0].text
    steps = predict(new(ONE), new(TWO, remote=(HALF,)))
    assert (
        "narrows the traffic selectors to"
        in next(s for s in steps if "first child" in s.exchange).text
    )


@pytest.mark.parametrize(
    ("offered", "own", "left"),
    [
        ((DESKS,), (ANY_IPV4,), (DESKS,)),
        ((ANY_IPV4,), (DESKS, WEB), (DESKS, WEB)),
        ((DESKS,), (HALF, HALF), (HALF,)),
        ((DESKS,), (WEB,), ()),
        (
            (DESKS,),
            (replace(DESKS, protocol=6, first_port=443, last_port=443),),
            (replace(DESKS, protocol=6, first_port=443, last_port=443),),
        ),
        ((replace(DESKS, protocol=6),), (replace(DESKS, protocol=17),), ()),
        (
            (replace(DESKS, first_port=1, last_port=9),),
            (replace(DESKS, first_port=10, last_port=20),),
            (),
        ),
        ((Selector.of(parse_prefix("fd00::/64")),), (ANY_IPV4,), ()),
    ],
)
def test_narrowing(offered, own, left) -> None:
    assert narrow(offered, own) == left
    assert all(str(selector) for selector in left)
