"""What devices can do: profiles, the suites made of them, roles, and what is found wrong."""

from __future__ import annotations

import random
from dataclasses import replace

import pytest

from obrin.core.catalogue.shipped_profiles import SHIPPED_SPECS
from obrin.core.check.tunnels.devices import devices
from obrin.core.design.abilities import shipped_profile
from obrin.core.design.profile_spec import ProfileSpec, build_profile, unsaid
from obrin.core.drill.detection import detectors
from obrin.core.drill.outage import predict_outage
from obrin.core.errors import DesignError
from obrin.core.handover.ends.agreed import agreements, lines
from obrin.core.handover.ends.records import ends_at
from obrin.core.handover.sheet.awake import awake_words
from obrin.core.handover.sheet.blocks import markdown
from obrin.core.handover.sheet.sheet import value_sheet
from obrin.core.handover.sheet.words import seconds
from obrin.core.ipsec.compose import compose, parse_spelled, spell
from obrin.core.ipsec.policy import CryptoPolicy
from obrin.core.ipsec.profile import KeyRules, LifetimeRange, Profile
from obrin.core.ipsec.registry import ALGORITHMS, Kind
from obrin.core.ipsec.shared_keys import key_shape, make_key
from tests.doubles import DESIGN, design_of, seeded, settled_of, swap

FREE = CryptoPolicy()
AT_SITE = "        uplinks:\n          fibre"


def with_profile(name: str, *more: tuple[str, str], text: str = DESIGN) -> str:
    return swap((AT_SITE, f"        profile: {name}\n{AT_SITE}"), *more, text=text)


STATIC = ("    bgp: {hold-time: 6 s}\n", "    routing: static\n")


def codes(text: str) -> set[str]:
    return {finding.code for finding in devices(settled_of(text))}


@pytest.mark.parametrize("name", SHIPPED_SPECS)
def test_shipped_profiles_leave_nothing_unsaid_and_can_do_something(name: str) -> None:
    assert not list(unsaid(ProfileSpec.model_validate(SHIPPED_SPECS[name])))
    suite = compose("x", [shipped_profile(name)], FREE)
    assert suite is not None
    assert shipped_profile(name).can(suite)


def test_a_composed_suite_is_what_both_can_do_and_survives_being_spelled() -> None:
    rng = random.Random(5)
    met = 0
    for _ in range(300):
        profiles = [some_profile(rng), some_profile(rng)]
        suite = compose("x", profiles, FREE)
        if suite is None:
            continue
        met += 1
        assert all(p.can(suite) for p in profiles)
        assert parse_spelled("x", spell(suite)) == suite
    assert 60 < met < 300


def some_profile(rng: random.Random) -> Profile:
    def some(kind: Kind) -> tuple:
        known = [a for a in ALGORITHMS if a.kind is kind]
        return tuple(rng.sample(known, min(len(known), rng.randint(3, 12))))

    base = shipped_profile("general-host")
    life = LifetimeRange(600.0, rng.choice([3600.0, 86400.0]), None, rng.choice(["s", "min"]))
    return replace(
        base,
        ike=replace(base.ike, encryption=some(Kind.ENCRYPTION), groups=some(Kind.GROUP)),
        esp=replace(
            base.esp, encryption=some(Kind.ENCRYPTION), groups=some(Kind.GROUP), lifetime=life
        ),
        pfs=rng.choice(["required", "optional", "never"]),
        esn=rng.choice([(True, False), (False,)]),
    )


def test_no_other_suite_of_two_devices_is_stronger() -> None:
    """Against trying every pair of cipher and group that both can do."""
    rng = random.Random(8)
    for _ in range(60):
        one, two = some_profile(rng), some_profile(rng)
        suite = compose("x", [one, two], FREE)
        if suite is None:
            continue
        sound = [
            min(cipher.strength, group.strength, 192)
            for cipher in set(one.ike.encryption) & set(two.ike.encryption)
            for group in set(one.ike.groups) & set(two.ike.groups)
            if cipher.standing.value not in ("should not", "must not")
            and group.standing.value not in ("should not", "must not")
        ]
        if sound:
            assert min(suite.ike.encryption.strength, suite.ike.group.strength, 192) == max(sound)


def test_the_policy_comes_before_strength() -> None:
    host = shipped_profile("general-host")
    suite = compose("x", [host, host], CryptoPolicy(forbid=frozenset({"ECP-384", "CURVE448"})))
    assert suite.ike.group.name not in ("ECP-384", "CURVE448")
    suite = compose(
        "x", [host, host], CryptoPolicy(longest_child=1800.0, require=frozenset({"AES-CBC-256"}))
    )
    assert (suite.esp.lifetime, suite.ike.encryption.name) == (1800.0, "AES-CBC-256")


