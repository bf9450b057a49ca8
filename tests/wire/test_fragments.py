"""IKE messages in fragments (RFC 7383): what is cut comes together, whatever the network does."""

from __future__ import annotations

import random
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from obrin.wire.ike.codec.errors import IkeFormatError, IkeNotAuthentic
from obrin.wire.ike.codec.fragments import (
    AROUND_IPV4,
    MOST,
    SMALLEST,
    USUAL,
    Assembly,
    encode_message,
    number_of,
)
from obrin.wire.ike.codec.message import HEADER_SIZE, decode_header, decode_inside
from obrin.wire.ike.codec.numbers import PayloadType
from obrin.wire.ike.codec.payloads import Cert, Nonce, Payload
from tests.authority import Made
from tests.doubles import CLOUD, IP_AND_UDP, SITE, Net, pair
from tests.wire.test_ike_codec import ciphers

AUTHORITY = Made("rsa")


def cut(cipher, payloads: list[Payload], limit: int | None):
    return encode_message(cipher, b"i" * 8, b"r" * 8, 35, 8, 1, payloads, limit)


def taken(cipher, message) -> Assembly:
    assembly = Assembly()
    for datagram in message:
        assembly.take(cipher, datagram, decode_header(datagram))
    return assembly


@settings(max_examples=60)
@given(st.integers(0, 6000), st.integers(SMALLEST, 1500), st.integers(0, 5), st.randoms())
def test_every_size_comes_together_in_any_order(size, limit, which, rng) -> None:
    seal, open_ = ciphers()[which]
    payloads = [Cert(PayloadType.CERT, 4, bytes(size)), Nonce(b"n" * 32)]
    message = cut(seal, payloads, limit)
    assert all(len(datagram) + AROUND_IPV4 <= limit for datagram in message)
    whole = cut(seal, payloads, None)
    assert len(whole) == 1
    if len(message) == 1:
        assert decode_header(message[0]).next_payload == PayloadType.SK
        return
    assert len(whole[0]) + AROUND_IPV4 > limit - 32  # nothing is cut without need
    arriving = [*message, rng.choice(message)]
    rng.shuffle(arriving)
    assembly = taken(open_, arriving)
    assert assembly.whole
    assert decode_inside(assembly.first, assembly.plain()) == payloads
    assert [number_of(d, decode_header(d)) for d in message] == list(range(1, len(message) + 1))


@pytest.mark.parametrize("which", range(6))
def test_no_bit_of_a_fragment_can_be_changed(which: int) -> None:
    seal, open_ = ciphers()[which]
    message = cut(seal, [Cert(PayloadType.CERT, 4, bytes(900))], SMALLEST)
    for position in range(HEADER_SIZE, len(message[0])):
        broken = bytearray(message[0])
        broken[position] ^= 1
        assembly = Assembly()
        with pytest.raises(IkeFormatError):
            assembly.take(open_, bytes(broken), decode_header(message[0]))
        assert (assembly.total, assembly.parts) == (0, {})


def test_a_message_that_is_cut_smaller_begins_anew_and_the_late_pieces_do_not_count() -> None:
    seal, open_ = ciphers()[0]
    payloads = [Cert(PayloadType.CERT, 4, bytes(range(256)) * 12)]
    large, small = cut(seal, payloads, USUAL), cut(seal, payloads, SMALLEST)
    assembly = taken(open_, [*large[:-1], *small[:2]])
    assert assembly.total == len(small) > len(large)
    with pytest.raises(IkeNotAuthentic, match="late"):
        assembly.take(open_, large[-1], decode_header(large[-1]))
    for datagram in small[2:]:
        assembly.take(open_, datagram, decode_header(datagram))
    assert decode_inside(assembly.first, assembly.plain()) == payloads


def test_more_fragments_than_anybody_needs_are_refused() -> None:
    seal, open_ = ciphers()[0]
    message = cut(seal, [Cert(PayloadType.CERT, 4, bytes(500 * (MOST + 2)))], SMALLEST)
    with pytest.raises(IkeNotAuthentic, match=f"fragment 1 of {len(message)} cannot be one"):
        taken(open_, message)


def certified(most: int, *, fragments: bool = True, loss: float = 0.0, seed: int = 7) -> Net:
    """Two ends with long chains, on a path that carries packets of up to `most` bytes."""
    ends = pair(fragmentation=fragments)
    for end, name in zip(ends, (SITE, CLOUD), strict=True):
        tunnel = end.tunnels["t"]
        credential = AUTHORITY.credential(name)
        tunnel.config = replace(tunnel.config, key=b"", credential=credential)
    net = Net(*ends, loss=loss, seed=seed)
    net.most = most
    for end in ends:
        end.start(0.0)
    return net


@pytest.mark.parametrize("most", [SMALLEST, 900, USUAL, 1500])
def test_certificates_cross_a_path_that_drops_what_is_larger(most: int) -> None:
    net = certified(most)
    net.run(14.0)
    assert net.names(0) == net.names(1) == ["IkeUp", "ChildUp"]
    small = [d for d in net.sent if len(d.data) + IP_AND_UDP <= most]
    assert len(small) > 4
    net.ends[0].tunnels["t"].rekey_ike(net.now)
    net.run(20.0)
    assert net.names(0)[-1] == "IkeUp"
    assert net.ends[0].tunnels["t"].current.fragments


def test_without_fragments_they_do_not() -> None:
    net = certified(USUAL, fragments=False)
    net.run(14.0)
    assert "IkeUp" not in net.names(0)
    assert certified(65535, fragments=False).ends


def test_one_end_alone_sends_none() -> None:
    ends = pair()
    one = ends[1].tunnels["t"]
    one.config = replace(one.config, fragmentation=False)
    net = Net(*ends)
    net.ends[0].start(0.0)
    net.run(2.0)
    assert not net.ends[0].tunnels["t"].current.fragments


@pytest.mark.parametrize("seed", range(8))
def test_fragments_survive_loss(seed: int) -> None:
    net = certified(SMALLEST, loss=0.2, seed=seed)
    net.run(60.0)
    net.calm()
    net.run(120.0)
    assert net.ends[0].tunnels["t"].established
    assert net.ends[1].tunnels["t"].established


def test_repeated_fragments_get_one_answer() -> None:
    """All pieces of a request again: it is answered once, and nothing is done twice."""
    net = certified(USUAL)
    net.run(5.0)
    asked = [d for d in net.sent if d.source[0] == SITE and is_fragment(d.data)]
    answers = [d for d in net.sent if d.source[0] == CLOUD and is_fragment(d.data)]
    assert len(asked) > 1
    before = len(net.sent)
    random.Random(3).shuffle(asked)
    for datagram in asked:
        net.inject(1, datagram)
    again = net.ends[1].datagrams()
    assert [d.data for d in again] == [d.data for d in answers]
    assert len(net.sent) == before


def is_fragment(data: bytes) -> bool:
    return decode_header(data.removeprefix(bytes(4))).next_payload == PayloadType.SKF
