"""Every single fact that a device can report is withheld in turn: nothing that rests on it stays
yes or no, and the words name what is missing."""

from __future__ import annotations

import copy
from collections.abc import Iterator
from dataclasses import replace

import pytest

from obrin.core.handover.standard.operational import (
    INTERFACES,
    ROUTING,
    DeviceState,
    InterfaceState,
    NeighbourState,
    UsedRoute,
    decode,
    encode,
)
from obrin.core.known import NotKnown
from obrin.core.routing.used import used_differences
from obrin.live.drivers.by_tables import ends_by_tables, routes_by_tables
from obrin.live.drivers.observations import NOT_ASKED, EndStatus
from obrin.live.drivers.observed import statuses_in
from obrin.live.observe.both_ends import compared
from obrin.live.observe.tunnel import DOWN, UNKNOWN, UP
from obrin.wire.mib import device
from obrin.wire.mib.bgp_peers import STATE
from obrin.wire.mib.interfaces import IF_ALIAS, IF_OPER_STATUS, IP_ADDRESS_IF_INDEX
from tests.doubles import settled_of

SETTLED = settled_of()
LEGS = SETTLED.legs_at("quay-gw")
LEG = LEGS[0]
GOOD = EndStatus(ike="established", child="up", bgp="established", received=(), announced=())


def whole_state(*, up: bool = True, session: str = "established") -> DeviceState:
    """A device that reports everything, of all its tunnels."""
    interfaces = [
        InterfaceState(
            name=f"tun{place}",
            description=leg.label,
            up=up,
            packets_in=7,
            packets_out=9,
            addresses=leg.insides(at_site=True),
        )
        for place, leg in enumerate(LEGS)
    ]
    return DeviceState(
        interfaces=tuple(interfaces),
        neighbours=tuple(
            NeighbourState(address=leg.cloud_inside, state=session, learned={}) for leg in LEGS
        ),
    )


def verdict(state: DeviceState, cloud: EndStatus = NOT_ASKED) -> tuple[str, object]:
    end = ends_by_tables(SETTLED, "quay-gw", state)[LEG.label]
    found = compared(SETTLED, LEG, end, cloud)
    return found.state, found.up


def without(values: dict, oid: tuple) -> DeviceState:
    return device.decode({at: value for at, value in values.items() if at != oid})


@pytest.mark.parametrize("up", [True, False])
def test_each_value_of_an_agent_is_withheld(up: bool) -> None:
    """With the site's end alone: what it says is all that is known."""
    whole = whole_state(up=up, session="established" if up else "idle")
    values = {cell.oid: cell.value for cell in device.encode(whole)}
    assert verdict(device.decode(values))[0] == (UP if up else DOWN)
    changed = {}
    for oid in values:
        state, found = verdict(without(values, oid))
        if state != (UP if up else DOWN):
            assert state == UNKNOWN, "what is withheld never turns up into down, or down into up"
            assert isinstance(found, NotKnown)
            changed[oid] = found.why
    index = 1
    session = STATE.at(tuple(LEG.cloud_inside.value.to_bytes(4, "big")))
    if up:
        assert changed.keys() == {session}
        assert "is not among the" in changed[session]
        alone = {o: v for o, v in values.items() if o not in (session, IF_OPER_STATUS.at((index,)))}
        assert verdict(device.decode(alone))[0] == UNKNOWN
    else:
        assert not changed, "two values say that it is down: one is enough"


def test_a_whole_table_is_withheld() -> None:
    values = {cell.oid: cell.value for cell in device.encode(whole_state())}
    for root in device.ROOTS:
        left = {oid: v for oid, v in values.items() if oid[: len(root)] != root}
        state, found = verdict(device.decode(left))
        assert state in (UP, UNKNOWN)
        if isinstance(found, NotKnown):
            assert found.why.startswith("the site: "), found
    nothing = verdict(device.decode({}))
    assert nothing[0] == UNKNOWN
    assert "no interfaces" in str(nothing[1])


