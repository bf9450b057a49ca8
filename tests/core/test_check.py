"""Every finding with a seeded mistake, and silent on the corrected twin."""

from __future__ import annotations

import pytest

from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.check.finding import Finding, Severity
from obrin.core.check.whole import check
from obrin.core.handover.ends.agreed import agreements
from obrin.core.handover.secrets import Secrets
from obrin.core.ipsec.guessing import drawn, estimate_bits
from obrin.core.ipsec.shared_keys import (
    ALPHABET,
    GENERATED_LENGTH,
    make_key,
    weaknesses,
)
from obrin.core.settled.model import Settled
from tests.doubles import DESIGN, seeded, settled_of, swap

GOOD_KEYS = {"quay-apps/a": make_key(seeded(1)), "quay-apps/b": make_key(seeded(2))}
OLD = """suites:
  old:
    ike: {encryption: 3DES, integrity: HMAC-MD5-96, prf: PRF-HMAC-SHA1, group: 2, lifetime: 8 h}
    esp: {encryption: 3DES, integrity: HMAC-MD5-96, esn: false, lifetime: 1 h}
"""
ALONE = "circuits: {line: {site: quay, gateway: quay-gw, cloud: apps, networks: [guests]}}\n"
GATEWAY = (
    "    subnets: {web: {hosts: 100}}",
    "    subnets: {web: {hosts: 100}}\n    gateway: {%s}",
)


def codes(text: str = DESIGN, keys=None) -> set[str]:
    findings = check(settled_of(text), PRACTICE_CLOUD, Secrets(GOOD_KEYS if keys is None else keys))
    return {f.code for f in findings}


def gateway(text: str) -> tuple[str, str]:
    return GATEWAY[0], GATEWAY[1] % text


def rules(text: str) -> tuple[str, str]:
    return "        uplinks:", f"        filters: [{text}]\n        uplinks:"


def test_a_good_design_has_no_error() -> None:
    assert codes() == {"one-gateway"}


