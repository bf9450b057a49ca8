"""IPv6 prefix translation by RFC 6296: there and back, and no sum changes."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obrin.core.address.neutral import translated
from obrin.core.address.prefix import Address, Prefix, parse_address, parse_prefix
from obrin.core.address.translation import Exposure
from obrin.wire.packet import UDP, Packet, Udp
from obrin.wire.readdress import readdress
from tests.doubles import in_family

lengths = st.integers(16, 112)
ENDS = st.tuples(in_family(128), in_family(128), in_family(128), lengths)


def words(address: Address) -> list[int]:
    return [address.value >> shift & 0xFFFF for shift in range(112, -1, -16)]


def test_the_example_of_the_rfc() -> None:
    """Section 3.6: FD01:0203:0405:0001::1234 is 2001:0DB8:0001:D550::1234 outside."""
    inside, outside = parse_prefix("fd01:203:405::/48"), parse_prefix("2001:db8:1::/48")
    host, known = parse_address("fd01:203:405:1::1234"), parse_address("2001:db8:1:d550::1234")
    assert translated(host, inside, outside) == known
    assert translated(known, outside, inside) == host


@given(ENDS)
def test_every_address_comes_back_and_no_sum_changes(ends) -> None:
    host, other, far, length = ends
    real, seen = (Prefix(*a, 128).widened(length) for a in (host, other))
    known = translated(host, real, seen)
    assert seen.holds(known)
    free = words(host)[3:4] if length <= 48 else words(host)[-(-length // 16) :]
    if all(word == 0xFFFF for word in free):
        return  # nothing could make up for it
    assert sum(words(known)) % 0xFFFF == sum(words(host)) % 0xFFFF
    back = translated(known, seen, real)
    assert [w % 0xFFFF for w in words(back)] == [w % 0xFFFF for w in words(host)]
    segment = Udp(1000, 53, b"name").encode(host, far)
    moved = readdress(Packet(host, far, UDP, segment), known, far)
    same = int.from_bytes(segment[6:8], "big") % 0xFFFF
    assert int.from_bytes(moved.payload[6:8], "big") % 0xFFFF == same


@given(in_family(128), in_family(128), st.integers(48, 64), st.integers(64, 128))
def test_a_part_of_a_network_stays_one(host: Address, other: Address, length: int, inner: int):
    real, seen = (Prefix(*a, 128).widened(length) for a in (host, other))
    part = Prefix(*host, 128).widened(inner)
    exposure = Exposure("desks", real, seen)
    known = exposure.outward_prefix(part)
    assert (known.length, seen.covers(known)) == (inner, True)


@pytest.mark.parametrize("length", [48, 64])
def test_sizes_must_be_alike(length: int) -> None:
    with pytest.raises(Exception, match="not as large"):
        Exposure("x", parse_prefix(f"fd00::/{length}"), parse_prefix("2001:db8::/56"))