def test_an_interface_that_cannot_be_recognised_is_not_a_tunnel_that_is_down() -> None:
    values = {cell.oid: cell.value for cell in device.encode(whole_state())}
    strange = {
        oid: value
        for oid, value in values.items()
        if not any(oid[:-1] == c.at(()) for c in (IF_ALIAS,))
        and oid[: len(IP_ADDRESS_IF_INDEX.at(()))] != IP_ADDRESS_IF_INDEX.at(())
    }
    state, found = verdict(device.decode(strange))
    assert state == UNKNOWN
    assert "reports no addresses" in str(found)
    # The cloud's end decides then: what it has established takes two.
    assert verdict(device.decode(strange), GOOD)[0] == UP
    assert verdict(device.decode(strange), replace(GOOD, bgp="active"))[0] == DOWN


@pytest.mark.parametrize(
    ("status", "state"),
    [("up", UP), ("down", DOWN), ("lower-layer-down", DOWN), ("dormant", DOWN), ("unknown", UNKNOWN),
     ("another", UNKNOWN), (None, UNKNOWN)],
)  # fmt: skip
def test_each_status_of_an_interface(status: str | None, state: str) -> None:
    data = encode(whole_state(), "2026-06-01T00:00:00Z")[INTERFACES]
    for one in data["interface"]:
        one["oper-status"] = status
        if status is None:
            del one["oper-status"]
    read = replace(decode(data, None), neighbours=None)
    found = compared(SETTLED, LEG, ends_by_tables(SETTLED, "quay-gw", read)[LEG.label], NOT_ASKED)
    assert found.state == (UNKNOWN if state == UP else state), "no session is reported"
    static = replace(found, speaks=False)
    assert static.site.child == {UP: "up", DOWN: "down"}.get(state, static.site.child)


def leaves(data: object, way: tuple = ()) -> Iterator[tuple]:
    """The way to every leaf and container, but for keys of lists."""
    if isinstance(data, dict):
        for name, value in data.items():
            if name not in ("name", "ip", "tunnel"):
                yield (*way, name)
            yield from leaves(value, (*way, name))
    elif isinstance(data, list):
        for place, value in enumerate(data):
            yield from leaves(value, (*way, place))


def removed(data: dict, way: tuple) -> dict:
    found = copy.deepcopy(data)
    at = found
    for step in way[:-1]:
        at = at[step]
    del at[way[-1]]
    return found


def test_each_leaf_of_the_standard_modules_is_withheld() -> None:
    routes = (
        UsedRoute(prefix=p, interface="tun0", next_hop=LEG.cloud_inside, source="bgp")
        for p in SETTLED.clouds[LEG.cloud].all_spaces
    )
    data = encode(replace(whole_state(), routes=tuple(routes)), "2026-06-01T00:00:00Z")
    tried = 0
    for way in leaves(data):
        less = removed(data, way)
        if not {INTERFACES, ROUTING} <= less.keys():
            continue
        read = replace(decode(less[INTERFACES], less[ROUTING]), neighbours=whole_state().neighbours)
        assert verdict(read)[0] in (UP, UNKNOWN)
        end = ends_by_tables(SETTLED, "quay-gw", read)[LEG.label]
        if way[-1] in ("in-unicast-pkts", "statistics") and way[2] == 0:
            assert isinstance(end.packets_in, NotKnown)
            assert "in-unicast-pkts" in end.packets_in.why
        tried += 1
    assert tried > 20


def test_a_counter_that_is_none_is_not_shown() -> None:
    data = encode(whole_state(), "2026-06-01T00:00:00Z")[INTERFACES]
    for wrong in ("-4", "", "1e3", "18446744073709551616", "\N{SUPERSCRIPT TWO}", True):
        data["interface"][0]["statistics"]["in-unicast-pkts"] = wrong
        counted = decode(data, None).interfaces[0].packets_in
        assert isinstance(counted, NotKnown), wrong
        assert "not a counter" in counted.why


