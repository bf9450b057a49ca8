"""Standard MIB tables: what is written is read back, and whatever an agent tells is judged."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obrin.core.address.prefix import Address, parse_address, parse_prefix
from obrin.core.handover.standard.operational import (
    BGP,
    DIRECT,
    STATIC,
    DeviceState,
    InterfaceState,
    NeighbourState,
    UsedRoute,
)
from obrin.core.routing.path import AsSet, Origin, Path, shortened
from obrin.wire.errors import ReadError
from obrin.wire.mib.device import decode, encode
from obrin.wire.mib.interfaces import IF_NAME, OLD_IF_INDEX
from obrin.wire.mib.tables import MIB_2

ipv4 = st.integers(1, 2**32 - 1).map(lambda value: Address(32, value))
ipv6 = st.integers(1, 2**128 - 1).map(lambda value: Address(128, value))
addresses = ipv4 | ipv6
prefixes = st.builds(lambda a, n: a.network(n), ipv4, st.integers(0, 32)) | st.builds(
    lambda a, n: a.network(n), ipv6, st.integers(0, 128)
)
numbers = st.integers(0, 2**63)
asns = st.integers(1, 65535)
paths = st.builds(
    Path,
    next_hop=st.integers(0, 2**32 - 1),
    as_path=st.lists(asns | st.frozensets(asns, min_size=1, max_size=4).map(AsSet), max_size=5).map(
        tuple
    ),
    origin=st.sampled_from(Origin),
    med=st.none() | st.integers(0, 2**31 - 1),
    local_pref=st.integers(0, 2**31 - 1),
)


@st.composite
def states(draw: st.DrawFn) -> DeviceState:
    held = draw(st.lists(addresses, unique=True, max_size=6))
    names = draw(
        st.lists(st.text("abc-0123", min_size=1, max_size=8), unique=True, min_size=1, max_size=4)
    )
    interfaces = tuple(
        InterfaceState(
            name=name,
            description=draw(st.text(max_size=5).filter(lambda text: "\0" not in text)),
            up=draw(st.booleans()),
            packets_in=draw(numbers),
            packets_out=draw(numbers),
            addresses=tuple(sorted(held[place :: len(names)])),
        )
        for place, name in enumerate(names)
    )
    tables = st.dictionaries(
        st.builds(lambda a, n: a.network(n), ipv4, st.integers(0, 32)), paths, max_size=3
    )
    learned = draw(st.dictionaries(ipv4, tables, max_size=3))
    anything = any(learned.values())
    neighbours = tuple(
        NeighbourState(address=address, state="established", learned=table if anything else None)
        for address, table in learned.items()
    )
    routes = draw(
        st.dictionaries(
            st.tuples(prefixes, st.none() | addresses),
            st.tuples(st.sampled_from(names), st.sampled_from([DIRECT, STATIC, BGP])),
            max_size=5,
        )
    )
    used = tuple(
        UsedRoute(prefix=prefix, interface=name, next_hop=hop, source=source)
        for (prefix, hop), (name, source) in routes.items()
    )
    return DeviceState(interfaces=interfaces, neighbours=neighbours or None, routes=used or None)


def values_of(state: DeviceState) -> dict:
    return {cell.oid: cell.value for cell in encode(state)}


@given(states())
def test_what_is_reported_is_read_back(state):
    cells = encode(state)
    assert [cell.oid for cell in cells] == sorted({cell.oid for cell in cells})
    found = decode(values_of(state))
    assert found.interfaces == state.interfaces
    assert sorted(found.neighbours or (), key=repr) == sorted(state.neighbours or (), key=repr)
    assert sorted(found.routes or (), key=repr) == sorted(state.routes or (), key=repr)


@given(states(), st.data())
def test_a_mangled_table_is_an_error_or_a_table(state, data):
    """An identifier cut or changed, a value of another type: nothing but a ReadError leaves."""
    values = values_of(state)
    oid = data.draw(st.sampled_from(sorted(values)))
    value = values.pop(oid)
    cut = data.draw(st.integers(10, len(oid)))
    odd = data.draw(st.lists(st.integers(0, 2**32 - 1), max_size=3))
    other = data.draw(st.binary(max_size=9) | st.integers(-(2**31), 2**64) | st.just(value))
    values[(*oid[:cut], *odd)] = other
    try:
        assert isinstance(decode(values), DeviceState)
    except ReadError:
        pass


def test_long_as_numbers_are_reported_in_two_octets():
    path = Path(next_hop=1, as_path=(4_200_000_001, 64512, AsSet({4_200_000_002, 9})))
    peer = parse_address("169.254.1.1")
    state = DeviceState(
        interfaces=(InterfaceState(name="a"),),
        neighbours=(
            NeighbourState(
                address=peer, state="established", learned={parse_prefix("10.0.0.0/8"): path}
            ),
        ),
    )
    learned = decode(values_of(state)).neighbours[0].learned
    assert (
        learned[parse_prefix("10.0.0.0/8")].as_path
        == shortened(path.as_path)
        == (23456, 64512, AsSet({23456, 9}))
    )


def test_older_agents_tell_addresses_in_the_table_that_knows_ipv4_only():
    values = {IF_NAME.at((7,)): b"tun0", OLD_IF_INDEX.at((169, 254, 1, 2)): 7}
    (found,) = decode(values).interfaces
    assert (found.name, found.addresses) == ("tun0", (parse_address("169.254.1.2"),))


@pytest.mark.parametrize(
    ("oid", "value", "words"),
    [
        ((*MIB_2, 4, 34, 1, 3, 1, 4, 10, 0, 0), 1, "too short"),
        ((*MIB_2, 4, 34, 1, 3, 1, 16, *[0] * 16), 1, "one of 32 is announced"),
        ((*MIB_2, 4, 20, 1, 2, 10, 0, 0, 256), 1, "not an IPv4 address"),
        ((*MIB_2, 4, 24, 7, 1, 7, 1, 4, 10, 0, 0, 0, 33, 0, 0, 0), 1, "33 bits"),
        ((*MIB_2, 15, 3, 1, 2, 10, 0, 0), 6, "too short"),
        ((*MIB_2, 15, 6, 1, 4, 10, 0, 0, 0, 8, 10, 0, 0, 1, 9), 1, "too long"),
        ((*MIB_2, 2, 2, 1, 8, 1, 1), 1, "too long"),
        ((*MIB_2, 31, 1, 1, 1, 1, 1), 5, "text is expected"),
    ],
)
def test_what_does_not_fit_is_named(oid, value, words):
    with pytest.raises(ReadError, match=words):
        decode({oid: value})


def test_other_families_and_discarding_routes_are_left_out():
    dns = (*MIB_2, 4, 24, 7, 1, 7, 16, 3, 97, 98, 99, 0, 0, 0, 0)
    row = (1, 4, 10, 0, 0, 0, 8, 2, 0, 0, 0, 0)
    values = {dns: 1, (*MIB_2, 4, 24, 7, 1, 7, *row): 0, (*MIB_2, 4, 24, 7, 1, 8, *row): 2}
    assert decode(values) == DeviceState(interfaces=())