@pytest.mark.parametrize(
    ("name", "wanted"),
    [
        ("modern-router", "high"),
        ("tunnel-firewall", "for-quay-apps"),
        ("branch-box", "for-quay-apps"),
    ],
)
def test_settling_takes_the_strongest_suite_of_the_devices(name: str, wanted: str) -> None:
    settled = settled_of(with_profile(name, STATIC))
    suite = settled.links["quay-apps"].suite
    assert suite.name == wanted
    assert shipped_profile(name).can(suite)
    assert not {"suite-no-match", "lifetime-range"} & codes(with_profile(name, STATIC))
    assert all(a.good for a in agreements(settled))


def test_an_old_device_is_reported_what_it_lacks_and_what_would_do() -> None:
    settled = settled_of(with_profile("old-device", STATIC))
    agreement = next(agreements(settled))
    assert agreement.steps[0].notify == "INVALID_MAJOR_VERSION"
    assert agreement.edit is None  # nothing that the two can do may be used
    modest = settled_of(
        with_profile(
            "branch-box",
            STATIC,
            ("    subnets: {web", "    gateway: {offers: [high]}\n    subnets: {web"),
        )
    )
    found = next(agreements(modest))
    assert not found.good
    assert found.edit is not None
    assert (found.edit.suite, found.edit.ends) == ("wide", ("the cloud",))


def test_two_old_ends_go_through_the_phases_of_the_old_protocol() -> None:
    text = with_profile("old-device", STATIC).replace(
        "    subnets: {web", "    gateway: {profile: old-device}\n    subnets: {web"
    )
    settled = settled_of(text)
    steps = next(agreements(settled)).steps
    assert [s.exchange for s in steps] == [
        "phase 1",
        "phase 1 authentication",
        "phase 2",
        "phase 2 again",
        "phase 1 again",
    ]
    assert "MODP-1536" in steps[2].text  # the group of PFS is there from the start
    sheet = markdown(value_sheet(settled, "quay-gw"))
    assert "Phase 2 (ESP)" in sheet
    assert "480 min (28800 s)" in sheet
    assert "IKE version 1 only" in sheet


def test_a_policy_device_gets_spares_selectors_and_something_to_keep_it_awake() -> None:
    settled = settled_of(with_profile("policy-device", STATIC))
    link = settled.links["quay-apps"]
    assert link.selection == "policy"
    assert [t.role for t in link.tunnels] == ["active", "spare"]
    here, spare = ends_at(settled, "quay-gw")
    assert here.local_selectors == here.local_prefixes
    assert spare.stands_in_for == ("quay-apps/a",)
    assert awake_words(settled, here).startswith("a ping from 10.20.0.10 to ")
    assert awake_words(settled, spare).startswith("nothing")
    assert predict_outage(settled, link.tunnels[0]).longest == 27.0
    words = {line.what: line.site for line in lines(settled, next(agreements(settled)))}
    assert (words["Inside address"], words["Role"]) == ("none", "active")
    sheet = markdown(value_sheet(settled, "quay-gw"))
    assert "spare: down until quay-apps/a failed" in sheet
    assert "No routes: the policies" in sheet
    assert codes(with_profile("policy-device", STATIC)) == {"tunnel-asleep", "lifetime-hidden"}


WRONG = {
    "device-cannot": [
        with_profile("policy-device"),  # BGP
        with_profile(
            "branch-box", STATIC, ("    tunnels:\n", "    selection: policy\n    tunnels:\n")
        ),
        with_profile(
            "branch-box",
            STATIC,
            ("    tunnels:\n", "    authentication: certificate\n    tunnels:\n"),
        ),
        with_profile(
            "old-device", STATIC, ("address: 192.0.2.10,", "address: 192.0.2.10, inside: 10.9.9.9,")
        ),
        with_profile(
            "branch-box", STATIC, ("    tunnels:\n", "    liveness: {delay: 1 s}\n    tunnels:\n")
        ),
        with_profile("own", STATIC) + "profiles: {own: {tunnels: 1}}\n",
        with_profile("own", STATIC, ("    tunnels:\n", "    bfd: {}\n    tunnels:\n"))
        + "profiles: {own: {bfd: false}}\n",
        with_profile("own", STATIC, ("    tunnels:\n", "    bfd: {}\n    tunnels:\n"))
        + "profiles: {own: {selection: [policy]}}\n",
        with_profile("own", ("    tunnels:\n", "    encapsulation: always\n    tunnels:\n"))
        + "profiles: {own: {nat-traversal: false}}\n",
    ],
    "same-selectors": [
        with_profile(
            "policy-device", STATIC, ("radio, instance: 2", "radio, instance: 2, role: standby")
        ),
    ],
    "spare-first": [
        with_profile(
            "branch-box", STATIC, ("fibre, instance: 1", "fibre, instance: 1, role: spare")
        ),
    ],
    "static-unmonitored": [
        with_profile("own", STATIC) + "profiles: {own: {monitor: false}}\n",
    ],
    "lifetime-range": [
        with_profile("own", STATIC, ("    tunnels:\n", "    suite: wide\n    tunnels:\n"))
        + "profiles: {own: {esp: {lifetime: {least: 2 h}}}}\n",
    ],
    "lifetime-hidden": [with_profile("policy-device", STATIC)],
    "mss-not-clamped": [with_profile("old-device", STATIC)],
    "tunnel-asleep": [with_profile("policy-device", STATIC)],
    "profile-unsaid": [with_profile("own", STATIC) + "profiles: {own: {bgp: false}}\n"],
}


