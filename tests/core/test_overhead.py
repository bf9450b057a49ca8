"""ESP sizes against packets that were really built."""

from __future__ import annotations

import pytest

from obrin.core.address.prefix import Address
from obrin.core.ipsec.overhead import EspShape, Wrapping
from obrin.core.ipsec.registry import ALGORITHMS, Kind, by_name
from obrin.core.ipsec.suite import SHIPPED, EspSuite, Suite, make_suite
from obrin.wire.esp import EspKeys, key_lengths, make_sealer
from obrin.wire.packet import ESP, UDP, Packet, Udp
from tests.doubles import seeded

SUITES = (
    [*SHIPPED.values()]
    + [
        make_suite(
            f"gcm-{bits}", encryption=f"AES-GCM-16-{bits}", prf="PRF-HMAC-SHA2-256", group="19"
        )
        for bits in (128, 192, 256)
    ]
    + [
        make_suite(
            f"cbc-{bits}",
            encryption=f"AES-CBC-{bits}",
            integrity="HMAC-SHA2-256-128",
            prf="PRF-HMAC-SHA2-256",
            group="19",
            esn=bits != 192,
        )
        for bits in (128, 192, 256)
    ]
    + [
        make_suite(
            mac,
            encryption="AES-CBC-256",
            integrity=mac,
            prf="PRF-HMAC-SHA2-512",
            group="21",
        )
        for mac in ("HMAC-SHA1-96", "HMAC-SHA2-384-192", "HMAC-SHA2-512-256")
    ]
    + [make_suite("chacha", encryption="CHACHA20-POLY1305", prf="PRF-HMAC-SHA2-256", group="31")]
)


def built(suite: Suite, inner: int, *, encapsulated: bool, bits: int) -> int:
    """The size of a packet that the wire engine made."""
    esp = suite.esp
    lengths = key_lengths(esp.encryption, esp.integrity)
    rng = seeded(3)
    keys = EspKeys(rng(lengths[0]), rng(lengths[1]))
    sealer = make_sealer(7, esp.encryption, esp.integrity, keys, esn=esp.esn, rng=rng)
    data = sealer.seal(bytes(inner))
    ends = Address(bits, 1), Address(bits, 2)
    if encapsulated:
        return len(Packet(*ends, UDP, Udp(4500, 4500, data).encode(*ends)).encode())
    return len(Packet(*ends, ESP, data).encode())


@pytest.mark.parametrize("suite", SUITES, ids=lambda s: s.name)
@pytest.mark.parametrize("encapsulated", [False, True])
@pytest.mark.parametrize("bits", [32, 128])
def test_sizes_equal_those_of_packets_actually_built(
    suite: Suite, encapsulated: bool, bits: int
) -> None:
    wrapping = Wrapping(EspShape.of(suite.esp), bits, encapsulated)
    for inner in (*range(20, 90), 576, 1279, 1280, 1399, 1400, 1438, 1500):
        made = built(suite, inner, encapsulated=encapsulated, bits=bits)
        assert wrapping.outer_size(inner) == made


@pytest.mark.parametrize("suite", SUITES, ids=lambda s: s.name)
@pytest.mark.parametrize("mtu", [576, 1280, 1400, 1454, 1492, 1500, 9000])
@pytest.mark.parametrize("outer", [32, 128])
@pytest.mark.parametrize("encapsulated", [False, True])
def test_the_inner_mtu_is_the_largest_that_fits(suite, mtu, outer, encapsulated) -> None:
    wrapping = Wrapping(EspShape.of(suite.esp), outer, encapsulated, mtu)
    most = wrapping.inner_mtu()
    assert wrapping.outer_size(most) <= mtu < wrapping.outer_size(most + 1)
    assert wrapping.mss(32) == most - 40
    assert wrapping.mss(128) == (most - 60 if most >= 1280 else 0)
    assert 0 < wrapping.efficiency() < 1


def test_known_figures() -> None:
    # AES-GCM-16 over plain IPv4, 1,500 bytes: 20 + 8 + 8 + 16 fixed, 1,448 left, minus 2.
    plain = Wrapping(EspShape.of(SHIPPED["modern"].esp))
    assert (plain.inner_mtu(), plain.mss(32), plain.mss(128)) == (1446, 1406, 1386)
    # AES-CBC with HMAC-SHA2-256-128, UDP, PPPoE: 20 + 8 + 8 + 16 + 16 = 68, 1,424 = 89 blocks.
    cbc = Wrapping(EspShape.of(SHIPPED["wide"].esp), 32, True, 1492)
    assert (cbc.inner_mtu(), cbc.mss(32)) == (1422, 1382)
    assert Wrapping(EspShape.of(SHIPPED["wide"].esp), mtu=60).inner_mtu() == 0


@pytest.mark.parametrize(
    ("encryption", "integrity", "shape"),
    [
        ("3DES", "HMAC-SHA1-96", (8, 8, 12)),
        ("AES-CBC-256", "HMAC-SHA2-512-256", (16, 16, 32)),
        ("AES-CTR-128", "AES-XCBC-96", (8, 4, 12)),
        ("NULL", "HMAC-SHA2-256-128", (0, 4, 16)),
        ("AES-CCM-8-128", None, (8, 4, 8)),
        ("CAMELLIA-CBC-256", "HMAC-SHA1-96", (16, 16, 12)),
        ("CHACHA20-POLY1305", None, (8, 4, 16)),
        ("AES-GCM-16-256", None, (8, 4, 16)),
    ],
)
def test_sizes_of_what_the_wire_engines_do_not_speak(encryption, integrity, shape) -> None:
    esp = EspSuite(
        by_name(Kind.ENCRYPTION, encryption),
        by_name(Kind.INTEGRITY, integrity) if integrity else None,
        None,
        True,
        3600.0,
    )
    assert EspShape.of(esp) == EspShape(*shape)


def test_every_algorithm_that_can_be_named_has_a_size() -> None:
    for cipher in (a for a in ALGORITHMS if a.kind is Kind.ENCRYPTION):
        for integrity in (a for a in ALGORITHMS if a.kind is Kind.INTEGRITY):
            made = EspSuite(cipher, None if cipher.combined else integrity, None, True, 60.0)
            assert EspShape.of(made).icv >= 8