# (code, change that seeds the mistake, change that corrects it or None for the plain design)
CASES = [
    (
        "space-overlap",
        ("  apps:\n", "  apps:\n    space: 10.20.0.0/16\n"),
        ("  apps:\n", "  apps:\n    space: 10.21.0.0/16\n"),
    ),
    (
        "space-overlap",
        ("obrin: 1", "obrin: 1\nelsewhere: {partner: 10.20.0.0/16}"),
        ("obrin: 1", "obrin: 1\nelsewhere: {partner: 10.30.0.0/16}"),
    ),
    ("space-overlap", ("guests: 10.20.8.0/24", "guests: 10.20.0.0/22"), None),
    (
        "loopback-twice",
        ("        uplinks:", "        loopback: 10.20.0.9\n        uplinks:"),
        ("        uplinks:", "        loopback: 10.250.0.9\n        uplinks:"),
    ),
    (
        "inside-twice",
        (
            "instance: 1}",
            "instance: 1, inside6: 'fd77::/127'}\n      c: {gateway: quay-gw, uplink: fibre, instance: 2, inside6: 'fd77::/126'}",
        ),
        (
            "instance: 1}",
            "instance: 1, inside6: 'fd77::/127'}\n      c: {gateway: quay-gw, uplink: fibre, instance: 2, inside6: 'fd77::4/126'}",
        ),
    ),
    (
        "inside-size",
        ("instance: 1}", "instance: 1, inside6: 'fd77::/64'}"),
        ("instance: 1}", "instance: 1, inside6: 'fd77::/127'}"),
    ),
    (
        "family-left-out",
        ("instance: 1}", "instance: 1, inside6: 'fd77::/127'}"),
        ("instance: 1}", "instance: 1, inside: 169.254.9.0/30}"),
    ),
    (
        "behind-family",
        (
            "guests: 10.20.8.0/24}",
            "guests: {prefix: 10.20.8.0/24, behind: 10.20.0.9}}",
        ),
        (
            "desks: 10.20.0.0/22, guests: 10.20.8.0/24}",
            "desks: {prefix: 10.20.0.0/22, prefix6: '2001:db8:5::/64'}, "
            "guests: {prefix: 10.20.8.0/24, behind: 10.20.0.9, behind6: '2001:db8:5::9'}}",
        ),
    ),
    (
        "inside-address-twice",
        (
            "provider: one}\n          radio: {address: 198.51.100.20, provider: two}",
            "provider: one, inside: 10.9.9.2}\n          radio: {address: 198.51.100.20, provider: two, inside: 10.9.9.2}",
        ),
        ("provider: one}", "provider: one, inside: 10.9.9.2}"),
    ),
    (
        "policy-broken",
        ("obrin: 1", "obrin: 1\npolicy: {longest-child: 30 min}"),
        (
            "obrin: 1",
            "obrin: 1\npolicy: {longest-child: 60 min, least-strength: 128, require: [esn], pfs: true}",
        ),
    ),
    (
        "mtu-small",
        ("provider: one}", "provider: one, mtu: 1300}"),
        ("provider: one}", "provider: one, mtu: 1492}"),
    ),
    (
        "mtu-differs",
        ("provider: one}", "provider: one, mtu: 1492}"),
        ("provider: one}", "provider: one, mtu: 1500}"),
    ),
    ("class-unknown", gateway("class: dinghy"), gateway("class: liner")),
    (
        "gateway-subnet-small",
        ("  apps:\n", "  apps:\n    space: 10.99.0.0/16\n    gateway: {subnet: 10.99.1.0/29}\n"),
        ("  apps:\n", "  apps:\n    space: 10.99.0.0/16\n    gateway: {subnet: 10.99.1.0/28}\n"),
    ),
    (
        "gateway-subnet-outside",
        ("  apps:\n", "  apps:\n    space: 10.99.0.0/16\n    gateway: {subnet: 10.200.1.0/28}\n"),
        None,
    ),
    (
        "subnet-outside",
        (
            "subnets: {web: {hosts: 100}}",
            "space: 10.99.0.0/20\n    subnets: {web: {prefix: 10.98.0.0/24}}",
        ),
        (
            "subnets: {web: {hosts: 100}}",
            "space: 10.99.0.0/20\n    subnets: {web: {prefix: 10.99.0.0/24}}",
        ),
    ),
    (
        "subnet-overlap",
        (
            "subnets: {web: {hosts: 100}}",
            "space: 10.99.0.0/20\n    subnets: {web: {prefix: 10.99.0.0/24}}\n    gateway: {subnet: 10.99.0.16/28}",
        ),
        (
            "subnets: {web: {hosts: 100}}",
            "space: 10.99.0.0/20\n    subnets: {web: {prefix: 10.99.0.0/24}}\n    gateway: {subnet: 10.99.1.16/28}",
        ),
    ),
    ("as-not-private", gateway("as: 3333"), gateway("as: 4200000001")),
    ("as-equal-ends", gateway("as: 64999"), gateway("as: 64998")),
    (
        "inside-size",
        ("instance: 1}", "instance: 1, inside: 169.254.3.0/28}"),
        ("instance: 1}", "instance: 1, inside: 169.254.3.0/31}"),
    ),
    (
        "inside-reserved",
        ("instance: 1}", "instance: 1, inside: 169.254.169.252/30}"),
        ("instance: 1}", "instance: 1, inside: 169.254.168.252/30}"),
    ),
    (
        "inside-twice",
        ("instance: 1}", "instance: 1, inside: 10.20.8.8/30}"),
        ("instance: 1}", "instance: 1, inside: 10.200.8.8/30}"),
    ),
    ("suite-no-match", ("        uplinks:", "        offers: [wide]\n        uplinks:"), None),
    ("one-tunnel", ("      b: {gateway: quay-gw, uplink: radio, instance: 2}\n", ""), None),
    (
        "tunnel-same-ends",
        ("198.51.100.20, provider: two}", "192.0.2.10, provider: two}"),
        ("198.51.100.20, provider: two}", "192.0.2.11, provider: two}"),
    ),
    ("shared-uplink", ("uplink: radio, instance: 2", "uplink: fibre, instance: 2"), None),
    ("shared-provider", ("provider: two", "provider: one"), None),
    ("shared-instance", ("radio, instance: 2", "radio, instance: 1"), None),
    (
        "circuit-alone",
        ("links:\n  quay-apps:", ALONE + "links:\n  quay-apps:"),
        (
            "links:\n  quay-apps:",
            ALONE.replace("guests", "desks") + "links:\n  quay-apps:",
        ),
    ),
    ("suite-deprecated", ("\nlinks:\n", "\n" + OLD + "links:\n"), None),
    ("suite-not-practised", ("\nlinks:\n", "\n" + OLD + "links:\n"), None),
    ("suite-no-pfs", ("\nlinks:\n", "\n" + OLD + "links:\n"), None),
    (
        "expectation-unmet",
        rules("{allow: udp/1, from: quay, to: apps}"),
        rules(
            "{allow: tcp/443, from: quay/desks, to: apps}, {allow: icmp, from: quay/desks, to: apps}"
        ),
    ),
    (
        "expectation-unmet",
        ("subnets: {web: {hosts: 100}}", "subnets: {web: {hosts: 100, propagation: false}}"),
        None,
    ),
    (
        "expectation-unmet",
        (
            "from: quay/desks, to: apps/web, flow: icmp",
            "from: quay/guests, to: apps/web, flow: icmp",
        ),
        None,
    ),
    (
        "expectation-contradicts",
        ("quay/guests, to: apps/web, flow: tcp/443", "quay/desks, to: apps/web, flow: tcp/400-500"),
        ("quay/guests, to: apps/web, flow: tcp/443", "quay/desks, to: apps/web, flow: tcp/22"),
    ),
]


