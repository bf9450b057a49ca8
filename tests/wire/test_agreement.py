"""The predicted outcome against what two engines actually do."""

from __future__ import annotations

import random
from dataclasses import replace

import pytest

from obrin.core.address.prefix import parse_prefix
from obrin.core.ipsec.agreement import predict, smallest_edit
from obrin.core.ipsec.ends import End, child_count, first_refused
from obrin.core.ipsec.selectors import ANY_IPV4, Selector
from obrin.core.ipsec.suite import SHIPPED, Suite, make_suite
from obrin.wire.ike.config import Identity
from obrin.wire.ike.events import ChildUp, IkeUp, Refused
from tests.doubles import CLOUD, SITE, Net, pair

CHILD, IKE = 1000.0, 3000.0
CIPHERS = [
    ("AES-GCM-16-128", None),
    ("AES-GCM-16-256", None),
    ("AES-CBC-256", "HMAC-SHA2-256-128"),
    ("CHACHA20-POLY1305", None),
    ("AES-CBC-256", "HMAC-SHA2-384-192"),
    ("AES-CBC-256", "HMAC-SHA2-512-256"),
    ("AES-CBC-128", "HMAC-SHA1-96"),
]
NETWORKS = [Selector.of(parse_prefix(f"10.{n}.0.0/16")) for n in range(1, 5)]
GROUPS = ["CURVE25519", "ECP-256", "ECP-384", "ECP-521"]
OTHER_GROUPS = ["MODP-1024", "MODP-1536", "MODP-2048"]


def some_suites(rng: random.Random, count: int) -> tuple[Suite, ...]:
    """Suites that differ here and there, so that about half of all pairs meet."""
    made = []
    for n in range(count):
        cipher, integrity = rng.choice(CIPHERS[:2] if rng.random() < 0.7 else CIPHERS)
        esp, esp_integrity = rng.choice(CIPHERS[:2] if rng.random() < 0.7 else CIPHERS)
        made.append(
            make_suite(
                f"s{n}",
                encryption=cipher,
                integrity=integrity,
                prf=rng.choice(["PRF-HMAC-SHA2-256", "PRF-HMAC-SHA2-256", "PRF-HMAC-SHA2-384"]),
                group=rng.choice(OTHER_GROUPS if rng.random() < 0.06 else GROUPS),
                esp_encryption=esp,
                esp_integrity=esp_integrity,
                pfs=rng.choice(OTHER_GROUPS if rng.random() < 0.06 else [None, *GROUPS]),
                esn=rng.random() < 0.8,
                ike_lifetime=IKE,
                esp_lifetime=CHILD,
            )
        )
    return tuple(made)


def stages(steps) -> dict[str, bool]:
    return {s.exchange: s.good for s in steps if not s.exchange.startswith("end of")}


def played(
    suites: tuple[Suite, ...],
    other: tuple[Suite, ...],
    *,
    same_key: bool,
    seed: int,
    configured: tuple[End, End] | None = None,
) -> dict[str, bool]:
    """The same stages with two engines in virtual time."""
    rng = random.Random(seed)
    places = ("2001:db8:1::10", "2001:db8:203::1") if rng.random() < 0.4 else (SITE, CLOUD)
    other_key = None if same_key else b"x" * 32
    ends = pair(suites, other, other_key=other_key, seed=seed, places=places)
    for end, told in zip(ends, configured or (), strict=False):
        tunnel = end.tunnels["t"]
        tunnel.config = replace(
            tunnel.config,
            local_identity=Identity.of(told.sends or str(tunnel.config.local_identity)),
            remote_identity=Identity.of(told.expects or str(tunnel.config.remote_identity)),
            local_selectors=told.local,
            remote_selectors=told.remote,
            reauthenticate=told.reauthenticates,
            each_pair=told.each_pair,
            fragmentation=rng.random() < 0.7,
        )
    net = Net(*ends, delay=0.01, seed=seed)
    for end in ends:
        end.start(0.0)
    net.run(0.9)
    events = net.events[0]
    refused = [e.notify for e in events if isinstance(e, Refused)]
    if not any(isinstance(e, IkeUp) for e in events):
        failed = "IKE_AUTH" if "AUTHENTICATION_FAILED" in refused else "IKE_SA_INIT"
        found = {"IKE_SA_INIT": failed != "IKE_SA_INIT"}
        return found | {"IKE_AUTH": False} if failed == "IKE_AUTH" else found
    found = {"IKE_SA_INIT": True, "IKE_AUTH": True}
    told = [e for e in events if isinstance(e, ChildUp | Refused)]
    found["first child SA"] = bool(told) and isinstance(told[0], ChildUp)
    if not any(isinstance(e, ChildUp) for e in told):
        another = bool(told) and told[0].notify == "TS_UNACCEPTABLE"
        if another and first_refused(*configured) and child_count(*configured):
            found["further child SAs"] = False
        return found
    net.run(60.0)
    if configured is not None:
        both = [end.tunnels["t"].outbounds for end in ends]
        assert {scope[::-1] for scope in both[0]} == set(both[1])
        several = child_count(*configured)
        assert len(both[0]) in (1, several)
        if several > 1 or not found["first child SA"]:
            found["further child SAs"] = len(both[0]) == several
    net.run(CHILD * 0.97)
    found["first child rekey"] = any(isinstance(e, ChildUp) and e.rekeyed for e in events)
    if found["first child rekey"]:
        ups = sum(isinstance(e, IkeUp) for e in events)
        net.run(IKE * 0.97)
        if any(isinstance(e, IkeUp) and e.rekeyed for e in events):
            found["IKE rekey"] = True
        elif sum(isinstance(e, IkeUp) for e in events) > ups:
            found["reauthentication"] = True
        else:
            found["IKE rekey"] = False
    return found


