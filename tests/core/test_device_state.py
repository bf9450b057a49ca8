"""What a device tells of itself by the standard modules, read and written; the routes it uses
beside the model's; the routers of a path by name."""

from __future__ import annotations

import dataclasses
import random

import pytest

from obrin.core.address.prefix import parse_address, parse_prefix
from obrin.core.handover.standard.operational import (
    BGP,
    DIRECT,
    INTERFACES,
    ROUTING,
    STATIC,
    DeviceState,
    InterfaceState,
    UsedRoute,
    decode,
    encode,
    merged,
)
from obrin.core.reach.hops import SILENT, hop_name
from obrin.core.routing.model import state_of
from obrin.core.routing.tables import IN_USE, SHARES, table_rows
from obrin.core.routing.used import used_differences
from tests.doubles import settled_of
from tests.live.buildable import Drawn

SINCE = "2026-06-01T12:00:00+00:00"
PREFIXES = ("10.20.0.0/22", "0.0.0.0/0", "fd00:1:2::/48", "192.0.2.7/32")


def drawn_state(seed: int) -> DeviceState:
    draw = random.Random(seed)
    interfaces = tuple(
        InterfaceState(
            name=f"if{n}",
            up=draw.random() < 0.5,
            packets_in=draw.randrange(1 << 40),
            packets_out=draw.randrange(1 << 40),
            addresses=tuple(
                map(parse_address, draw.sample(["10.1.2.3", "fd00::7", "192.0.2.9"], 2))
            ),
        )
        for n in range(draw.randint(0, 4))
    )
    routes = tuple(
        UsedRoute(
            prefix=parse_prefix(draw.choice(PREFIXES)),
            interface=f"if{n}",
            next_hop=None,
            source=draw.choice([DIRECT, STATIC, BGP]),
        )
        for n in range(draw.randint(0, 6))
    )
    hops = {32: parse_address("169.254.3.1"), 128: parse_address("fd00::1")}
    told = tuple(
        dataclasses.replace(r, next_hop=hops[r.prefix.bits]) if draw.random() < 0.5 else r
        for r in routes
    )
    return DeviceState(interfaces=interfaces, routes=told)


@pytest.mark.parametrize("seed", range(30))
def test_what_is_written_is_read(seed: int) -> None:
    state = drawn_state(seed)
    data = encode(state, SINCE)
    found = decode(data[INTERFACES], data[ROUTING])

    def ordered(held: DeviceState) -> tuple:
        interfaces = [
            dataclasses.replace(i, addresses=tuple(sorted(i.addresses))) for i in held.interfaces
        ]
        return interfaces, sorted(held.routes or (), key=repr)

    assert ordered(found) == ordered(state)
    assert decode(data[INTERFACES], None).routes is None


def test_what_other_makes_tell_is_read_as_well() -> None:
    module = "ietf-ipv4-unicast-routing"
    several = {
        "next-hop-list": {
            "next-hop": [
                {"outgoing-interface": "one", f"{module}:address": "10.0.0.1"},
                {"outgoing-interface": "two", f"{module}:next-hop-address": "10.0.0.2"},
            ]
        }
    }
    routes = [
        {f"{module}:destination-prefix": "10.9.0.0/16", "next-hop": several, "active": [None],
         "source-protocol": "vendor:rip"},
        {f"{module}:destination-prefix": "10.8.0.0/16", "next-hop": {}},
        {"other:destination-prefix": "0/0", "next-hop": {}, "active": [None]},
    ]  # fmt: skip
    found = decode({}, {"ribs": {"rib": [{"routes": {"route": routes}}]}})
    assert found.interfaces == ()
    assert [(r.interface, str(r.next_hop), r.source) for r in found.routes or ()] == [
        ("one", "10.0.0.1", "rip"),
        ("two", "10.0.0.2", "rip"),
    ]
    with pytest.raises(LookupError):
        decode({"interface": [{}]}, None)


def test_state_and_configuration_share_interfaces() -> None:
    config = {"interface": [{"name": "a", "description": "mine"}], "more": 1}
    state = {"interface": [{"name": "a", "oper-status": "up"}, {"name": "b"}]}
    assert merged(config, state) == {
        "interface": [{"name": "a", "oper-status": "up", "description": "mine"}, {"name": "b"}],
        "more": 1,
    }
    assert merged(config, {"ribs": {}}) == {**config, "ribs": {}}


@pytest.mark.parametrize("seed", range(20))
def test_a_table_with_one_route_changed_is_reported_by_that_one(seed: int) -> None:
    draw = random.Random(seed)
    settled = settled_of(Drawn(seed, widely=bool(seed % 2)).text)
    state = state_of(settled)
    for place in settled.gateways:
        told = [
            (row.prefix, row.via)
            for row in table_rows(settled, place, state)
            if row.state in (IN_USE, SHARES)
        ]
        assert list(used_differences(settled, place, told)) == []
        prefix, via = draw.choice(told)
        left = [(p, v) for p, v in told if p != prefix]
        kinds = {d.what for d in used_differences(settled, place, left) if d.prefix == prefix}
        assert kinds <= {"missing", "differs"}
        wider = any(p.covers(prefix) and v == via for p, v in left)
        assert kinds or wider
        other = [*left, (prefix, "elsewhere")]
        assert "differs" in {d.what for d in used_differences(settled, place, other)}
        if prefix.length + 1 < prefix.bits:
            part = parse_prefix(f"{prefix.address(0)}/{prefix.length + 1}")
            if part not in {p for p, _ in told}:
                more = [*told, (part, "elsewhere")]
                found = list(used_differences(settled, place, more))
                assert (part, "unexpected") in {(d.prefix, d.what) for d in found}


def test_routers_on_a_path_by_name() -> None:
    settled = settled_of()
    places = {"quay", "apps"}
    (leg, other) = list(settled.legs())
    for at_site, end in ((True, "quay-gw"), (False, "apps")):
        router = next(iter(leg.insides(at_site=at_site)))
        assert hop_name(settled, places, router) == f"{end} at {leg.label}"
        assert hop_name(settled, {"nowhere"}, router) != f"{end} at {leg.label}"
    assert other.label != leg.label
    assert hop_name(settled, places, None) == SILENT
    inside = parse_address("10.20.1.9")
    assert hop_name(settled, places, inside) == "a router in quay/desks"
    assert "does not know" in hop_name(settled, places, parse_address("203.0.113.200"))