@pytest.mark.parametrize(("code", "mistake", "twin"), CASES, ids=lambda v: str(v)[:32])
def test_a_seeded_mistake_is_found_and_its_twin_is_not(code: str, mistake, twin) -> None:
    extra = []
    if code == "behind-family" or ("inside6" in mistake[1] and code != "family-left-out"):
        extra = [("obrin: 1", "obrin: 1\nstack: dual")]
    if code.startswith("suite-") and code != "suite-no-match":
        extra = [("    bgp: {hold-time: 6 s}", "    suite: old\n    bgp: {hold-time: 6 s}")]
    if code == "tunnel-same-ends":
        extra = [("radio, instance: 2", "radio, instance: 1")]
    if code == "as-equal-ends":
        extra = [("        uplinks:", "        as: 64999\n        uplinks:")]
    if code == "suite-no-match":
        extra = [("    bgp: {hold-time: 6 s}", "    suite: high\n    bgp: {hold-time: 6 s}")]
    assert code in codes(swap(mistake, *extra))
    keeps = code in ("as-equal-ends", "tunnel-same-ends", "behind-family")
    keeps |= "inside6" in mistake[1] and code != "family-left-out"
    plain = extra if keeps else []
    assert code not in codes(swap(twin, *plain) if twin else DESIGN)


TWO = "clouds:\n  apps:\n"
TOGETHER = {
    "the default route as a range elsewhere": (
        [
            ("obrin: 1", "obrin: 1\nelsewhere: {internet: 0.0.0.0/0}"),
            (
                "{web: {hosts: 100}}",
                "{web: {prefix: 10.99.0.0/25}}\n    space: 10.99.0.0/20\n"
                "    gateway: {subnet: 10.99.1.0/28}",
            ),
            ("instance: 1}", "instance: 1, inside: 169.254.9.0/30}"),
            ("instance: 2}", "instance: 2, inside: 169.254.9.4/30}"),
        ],
        "space-everything",
        "0.0.0.0/0 of internet (elsewhere) is all addresses",
    ),
    # what is changed, the finding, and what its text says
    "one instance": (
        [gateway("instances: 1"), ("radio, instance: 2", "radio, instance: 1")],
        "shared-instance",
        "run two instances",
    ),
    "two clouds in one range, at one site": (
        [
            (
                TWO,
                "clouds:\n  more: {space: 10.99.0.0/20, subnets: {x: {hosts: 9}}}\n  apps:\n"
                "    space: 10.99.0.0/20\n",
            ),
            (
                "\nlinks:\n",
                "\nlinks:\n  too: {site: quay, cloud: more, tunnels: {a: {gateway: quay-gw, "
                "uplink: fibre}, b: {gateway: quay-gw, uplink: radio, instance: 2}}}\n",
            ),
        ],
        "space-overlap",
        "both use 10.99.0.0/20",
    ),
    "a cloud that is not joined yet": (
        [(TWO, "clouds:\n  more: {space: 10.20.0.0/20, subnets: {x: {hosts: 9}}}\n  apps:\n")],
        "space-overlap",
        "10.20.0.0/20 of cloud more",
    ),
    "guests of a site that a hub tells of others": (
        [
            (
                TWO,
                "clouds:\n  mid: {hub: {members: [apps], tables: {all: {for: [apps, quay-apps, "
                "mole-mid], learns: [apps, quay-apps, mole-mid]}}}}\n  apps:\n",
            ),
            ("    cloud: apps\n", "    cloud: mid\n"),
            (
                "clouds:\n",
                "  mole:\n    networks: {lan: 10.20.8.0/24}\n    gateways: {mole-gw: "
                "{uplinks: {x: {address: 192.0.2.90}, y: {address: 192.0.2.91}}}}\nclouds:\n",
            ),
            (
                "expectations:",
                "  mole-mid: {site: mole, cloud: mid, tunnels: {a: {gateway: mole-gw, "
                "uplink: x}, b: {gateway: mole-gw, uplink: y, instance: 2}}}\nexpectations:",
            ),
        ],
        "space-overlap",
        "mole/lan and quay/guests both use 10.20.8.0/24",
    ),
}