def some_ends(rng: random.Random, one: tuple[Suite, ...], two: tuple[Suite, ...]) -> tuple:
    """Ends whose identities, selectors and renewal differ now and then."""
    ends = (
        End(name="one", suites=one, sends=SITE, expects=CLOUD),
        End(name="two", suites=two, sends=CLOUD, expects=SITE),
    )
    if rng.random() < 0.1:
        ends = replace(ends[0], sends="10.0.0.2"), ends[1]
    if rng.random() < 0.05:
        ends = ends[0], replace(ends[1], sends="apps.example")
    if rng.random() < 0.3:
        here, there = (tuple(rng.sample(NETWORKS, rng.randint(1, 3))) for _ in range(2))
        ends = (
            replace(ends[0], local=here, remote=(NETWORKS[0],)),
            replace(ends[1], remote=there, local=(ANY_IPV4,)),
        )
    return tuple(
        replace(e, reauthenticates=rng.random() < 0.15, each_pair=rng.random() < 0.3) for e in ends
    )


def compare(seed: int) -> str:
    rng = random.Random(seed)
    one, two = some_suites(rng, rng.randint(1, 3)), some_suites(rng, rng.randint(1, 3))
    if rng.random() < 0.6:  # let them meet more often
        two = (*two[:1], rng.choice(one)) if rng.random() < 0.5 else (rng.choice(one), *two[:1])
    same_key = rng.random() < 0.9
    ends = some_ends(rng, one, two)
    steps = predict(*ends, same_key=same_key)
    expected = stages(steps)
    seen = played(one, two, same_key=same_key, seed=seed, configured=ends)
    if not expected.get("first child rekey", True):
        for later in ("IKE rekey", "reauthentication"):  # the engines do not come that far
            expected.pop(later, None)
    assert seen == expected, (seed, steps)
    return ",".join(name for name, good in seen.items() if not good) or "good"


@pytest.mark.parametrize("count", [60, pytest.param(600, marks=pytest.mark.long)])
def test_the_prediction_is_what_the_engines_do(count: int) -> None:
    outcomes = [compare(seed) for seed in range(count)]
    # All kinds of outcome were among them.
    assert {"good", "IKE_SA_INIT", "IKE_AUTH", "first child SA", "first child rekey"} <= set(
        outcomes
    )


@pytest.mark.slow
def test_the_prediction_is_what_the_engines_do_ten_thousand_times() -> None:
    for seed in range(1000, 11000):
        compare(seed)


def test_a_pfs_difference_shows_at_the_first_rekey_and_ends_at_the_lifetime() -> None:
    base = {"encryption": "AES-GCM-16-256", "prf": "PRF-HMAC-SHA2-256", "group": "19"}
    one, two = make_suite("a", **base), make_suite("b", **base, pfs=None)
    steps = predict(End(name="one", suites=(one,)), End(name="two", suites=(two,)))
    assert [(s.exchange, s.good) for s in steps] == [
        ("IKE_SA_INIT", True),
        ("IKE_AUTH", True),
        ("first child SA", True),
        ("first child rekey", False),
        ("end of the child SA", False),
        ("IKE rekey", True),
    ]
    rekey, end = steps[3], steps[4]
    assert (rekey.earliest, rekey.latest) == pytest.approx((2880.0, 3060.0))
    assert "DH groups" in rekey.text
    assert end.earliest == 3600.0


def test_the_shorter_lifetime_acts_and_an_end_may_ask_again_for_the_group() -> None:
    base = {"encryption": "AES-GCM-16-256", "prf": "PRF-HMAC-SHA2-256"}
    long = make_suite("a", **base, group="19")
    short = make_suite("a", **base, group="19", esp_lifetime=600.0)
    steps = {
        s.exchange: s
        for s in predict(End(name="one", suites=(long,)), End(name="two", suites=(short,)))
    }
    assert steps["first child rekey"].text.startswith("two acts")
    assert steps["first child rekey"].latest == pytest.approx(570.0)
    other = make_suite("b", **base, group="31")
    steps = {
        s.exchange: s
        for s in predict(End(name="one", suites=(other, long)), End(name="two", suites=(long,)))
    }
    assert "asked again with group 19 (INVALID_KE_PAYLOAD)" in steps["IKE_SA_INIT"].text


def test_the_smallest_edit_names_the_ends_that_lack_the_suite() -> None:
    ends = (
        End(name="site", suites=(SHIPPED["wide"],)),
        End(name="cloud", suites=(SHIPPED["high"],)),
    )
    edit = smallest_edit(
        ends, {n: SHIPPED[n] for n in ("wide", "high")}, lambda s: (False, -s.strength)
    )
    assert (edit.suite, edit.ends) == ("high", ("site",))
