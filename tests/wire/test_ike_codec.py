"""IKE messages: there and back, cut short everywhere, unknown values kept, hostile bytes bounded."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obrin.core.ipsec.proposal import Proposal, Transform
from obrin.core.ipsec.registry import Kind, by_name
from obrin.core.ipsec.selectors import ANY_IPV4, Selector
from obrin.core.ipsec.suite import SHIPPED
from obrin.wire.esp import key_lengths
from obrin.wire.ike.codec.errors import IkeFormatError
from obrin.wire.ike.codec.fragments import encode_message
from obrin.wire.ike.codec.message import (
    decode_header,
    decode_inside,
    encode_plain,
    make_cipher,
    open_protected,
)
from obrin.wire.ike.codec.numbers import Notify, PayloadType
from obrin.wire.ike.codec.payloads import (
    Auth,
    Delete,
    Id,
    Ke,
    Nonce,
    NotifyPayload,
    Ts,
    Unknown,
    decode_chain,
    encode_chain,
)
from obrin.wire.ike.codec.sa_payload import Sa
from obrin.wire.ike.config import Identity
from tests.doubles import seeded

V6 = Selector(128, 0x20010DB8 << 96, (0x20010DB8 << 96) + 255, 6, 443, 443)
CASES = [
    Sa((SHIPPED["high"].ike.proposal(), SHIPPED["wide"].ike.proposal())),
    Sa((Proposal(3, SHIPPED["wide"].esp.proposal(with_group=True).transforms, 2, b"\1\2\3\4"),)),
    Sa((Proposal(9, (Transform(99, 4711), Transform(1, 65000, 512))),)),
    Ke(31, b"p" * 32),
    Nonce(b"n" * 32),
    Id(PayloadType.IDI, 1, b"\xc0\x00\x02\x0a"),
    Id(PayloadType.IDR, 2, b"gateway.example"),
    Auth(2, b"a" * 32),
    NotifyPayload(16393, b"", 3, b"\1\2\3\4"),
    NotifyPayload(55555, b"data"),
    Delete(1),
    Delete(3, (b"\1\2\3\4", b"\5\6\7\10")),
    Ts(PayloadType.TSI, (ANY_IPV4, V6)),
    Unknown(200, False, b"whatever"),
]


@pytest.mark.parametrize("payload", CASES, ids=lambda p: type(p).__name__)
def test_a_payload_comes_back(payload) -> None:
    first, chain = encode_chain([payload])
    assert first == payload.kind
    assert decode_chain(first, chain) == [payload]


def test_a_chain_of_all_comes_back() -> None:
    first, chain = encode_chain(CASES)
    assert decode_chain(first, chain) == CASES


@pytest.mark.parametrize("payload", CASES, ids=lambda p: type(p).__name__)
def test_cut_short_or_trailing_is_refused(payload) -> None:
    first, chain = encode_chain([payload])
    for size in range(len(chain)):
        with pytest.raises(IkeFormatError):
            decode_chain(first, chain[:size])
    with pytest.raises(IkeFormatError, match="left over"):
        decode_chain(first, chain + b"\0")


@pytest.mark.parametrize(
    ("kind", "body", "words"),
    [
        (PayloadType.KE, b"1234", "without a public value"),
        (PayloadType.NONCE, b"n" * 15, "a nonce of 15 bytes"),
        (PayloadType.NONCE, b"n" * 257, "a nonce of 257 bytes"),
        (PayloadType.IDI, b"123", "without a type"),
        (PayloadType.AUTH, b"123", "without a method"),
        (PayloadType.NOTIFY, b"\1\4\0\1abc", "shorter than its SPI"),
    ],
)
def test_payloads_too_short_for_what_they_say(kind: int, body: bytes, words: str) -> None:
    with pytest.raises(IkeFormatError, match=words):
        decode_chain(kind, bytes(2) + (len(body) + 4).to_bytes(2, "big") + body)


def test_selectors_of_an_unknown_type_are_passed_over() -> None:
    """RFC 7296 section 3.13.1 has two types; others are nobody's."""
    first, chain = encode_chain([Ts(PayloadType.TSI, (ANY_IPV4, V6))])
    strange = bytearray(chain)
    strange[8] = 9
    (payload,) = decode_chain(first, bytes(strange))
    assert payload.selectors == (V6,)


