"""Prefixes, tables and allocation, against the standard library and against brute force."""

from __future__ import annotations

import ipaddress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obrin.core.address.prefix import (
    Address,
    Prefix,
    format_address,
    host_prefix,
    parse_address,
    parse_prefix,
)
from obrin.core.address.space import length_for
from obrin.core.address.table import PrefixTable
from obrin.core.errors import AddressError

P = parse_prefix


def prefixes(bits: int = 32, low: int = 0):
    return st.builds(
        lambda v, n: Prefix(bits, v >> (bits - n) << (bits - n), n),
        st.integers(0, 2**bits - 1),
        st.integers(low, bits),
    )


@given(prefixes() | prefixes(128))
def test_text_is_what_the_standard_library_writes(prefix: Prefix) -> None:
    network = ipaddress.ip_network((prefix.value, prefix.length))
    if prefix.bits == 128:
        network = ipaddress.IPv6Network((prefix.value, prefix.length))
    assert str(prefix) == str(network)
    assert parse_prefix(str(prefix)) == prefix
    assert prefix.size == network.num_addresses


@given(st.integers(0, 2**128 - 1))
def test_every_ipv6_address_comes_back(value: int) -> None:
    text = str(ipaddress.IPv6Address(value))
    assert format_address(value, 128) == text
    assert parse_address(ipaddress.IPv6Address(value).exploded) == (128, value)


@given(prefixes(low=20), prefixes(low=20))
def test_relations_are_those_of_sets(one: Prefix, two: Prefix) -> None:
    a, b = ipaddress.ip_network(str(one)), ipaddress.ip_network(str(two))
    assert one.overlaps(two) == a.overlaps(b)
    assert one.covers(two) == b.subnet_of(a)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("10.0.0.1/8", "either the network 10.0.0.0/8 or the single address 10.0.0.1/32"),
        ("10.0.0.0", "has no prefix length"),
        ("10.0.0.0/33", "from 0 to 32"),
        ("10.0.0.0/x", "from 0 to 32"),
        ("010.0.0.0/8", "leading zero"),
        ("10.0.0/8", "four numbers"),
        ("10.0.0.256/32", "larger than 255"),
        ("10.0.0.99999999999999/32", "larger than 255"),
        ("2001:db8::1::/64", "only once"),
        ("2001:db8:/32", "hexadecimal"),
        ("1:2:3/64", "eight groups"),
        ("2001:db8::5/64", "either the network 2001:db8::/64"),
        ("", "no prefix length"),
        ("a.b.c.d/8", "not a number"),
    ],
)
def test_bad_prefixes_say_what_is_wrong(text: str, words: str) -> None:
    with pytest.raises(AddressError, match=words.replace("(", r"\(")):
        parse_prefix(text)


@given(st.text(max_size=30))
def test_any_text_raises_only_address_errors(text: str) -> None:
    for parse in (parse_prefix, host_prefix):
        try:
            parse(text)
        except AddressError:
            pass


@given(st.dictionaries(prefixes(low=24), st.integers(), max_size=30), st.integers(0, 2**32 - 1))
def test_longest_match_is_brute_force(entries: dict[Prefix, int], address: int) -> None:
    table: PrefixTable[int] = PrefixTable()
    for prefix, value in entries.items():
        table[prefix] = value
    for probe in [address, *(p.value for p in entries)]:
        covering = [p for p in entries if p.contains(probe)]
        best = max(covering, key=lambda p: p.length, default=None)
        assert table.match(Address(32, probe)) == (None if best is None else (best, entries[best]))
    assert dict(table.items()) == entries
    assert len(table) == len(entries)
    for prefix in entries:
        del table[prefix]
        assert table.get(prefix) is None


@pytest.mark.parametrize(("count", "length"), [(1, 32), (2, 31), (3, 30), (256, 24), (257, 23)])
def test_length_for_a_count(count: int, length: int) -> None:
    assert length_for(count) == length


def test_addresses_by_place() -> None:
    assert P("10.0.0.0/24").address(1) == "10.0.0.1"
    assert P("10.0.0.0/24").address(-1) == "10.0.0.255"
    with pytest.raises(AddressError):
        P("10.0.0.0/30").address(4)
