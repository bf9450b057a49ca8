"""Words, numbers and limits of the IPsec vocabulary, each at its edge."""

from __future__ import annotations

from dataclasses import replace

import pytest

from obrin.core.address.prefix import Address, parse_prefix
from obrin.core.ipsec.compose import compose, parse_spelled, spell
from obrin.core.ipsec.ends import End
from obrin.core.ipsec.liveness import Liveness
from obrin.core.ipsec.offers import FIRST_SHARE, JITTER, SECOND_SHARE, lifetime
from obrin.core.ipsec.policy import CryptoPolicy
from obrin.core.ipsec.profile import Phase, Profile
from obrin.core.ipsec.proposal import Proposal, Transform, choose
from obrin.core.ipsec.registry import ALGORITHMS, Algorithm, Kind, by_name
from obrin.core.ipsec.selectors import Selector
from obrin.core.ipsec.suite import SHIPPED
from tests.core.test_predictions import OLD, ONE


def by_kind(kind: Kind) -> tuple[Algorithm, ...]:
    return tuple(a for a in ALGORITHMS if a.kind is kind)


def test_waits_double_and_lifetimes_are_spread() -> None:
    """RFC 7296 section 2.8: the one who offered moves first; jitter keeps many from moving at once."""
    assert [Liveness(10, 1.5, 4).wait_after(n) for n in (1, 2, 3)] == [1.5, 3.0, 6.0]
    for first, share in ((True, FIRST_SHARE), (False, SECOND_SHARE)):
        for byte in (0, 255):
            life = lifetime(1000, first_mover=first, nonce=bytes([byte]))
            assert life.rekey == pytest.approx(1000 * (share + byte / 255 * JITTER))
            assert life.hard == 1000
    assert FIRST_SHARE + JITTER < SECOND_SHARE


@pytest.mark.parametrize(
    ("transform", "words"),
    [
        (Transform(1, 9999, 192), "type 1 number 9999 with 192-bit key"),
        (
            Transform(4, 9999, None, ((0x800F, b"\0\1"),)),
            "type 4 number 9999 with unknown attribute 15",
        ),
    ],
)
def test_what_the_registry_does_not_have_is_called_by_its_numbers(transform, words: str) -> None:
    assert str(transform) == f"transform {words}"


def test_proposals_of_another_protocol_are_passed_over() -> None:
    own = Proposal(3, (Transform(1, 20, 256), Transform(5, 0)))
    other = replace(own, protocol=1)
    assert choose((own,), (other,)) is None
    assert choose((own,), (other, own)) is not None


def test_ends_offer_what_belongs_to_the_version() -> None:
    both = replace(ONE, suites=(OLD, SHIPPED["high"]))
    assert [both.speaking(version).suites for version in (1, 2)] == [(OLD,), (SHIPPED["high"],)]
    assert isinstance(both, End)


@pytest.mark.parametrize(
    "text", ["", "one; two", "IKEv9 AES; AES", "IKEv2 AES-CBC-256; x", "a;b;c"]
)
def test_what_does_not_spell_a_suite(text: str) -> None:
    with pytest.raises(ValueError, match=r"spell|unpack|algorithm|values"):
        parse_spelled("x", text)


def test_spelled_suites_come_back() -> None:
    for suite in (OLD, *SHIPPED.values()):
        assert parse_spelled(suite.name, spell(suite)) == suite


@pytest.mark.parametrize("kind", [k for k in Kind if k.name in ("ENCRYPTION", "GROUP")])
def test_registry_entries_are_shown_by_their_names(kind: Kind) -> None:
    assert all(str(a) == a.name for a in ALGORITHMS if a.kind is kind)


def test_selectors_hold_their_range() -> None:
    selector = Selector.of(parse_prefix("10.0.0.0/30"))
    held = [selector.holds(Address(32, 0x0A000000 + n)) for n in (-1, 0, 3, 4)]
    assert held == [False, True, True, False]
    assert not selector.holds(Address(128, 0x0A000001))


NOTHING = {
    "sequence numbers": (Profile(name="a", esn=(True,)), Profile(name="b", esn=(False,))),
    "PFS": (Profile(name="a", pfs="required"), Profile(name="b", pfs="never")),
    "versions": (Profile(name="a", versions=(1,)), Profile(name="b", versions=(2,))),
    "groups": (
        Profile(name="a", ike=Phase(groups=by_kind(Kind.GROUP)[:1])),
        Profile(name="b", ike=Phase(groups=by_kind(Kind.GROUP)[1:2])),
    ),
    "groups for PFS": (
        Profile(name="a", pfs="required", esp=Phase(groups=by_kind(Kind.GROUP)[:1])),
        Profile(name="b", esp=Phase(groups=by_kind(Kind.GROUP)[1:2])),
    ),
}


@pytest.mark.parametrize("what", NOTHING)
def test_nothing_is_composed_of_devices_that_exclude_each_other(what: str) -> None:
    one, two = NOTHING[what]
    assert compose("x", [one, two], CryptoPolicy()) is None
    assert compose("x", [one, one], CryptoPolicy()) is not None


@pytest.mark.parametrize(
    ("kind", "name", "meant"),
    [
        (Kind.INTEGRITY, "SHA2-256", "did you mean HMAC-SHA2-256-128 or HMAC-SHA2-512-256?"),
        (Kind.ENCRYPTION, "AES256", "did you mean AES-CBC-256 or AES-CCM-8-256 or AES-GCM-16-256?"),
        (Kind.PRF, "sha256", "did you mean PRF-HMAC-SHA2-256?"),
        (Kind.ENCRYPTION, "twofish", "known: AES-CBC-128, "),
        (Kind.GROUP, "?", "and more that are seldom right"),
    ],
)
def test_a_name_that_is_nearly_right_is_answered_with_what_may_be_meant(kind, name, meant) -> None:
    with pytest.raises(KeyError) as raised:
        by_name(kind, name)
    assert meant in raised.value.args[0]
    assert len(raised.value.args[0]) < 220
