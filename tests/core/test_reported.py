"""What a device reports by the standard modules, and what it leaves out; routes of which it does not
say which it uses."""

from __future__ import annotations

import pytest

from obrin.core.handover.standard.operational import DeviceState, InterfaceState, decode, encode
from obrin.core.known import NotKnown
from obrin.core.routing.against_dump import SeenPaths, learned
from obrin.core.routing.model import state_of
from obrin.core.routing.tables import IN_USE, SHARES, table_rows
from obrin.core.routing.used import NOT_KNOWN, used_differences
from tests.doubles import settled_of

SETTLED = settled_of()


@pytest.mark.parametrize(
    ("status", "up"),
    [("up", True), ("down", False), ("testing", False), ("dormant", False), ("not-present", False),
     ("lower-layer-down", False), ("unknown", None), ("UP", None), (None, None)],
)  # fmt: skip
def test_what_a_status_says(status: str | None, up: bool | None) -> None:
    entry = {"name": "t"} | ({} if status is None else {"oper-status": status})
    found = decode({"interface": [entry]}, None).interfaces[0].up
    assert (None if isinstance(found, NotKnown) else found) is up
    if isinstance(found, NotKnown):
        assert "oper-status" in found.why


@pytest.mark.parametrize(
    ("text", "count"),
    [("0", 0), ("18446744073709551615", (1 << 64) - 1), ("-4", None), ("1.5", None),
     ("18446744073709551616", None), ("9" * 5000, None)],
)  # fmt: skip
def test_a_counter_is_a_counter_or_not_known(text: str, count: int | None) -> None:
    statistics = {"in-unicast-pkts": text}
    found = decode({"interface": [{"name": "t", "statistics": statistics}]}, None).interfaces[0]
    assert (None if isinstance(found.packets_in, NotKnown) else found.packets_in) == count
    assert isinstance(found.packets_out, NotKnown)
    assert "out-unicast-pkts is not reported" in found.packets_out.why


def test_what_is_not_reported_is_not_written_as_good_or_bad() -> None:
    data = encode(DeviceState(interfaces=(InterfaceState(name="t"),)), "2026-06-01T00:00:00Z")
    (one,) = data["ietf-interfaces:interfaces"]["interface"]
    assert one["oper-status"] == "unknown"


def test_without_an_active_route_it_is_not_known_which_are_used() -> None:
    module = "ietf-ipv4-unicast-routing"
    routes = [
        {f"{module}:destination-prefix": "10.64.0.0/22", "next-hop": {"outgoing-interface": name}}
        for name in ("a", "b")
    ]
    ribs = {"ribs": {"rib": [{"routes": {"route": routes}}]}}
    found = decode({}, ribs).routes or ()
    assert [route.interface for route in found] == ["a", "b"]
    assert all(isinstance(route.used, NotKnown) for route in found)
    routes[1]["active"] = [None]
    assert [r.interface for r in decode({}, ribs).routes or ()] == ["b"]
    assert decode({}, {}).routes is None


def test_a_prefix_with_several_ways_is_a_difference_only_where_it_is_known() -> None:
    rows = [
        r for r in table_rows(SETTLED, "quay-gw", state_of(SETTLED)) if r.state in (IN_USE, SHARES)
    ]
    used = [(row.prefix, row.via) for row in rows]
    space = SETTLED.clouds["apps"].all_spaces[0]
    both = [*used, (space, "quay-apps/b")]
    plain = [d for d in used_differences(SETTLED, "quay-gw", both) if d.prefix == space]
    assert [d.what for d in plain] == ["differs"]
    found = list(used_differences(SETTLED, "quay-gw", both, {space: "it lists it by two"}))
    assert [(d.what, "it lists it by two" in d.text) for d in found] == [(NOT_KNOWN, True)]


def test_what_neighbours_advertised_is_held_against_the_model() -> None:
    by_peer: dict = {}
    for prefix, candidates in learned(SETTLED, "quay-gw").items():
        for one in candidates:
            by_peer.setdefault(one.peer.address, {})[prefix] = one.path
    assert list(SeenPaths(by_peer).differences(SETTLED, "quay-gw")) == []
    first = next(iter(by_peer))
    by_peer[first] = {}
    assert list(SeenPaths(by_peer).differences(SETTLED, "quay-gw"))