@pytest.mark.parametrize("case", TOGETHER)
def test_mistakes_that_take_several_places(case: str) -> None:
    changes, code, words = TOGETHER[case]
    found = [f for f in findings_of(settled_of(swap(*changes))) if f.code == code]
    assert found
    assert words in found[0].cause + found[0].fix


def test_two_sites_with_one_as_number_behind_one_gateway() -> None:
    other = (
        "clouds:\n",
        "  pier:\n    networks: {lan: 10.31.0.0/24}\n    gateways:\n      pier-gw:\n        as: 65001\n"
        "        uplinks: {u: {address: 192.0.2.99}}\nclouds:\n",
    )
    link = (
        "expectations:",
        "  pier-apps:\n    site: pier\n    cloud: apps\n    tunnels:\n"
        "      t: {gateway: pier-gw, uplink: u}\nexpectations:",
    )
    same = (
        "        uplinks:\n          fibre",
        "        as: 65001\n        uplinks:\n          fibre",
    )
    assert "as-equal-sites" in codes(swap(other, link, same))
    assert "as-equal-sites" not in codes(swap(other, link))


def test_one_uplink_is_only_a_warning_where_there_is_no_other() -> None:
    change = ("uplink: radio, instance: 2", "uplink: fibre, instance: 2")
    alone = ("          radio: {address: 198.51.100.20, provider: two}\n", "")
    for changes, severity in (((change,), Severity.ERROR), ((change, alone), Severity.WARNING)):
        findings = check(settled_of(swap(*changes)), PRACTICE_CLOUD, Secrets(GOOD_KEYS))
        (found,) = [f for f in findings if f.code == "shared-uplink"]
        assert found.severity is severity


KEY_CASES = [
    ("key-missing", {}),
    ("key-weak", GOOD_KEYS | {"quay-apps/a": "Summer2026"}),
    ("key-weak", GOOD_KEYS | {"quay-apps/a": "a" * 40}),
    ("key-weak", GOOD_KEYS | {"quay-apps/a": "xkPassword" + "qZ8vT2mN4rJ7wB5cH9dF3"}),
    ("key-weak", GOOD_KEYS | {"quay-apps/a": "abcdefghijklmnopqrstuvwxyz0123456789"}),
    ("key-weak", GOOD_KEYS | {"quay-apps/a": "qwertyuiopasdfghjklzxcvbnm1234567890"}),
    ("key-weak", GOOD_KEYS | {"quay-apps/a": "Bay-Freight-Harbour-Company-2026!!"}),
    ("key-weak", GOOD_KEYS | {"quay-apps/a": "<insert the pre-shared key of this tunnel>"}),
    ("key-weak", GOOD_KEYS | {"quay-apps/a": "CHANGEME-" + make_key(seeded(5))[:30]}),
    ("key-weak", GOOD_KEYS | {"quay-apps/a": "aX9-" * 12}),
    ("key-alike", GOOD_KEYS | {"quay-apps/b": GOOD_KEYS["quay-apps/a"][:-1] + "7"}),
    ("key-alike", {label: make_key(seeded(6)) + str(n) for n, label in enumerate(GOOD_KEYS)}),
    ("key-shared", dict.fromkeys(GOOD_KEYS, make_key(seeded(3)))),
]


@pytest.mark.parametrize(("code", "keys"), KEY_CASES)
def test_keys_are_judged_and_never_quoted(code: str, keys) -> None:
    findings = check(settled_of(), PRACTICE_CLOUD, Secrets(keys))
    assert code in {f.code for f in findings}
    assert not any(key in str(f) for f in findings for key in keys.values())
    assert code == "key-alike" or "key-alike" not in {f.code for f in findings}


def test_a_key_that_a_device_does_not_take() -> None:
    text = swap(("        uplinks:", "        profile: own\n        uplinks:"))
    text += "profiles: {own: {key: {most: 20}}}\n"
    findings = check(settled_of(text), PRACTICE_CLOUD, Secrets(GOOD_KEYS))
    (first, _) = [f for f in findings if f.code == "key-refused"]
    assert "quay-gw does not accept" in first.cause