@pytest.mark.parametrize("text", ["192.0.2.1", "2001:db8::1", "gateway.example"])
def test_identities_are_read_as_they_are_written(text: str) -> None:
    assert str(Identity.of(text)) == text
    assert Identity.of("2001:db8::1").kind == 5


def test_unknown_critical_payload_names_its_notify() -> None:
    first, chain = encode_chain([Unknown(200, True, b"x")])
    with pytest.raises(IkeFormatError) as error:
        decode_chain(first, chain)
    assert error.value.notify is Notify.UNSUPPORTED_CRITICAL_PAYLOAD


def test_too_many_payloads_are_refused() -> None:
    first, chain = encode_chain([Nonce(b"n" * 16)] * 65)
    with pytest.raises(IkeFormatError, match="more than 64"):
        decode_chain(first, chain)


def test_a_chain_that_points_at_itself_ends() -> None:
    with pytest.raises(IkeFormatError):
        decode_chain(PayloadType.NONCE, bytes((PayloadType.NONCE, 0, 0, 0)) * 8)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda m: m[:20], "shorter than"),
        (lambda m: m[:17] + b"\x30" + m[18:], "major version 3"),
        (lambda m: m + b"\0", "claims"),
        (lambda m: m[:24] + b"\0\0\0\1" + m[28:], "claims"),
    ],
)
def test_headers_that_do_not_hold(change, words: str) -> None:
    message = encode_plain(b"i" * 8, bytes(8), 34, 8, 0, [Nonce(b"n" * 16)])
    with pytest.raises(IkeFormatError, match=words):
        decode_header(change(message))


def ciphers():
    found = []
    for name, mac in (
        ("AES-GCM-16-256", None),
        ("CHACHA20-POLY1305", None),
        ("AES-CBC-256", "HMAC-SHA2-256-128"),
        ("AES-CBC-128", "HMAC-SHA1-96"),
        ("AES-CBC-256", "HMAC-SHA2-384-192"),
        ("AES-CBC-256", "HMAC-SHA2-512-256"),
    ):
        cipher = by_name(Kind.ENCRYPTION, name)
        integrity = None if mac is None else by_name(Kind.INTEGRITY, mac)
        e, i = key_lengths(cipher, integrity)
        found.append(
            [make_cipher(cipher, integrity, b"k" * e, b"i" * i, seeded(n)) for n in (1, 2)]
        )
    return found


def opened(cipher, datagram: bytes, header):
    return decode_inside(*open_protected(cipher, datagram, header))


@pytest.mark.parametrize("which", range(6))
def test_protected_messages_come_back_and_notice_every_bit(which: int) -> None:
    seal, open_ = ciphers()[which]
    for payloads in ([], [Nonce(b"n" * 16)], [NotifyPayload(7), Delete(1)]):
        message = encode_message(seal, b"i" * 8, b"r" * 8, 37, 8, 3, payloads, None)[0]
        header = decode_header(message)
        assert opened(open_, message, header) == payloads
    for position in range(28, len(message)):
        broken = bytearray(message)
        broken[position] ^= 1
        with pytest.raises(IkeFormatError):
            opened(open_, bytes(broken), header)


@given(st.integers(0, 255), st.binary(max_size=300))
def test_hostile_chains_raise_only_format_errors(first: int, data: bytes) -> None:
    try:
        decode_chain(first, data)
    except IkeFormatError:
        pass


@given(st.data())
def test_damaged_chains_raise_only_format_errors(data) -> None:
    first, chain = encode_chain(CASES)
    damaged = bytearray(chain)
    for position in data.draw(st.lists(st.integers(0, len(chain) - 1), min_size=1, max_size=6)):
        damaged[position] = data.draw(st.integers(0, 255))
    try:
        decode_chain(first, bytes(damaged))
    except IkeFormatError:
        pass


@given(st.binary(min_size=28, max_size=200))
def test_hostile_protected_messages_raise_only_format_errors(data: bytes) -> None:
    for _, open_ in ciphers():
        try:
            header = decode_header(data[:24] + len(data).to_bytes(4, "big") + data[28:])
            opened(open_, data, header)
        except IkeFormatError:
            pass
