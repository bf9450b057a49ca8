"""The registry, and what an organisation asks beyond the standards."""

from __future__ import annotations

from dataclasses import replace

import pytest

from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.check.whole import check
from obrin.core.errors import DesignError
from obrin.core.handover.secrets import Secrets
from obrin.core.ipsec.policy import CryptoPolicy, outdated
from obrin.core.ipsec.registry import ALGORITHMS, Kind, Standing, by_name, by_number
from obrin.core.ipsec.suite import SHIPPED
from tests.doubles import design_of, settled_of, swap

OLD = """suites:
  island:
    ike-version: 1
    ike: {encryption: AES-CBC-256, integrity: HMAC-SHA2-256-128, prf: PRF-HMAC-SHA2-256, group: 19}
    esp: {encryption: AES-CBC-256, integrity: HMAC-SHA2-256-128, pfs: 19}
"""


def test_every_entry_is_found_by_its_name_and_by_its_numbers() -> None:
    assert len({(a.kind, a.name) for a in ALGORITHMS}) == len(ALGORITHMS)
    for entry in ALGORITHMS:
        assert by_name(entry.kind, entry.name.lower().replace("-", "_")) is entry
        assert by_number(entry.kind, entry.number, entry.key_bits) is entry


@pytest.mark.parametrize(
    ("kind", "name", "number", "standing"),
    [
        # RFC 8247 sections 2.1 to 2.4, RFC 8221 sections 5 and 6, RFC 9395 section 4.
        (Kind.ENCRYPTION, "AES-CBC-256", 12, "must"),
        (Kind.ENCRYPTION, "AES-GCM-16-128", 20, "must"),
        (Kind.ENCRYPTION, "CHACHA20-POLY1305", 28, "should"),
        (Kind.ENCRYPTION, "AES-CCM-8-128", 14, "should"),
        (Kind.ENCRYPTION, "DES", 2, "must not"),
        (Kind.ENCRYPTION, "BLOWFISH", 7, "must not"),
        (Kind.PRF, "PRF-HMAC-SHA2-256", 5, "must"),
        (Kind.PRF, "PRF-HMAC-MD5", 1, "must not"),
        (Kind.PRF, "PRF-HMAC-TIGER", 3, "must not"),
        (Kind.INTEGRITY, "HMAC-SHA2-256-128", 12, "must"),
        (Kind.INTEGRITY, "HMAC-MD5-96", 1, "must not"),
        (Kind.GROUP, "MODP-2048", 14, "must"),
        (Kind.GROUP, "ECP-256", 19, "should"),
        (Kind.GROUP, "MODP-1024", 2, "should not"),
        (Kind.GROUP, "MODP-768", 1, "must not"),
        (Kind.GROUP, "MODP-1024-S160", 22, "must not"),
        (Kind.GROUP, "CURVE448", 32, "may"),
    ],
)
def test_numbers_and_standing_are_those_of_the_documents(kind, name, number, standing) -> None:
    found = by_name(kind, name)
    assert (found.number, found.standing) == (number, Standing(standing))


@pytest.mark.parametrize(
    ("policy", "suite", "words"),
    [
        (CryptoPolicy(), "wide", None),
        (CryptoPolicy(least_strength=128), "wide", "weaker than 128 bits: MODP-2048 (112 bits)"),
        (CryptoPolicy(least_strength=128), "modern", None),
        (CryptoPolicy(forbid=frozenset({"AES-CBC-256"})), "wide", "forbidden: AES-CBC-256"),
        (CryptoPolicy(require=frozenset({"ESN"})), "wide", "required and not used: ESN"),
        (CryptoPolicy(longest_ike=3600), "high", "IKE SA lives 28800 s, longer than 3600 s"),
        (CryptoPolicy(longest_child=60), "high", "child SA lives 3600 s"),
        (CryptoPolicy(pfs=True), "high", None),
        (CryptoPolicy(pfs=True), "bare", "no perfect forward secrecy"),
    ],
)
def test_breaches_are_named(policy: CryptoPolicy, suite: str, words: str | None) -> None:
    bare = replace(SHIPPED["high"], esp=replace(SHIPPED["high"].esp, group=None))
    tried = SHIPPED.get(suite, bare)
    found = list(policy.breaches(tried))
    assert policy.allows(tried) is (words is None)
    assert words is None or words in found[0]


def test_settle_keeps_to_the_policy_before_it_looks_for_strength() -> None:
    assert settled_of().links["quay-apps"].suite.name == "high"
    text = swap(("obrin: 1", "obrin: 1\npolicy: {forbid: [ECP-384], least-strength: 128}"))
    assert settled_of(text).links["quay-apps"].suite.name == "modern"


def test_a_suite_for_an_old_ike_is_taken_last_and_told() -> None:
    text = swap(
        ("obrin: 1", f"obrin: 1\n{OLD}"),
        ("        uplinks:", "        offers: [island, wide]\n        uplinks:"),
    )
    text = text.replace("  apps:\n", "  apps:\n    gateway: {offers: [island, wide]}\n")
    settled = settled_of(text)
    assert settled.links["quay-apps"].suite.name == "wide"
    forced = text.replace("    bgp: {hold", "    suite: island\n    bgp: {hold")
    settled = settled_of(forced)
    assert outdated(settled.links["quay-apps"].suite)
    codes = {f.code for f in check(settled, PRACTICE_CLOUD, Secrets())}
    assert {"ike-version", "suite-not-practised"} <= codes


def test_names_in_a_policy_must_be_known() -> None:
    with pytest.raises(DesignError, match="Did you mean 'AES-CBC-256'"):
        design_of(swap(("obrin: 1", "obrin: 1\npolicy: {forbid: [AES-CBC-265]}")))