def test_generated_keys_are_strong_and_typeable() -> None:
    key = make_key(seeded(9))
    assert len(key) == GENERATED_LENGTH
    assert set(key) <= set(ALPHABET)
    assert not weaknesses(key)
    assert estimate_bits(key) > 200
    assert drawn(key)
    assert not weaknesses(key[:32])
    assert make_key(seeded(9)) == key != make_key(seeded(10))


def test_findings_point_into_the_file_and_the_worst_comes_first() -> None:
    text = swap(("provider: two", "provider: one"), ("radio, instance: 2", "radio, instance: 1"))
    findings = check(settled_of(text), PRACTICE_CLOUD, Secrets())
    severities = [f.severity for f in findings]
    assert severities == sorted(severities, reverse=True)
    assert severities[0] is Severity.ERROR
    assert all(f.place and f.cause and f.consequence and f.fix for f in findings)


NO_PFS = """suites:
  bare:
    ike: {encryption: AES-GCM-16-256, prf: PRF-HMAC-SHA2-384, group: ECP-384}
    esp: {encryption: AES-GCM-16-256}
"""
APART = {
    "other groups": (
        ("suite: high", "offers: [wide]"),
        "IKE_SA_INIT fails with NO_PROPOSAL_CHOSEN",
    ),
    "PFS at one end": (("suite: high", "offers: [bare]"), "it comes up, and after 2880 to"),
    "PFS at the other": (("suite: bare", "offers: [high]"), "it comes up, and after 2880 to"),
}


@pytest.mark.parametrize("case", APART)
def test_what_check_says_of_agreement_is_what_the_agreement_says(case: str) -> None:
    (suite, offers), words = APART[case]
    changes = (
        ("    bgp: {hold-time: 6 s}", f"    {suite}\n    bgp: {{hold-time: 6 s}}"),
        ("        uplinks:", f"        {offers}\n        uplinks:"),
    )
    settled = settled_of(swap(*changes) + NO_PFS)
    (finding,) = [f for f in findings_of(settled) if f.code == "suite-no-match"]
    assert finding.consequence.startswith(words)
    failed = next(step for step in next(iter(agreements(settled))).steps if not step.good)
    assert failed.notify in finding.consequence
    assert failed.exchange in finding.consequence


def findings_of(settled: Settled) -> list[Finding]:
    return list(
        check(settled, PRACTICE_CLOUD, Secrets({t.label: "k" * 40 for t in settled.tunnels()}))
    )


# What a device cannot do of the suite, and what follows from it, when.
UNABLE = {
    "ike: {groups: [14]}": ("no ECP-384 for IKE", "IKE_SA_INIT fails with NO_PROPOSAL_CHOSEN"),
    "ike: {prf: [PRF-HMAC-SHA2-256]}": ("no PRF-HMAC-SHA2-384", "IKE_SA_INIT fails"),
    "ike: {encryption: [AES-CBC-256], integrity: [HMAC-SHA2-256-128]}": ("for IKE", "IKE_SA_INIT"),
    "esp: {encryption: [AES-CBC-256]}": ("no AES-GCM-16-256 for ESP", "first child SA fails"),
    "esp: {esn: [false]}": ("no extended sequence numbers", "first child SA fails"),
    "esp: {pfs: never}": ("no PFS", "it comes up, and after 2880 to"),
    "esp: {groups: [14]}": ("no ECP-384 for PFS", "it comes up, and after 2880 to"),
    "ike: {versions: [1]}": ("no IKEv2", "IKE_SA_INIT"),
}


@pytest.mark.parametrize("able", UNABLE)
def test_what_a_device_cannot_do_fails_where_it_counts_first(able: str) -> None:
    cause, consequence = UNABLE[able]
    changes = (
        ("    bgp: {hold-time: 6 s}", "    suite: high\n    bgp: {hold-time: 6 s}"),
        ("        uplinks:", "        profile: own\n        uplinks:"),
    )
    settled = settled_of(swap(*changes) + f"profiles: {{own: {{{able}}}}}\n")
    (finding,) = [f for f in findings_of(settled) if f.code == "suite-no-match"]
    assert cause in finding.cause
    assert finding.consequence.startswith(consequence), finding.consequence


