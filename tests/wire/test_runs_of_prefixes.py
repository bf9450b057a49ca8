"""Prefixes are taken apart the same one by one and in runs of one length, cut off anywhere."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obrin.core.address.prefix import Prefix
from obrin.wire.bgp.errors import BgpError
from obrin.wire.bgp.multiprotocol import decode_prefixes, encode_prefixes


def one_by_one(data: bytes, bits: int) -> list[Prefix] | None:
    """None where it is cut off, or a length cannot be."""
    found = []
    while data:
        length, octets = data[0], (data[0] + 7) // 8
        if length > bits or len(data) < 1 + octets:
            return None
        value = int.from_bytes(data[1 : 1 + octets].ljust(bits // 8, b"\0"), "big")
        found.append(Prefix(bits, value >> bits - length << bits - length, length))
        data = data[1 + octets :]
    return found


@st.composite
def runs(draw) -> tuple[int, bytes]:
    """With bits beyond the length set here and there."""
    bits, data = draw(st.sampled_from([32, 128])), b""
    for _ in range(draw(st.integers(0, 5))):
        length = draw(st.integers(0, bits) | st.sampled_from([8, 24, 56]))
        octets = (length + 7) // 8
        for _ in range(draw(st.sampled_from([1, 2, 3, 17, 90]))):
            data += bytes((length,)) + draw(st.binary(min_size=octets, max_size=octets))
    return bits, data


@given(runs(), st.integers(0, 20), st.binary(max_size=2))
def test_in_runs_as_one_by_one(made: tuple[int, bytes], cut: int, more: bytes) -> None:
    bits, data = made
    for text in (data, data[: max(len(data) - cut, 0)], data + more):
        wanted = one_by_one(text, bits)
        if wanted is None:
            with pytest.raises(BgpError, match="prefix"):
                decode_prefixes(text, bits)
        else:
            assert list(decode_prefixes(text, bits)) == wanted


@pytest.mark.parametrize("length", range(33))
def test_every_length_in_a_run(length: int) -> None:
    octets = (length + 7) // 8
    mask = (1 << 32) - (1 << 32 - length)
    meant = tuple(Prefix(32, (n * 0x01030507) & mask, length) for n in range(600))
    assert decode_prefixes(encode_prefixes(meant)) == meant
    if octets:
        with pytest.raises(BgpError, match=f"a prefix of {length} bits is cut off"):
            decode_prefixes(encode_prefixes(meant)[:-1])