@pytest.mark.parametrize("code", WRONG)
def test_what_a_device_cannot_do_is_found(code: str) -> None:
    for text in WRONG[code]:
        assert code in codes(text), text


def test_a_capable_device_has_no_findings() -> None:
    assert codes(with_profile("modern-router")) == set()
    assert codes(DESIGN) == set()


def test_static_routes_that_nobody_watches_are_never_moved() -> None:
    settled = settled_of(WRONG["static-unmonitored"][0])
    assert detectors(settled, settled.links["quay-apps"]) == ()
    assert predict_outage(settled, next(settled.tunnels())).longest is None


def test_identities_behind_a_translator() -> None:
    behind = ("address: 192.0.2.10,", "address: 192.0.2.10, inside: 10.9.9.9,")
    own_only = "profiles: {own: {identities: [own-address]}}\n"
    for text, identity in (
        (with_profile("branch-box", STATIC, behind), "192.0.2.10"),
        (with_profile("own", STATIC, behind) + own_only, "10.9.9.9"),
        (swap((behind[0], f"{behind[1]} identity: quay.example,")), "quay.example"),
    ):
        settled = settled_of(text)
        assert ends_at(settled, "quay-gw")[0].local_identity == identity
        assert ends_at(settled, "apps")[0].remote_identity == identity


def test_wrong_names_in_profiles_are_mistakes_with_their_place() -> None:
    with pytest.raises(DesignError) as caught:
        design_of(with_profile("nobody") + "profiles: {own: {ike: {groups: [14, 99]}}}\n")
    told = "\n".join(map(str, caught.value.problems))
    assert "there is no profile 'nobody'" in told
    assert "'99' is not a known group algorithm" in told
    assert build_profile("x", ProfileSpec.model_validate({})).versions is None


def test_keys_keep_to_what_both_devices_accept() -> None:
    for rules, bits in (
        ([KeyRules(8, 63, "letters-and-digits"), KeyRules()], 256),
        ([KeyRules(1, 128, "hexadecimal")], 256),
        ([KeyRules(4, 32, "letters-and-digits")], 180),
        ([KeyRules(60, 64)], 256),
        ([KeyRules(1, 40, "printable")], 256),
    ):
        key = make_key(seeded(3), rules)
        assert not [fault for rule in rules for fault in rule.faults(key)]
        length, alphabet = key_shape(rules)
        assert length * len(alphabet).bit_length() >= bits
    assert KeyRules(8, 63, "letters-and-digits").faults("k-" * 40)


def test_seconds_have_minutes_and_hours_beside_them() -> None:
    assert seconds(90) == "90 s"
    assert seconds(600) == "600 s (10 min)"
    assert seconds(7200) == "7200 s (120 min, 2 h)"
    assert seconds(7200, "h") == "2 h (7200 s)"


def test_lifetimes_are_shown_in_what_the_device_counts() -> None:
    assert seconds(3600, "min") == "60 min (3600 s)"
    assert seconds(3600, "s") == "3600 s (60 min, 1 h)"
    assert LifetimeRange(unit="h").fault(5400) == "5400 s is not a whole number of h"
    assert LifetimeRange(600, 7200, unit="h").nearest(5400) == 3600


def test_bfd_is_taken_where_both_ends_are_known_to_speak_it() -> None:
    at_cloud = ("    subnets: {web", "    gateway: {profile: modern-router}\n    subnets: {web")
    never = ("    bgp: {hold-time: 6 s}\n", "    bgp: {hold-time: 6 s}\n    bfd: false\n")
    both = settled_of(with_profile("modern-router", at_cloud))
    assert both.links["quay-apps"].bfd is not None
    outage = predict_outage(both, next(both.tunnels()))
    assert (outage.longest, outage.detected_by) == (pytest.approx(0.9), "BFD, 3 times 0.3 s")
    assert "every 0.3 s, dead after 3 missed" in markdown(value_sheet(both, "quay-gw"))
    assert settled_of(with_profile("modern-router")).links["quay-apps"].bfd is None
    assert settled_of(with_profile("modern-router", at_cloud, never)).links["quay-apps"].bfd is None
    wanted = ("    bgp: {hold-time: 6 s}\n", "    routing: static\n    bfd: {interval: 1 s}\n")
    assert "device-cannot" in codes(with_profile("branch-box", wanted))
    assert "device-cannot" not in codes(with_profile("modern-router", wanted))