FULL = {
    "tunnel": [
        {
            "name": LEG.label, "ike-sa": "established", "child-sa": "up", "packets-in": "7",
            "packets-out": "9", "idle-in": 1, "idle-out": 1, "last-refusal": "",
        }
    ],
    "circuit": [],
    "session": [
        {
            "tunnel": [LEG.label], "state": "established", "received": [], "announced": [],
            "rejected": [], "last-error": "",
        }
    ],
}  # fmt: skip


def test_each_leaf_of_what_our_gateways_report_is_withheld() -> None:
    whole = compared(SETTLED, LEG, statuses_in(FULL)[LEG.label], NOT_ASKED)
    assert whole.up is True
    rests_on = {("session", 0, "state"), ("session",)}
    for way in leaves(FULL):
        if way in (("tunnel",), ("tunnel", 0, "name")):
            continue
        end = statuses_in(removed(FULL, way))[LEG.label]
        found = compared(SETTLED, LEG, end, NOT_ASKED)
        if way in rests_on:
            assert isinstance(found.up, NotKnown), way
        else:
            assert found.up is True, way
        unsaid = {"ike-sa": "ike", "child-sa": "child", "packets-in": "packets_in",
                  "idle-out": "idle_out", "received": "received"}.get(str(way[-1]))  # fmt: skip
        if unsaid is not None:
            assert str(way[-1]) in end.not_known[unsaid]


def test_a_packet_that_nobody_counts_is_not_lost() -> None:
    """The cloud sent one a second ago; the site does not report what arrives."""
    sent = replace(GOOD, idle_out=1, idle_in=1)
    silent = replace(GOOD, idle_in=NotKnown("the test withholds it"), idle_out=1)
    found = compared(SETTLED, LEG, silent, sent)
    assert not any("none arrive at the site" in text for text in found.disagreements)
    assert any(
        "none arrive at the site" in text
        for text in compared(SETTLED, LEG, replace(silent, idle_in=None), sent).disagreements
    )


def test_one_of_several_ways_to_a_prefix_is_in_use() -> None:
    """The one of the lowest metric; of several protocols the tables do not say which."""
    from obrin.core.address.prefix import Address
    from obrin.wire.mib.interfaces import IF_NAME
    from obrin.wire.mib.routes import IF_INDEX, METRIC, PROTOCOL, TYPE
    from obrin.wire.mib.tables import index_of

    space = SETTLED.clouds[LEG.cloud].all_spaces[0]
    first, second = LEGS[0], LEGS[1]

    def table(*ways: tuple) -> DeviceState:
        values: dict = {IF_NAME.at((1,)): b"eth0", IF_OPER_STATUS.at((1,)): 1}
        for leg, protocol, metric in ways:
            start = Address(space.bits, space.value)
            row = (*index_of(start), space.length, 2, 0, 0, *index_of(leg.cloud_inside))
            values |= {IF_INDEX.at(row): 1, TYPE.at(row): 4, PROTOCOL.at(row): protocol}
            values |= {} if metric is None else {METRIC.at(row): metric}
        return device.decode(values)

    def seen(*ways: tuple) -> list:
        return routes_by_tables(SETTLED, "quay-gw", table(*ways))

    assert [r.via for r in seen((first, 14, 10), (second, 14, 200))] == [first.label]
    assert len(seen((first, 14, 10), (second, 14, 10))) == 2
    assert len(seen((first, 14, None), (second, 14, None))) == 2
    both = seen((first, 14, 10), (second, 3, 1))
    assert all(isinstance(r.used, NotKnown) for r in both)
    unclear = {r.prefix: r.used.why for r in both}
    pairs = [(r.prefix, r.via) for r in both]
    differences = list(used_differences(SETTLED, "quay-gw", pairs, unclear))
    assert {d.what for d in differences if d.prefix == space} == {"not known"}


def test_the_words_for_a_state_are_those_of_the_schema() -> None:
    from obrin.cli.outputs import acting
    from obrin.live.observe.tunnel import STATES

    assert acting.STATES == STATES