BLANK = {
    "offers": (
        swap(
            ("        uplinks:", "        offers: [wide]\n        uplinks:"),
            ("  apps:\n", "  apps:\n    gateway: {offers: [high]}\n"),
        ),
        "of DH groups quay-gw has MODP-2048, apps ECP-384",
        "let the cloud offer suite 'wide'",
    ),
    "profiles": (
        swap(("        uplinks:", "        profile: old\n        uplinks:"))
        + "profiles:\n  old:\n    ike: {encryption: [AES-CBC-128], integrity: [HMAC-MD5-96], "
        "prf: [PRF-HMAC-MD5], groups: [2]}\n"
        "    esp: {encryption: [AES-CBC-128], integrity: [HMAC-MD5-96]}\n",
        "of integrity quay-gw has HMAC-MD5-96",
        "No change of suites helps",
    ),
}


@pytest.mark.parametrize("case", BLANK)
def test_a_blank_suite_with_nothing_in_common_names_what_each_end_has(case: str) -> None:
    text, cause, fix = BLANK[case]
    (finding,) = [f for f in findings_of(settled_of(text)) if f.code == "suite-no-match"]
    assert cause in finding.cause
    assert fix in finding.fix
    assert "leave" not in finding.fix  # it is blank already


def addresses(one: str, other: str = "address: 198.51.100.20", more: str = "") -> str:
    """The test design with other addresses at its two uplinks; `more` is another site."""
    return swap(
        ("address: 192.0.2.10", one),
        ("address: 198.51.100.20", other),
        ("clouds:\n", f"{more}clouds:\n"),
    )


def pier(uplink: str) -> str:
    return (
        "  pier:\n    networks: {lan: 10.31.0.0/24}\n    gateways:\n      pier-gw:\n"
        f"        uplinks: {{u: {{{uplink}}}}}\n"
    )


ADDRESSES: dict[str, list[tuple[str, str]]] = {
    "address-not-public": [
        (addresses(f"address: {bad}"), addresses(f"address: 192.0.2.10, inside: {bad}"))
        for bad in (
            "10.1.2.3",
            "100.64.0.9",
            "192.168.1.1",
            "172.31.0.1",
            "169.254.7.7",
            "127.0.0.1",
            "0.0.0.0",
            "224.0.0.5",
            "240.1.1.1",
        )
    ]
    + [
        (addresses(f"address: '{bad}'"), addresses("address: '2001:db8::10'"))
        for bad in (
            "fe80::7",
            "fd00:1::7",
            "ff02::5",
            "::1",
            "::ffff:9.8.7.6",
            "64:ff9b::1",
            "100::9",
        )
    ],
    "address-far-end": [
        (addresses("address: 203.0.113.1"), addresses("address: 203.0.113.200")),
    ],
    "address-twice": [
        (
            addresses("address: 192.0.2.10", more=pier("address: 192.0.2.10")),
            addresses("address: 192.0.2.10", more=pier("address: 192.0.2.11")),
        ),
        (
            addresses("address: 192.0.2.10", more=pier("address: 192.0.2.10, inside: 10.9.9.9")),
            addresses("address: 192.0.2.10", more=pier("address: 192.0.2.12, inside: 10.9.9.9")),
        ),
    ],
    "address-shared": [
        (
            addresses(
                "address: 192.0.2.10, inside: 10.9.9.8",
                more=pier("address: 192.0.2.10, inside: 10.9.9.9"),
            ),
            addresses(
                "address: 192.0.2.10, inside: 10.9.9.8",
                more=pier("address: 192.0.2.11, inside: 10.9.9.9"),
            ),
        ),
    ],
    "address-example": [
        (addresses("address: 9.8.7.6"), addresses("address: 9.8.7.6", "address: 9.8.7.7")),
    ],
}


@pytest.mark.parametrize("code", ADDRESSES)
def test_public_addresses_are_judged(code: str) -> None:
    for mistake, twin in ADDRESSES[code]:
        settled = settled_of(mistake)
        if code == "address-far-end":
            cloud = settled.clouds["apps"]
            mistake = mistake.replace("203.0.113.1,", f"{cloud.instances[0]},")
            gateway = (
                "  apps:\n",
                f"  apps:\n    gateway: {{addresses: [{cloud.instances[0]}, {cloud.instances[1]}]}}\n",
            )
            settled = settled_of(swap(gateway, text=mistake))
        assert code in {f.code for f in findings_of(settled)}, mistake
        assert code not in {f.code for f in findings_of(settled_of(twin))}, twin
