"""The practice world has every host that a wish names, whoever plays it, and mends what was broken."""

from __future__ import annotations

from datetime import date

import pytest

from obrin.core.address.prefix import parse_address, parse_prefix
from obrin.core.design.places import NetworkRef
from obrin.core.reach.paths import key_of
from obrin.core.settled.model import host_of
from obrin.device.lan.hosts import MOST_ASKED_FOR, Hosts
from obrin.live.drivers.observations import NOT_CONFIGURED
from obrin.live.drivers.observed import dropped
from obrin.live.drivers.protocol import Ends
from obrin.live.observe.both_ends import compared
from obrin.live.observe.status import read_strangers
from obrin.live.rehearse.play import Rehearsal
from obrin.live.rehearse.virtual_stage import VirtualStage
from obrin.wire.packet import ICMP, TCP, UDP
from tests.cli.program import Folder
from tests.doubles import seeded, settled_of, swap
from tests.live.virtual_world import VirtualWorld

LAN = parse_prefix("10.20.0.0/24")


def hosts() -> Hosts:
    return Hosts([LAN], seeded(1))


def test_every_address_of_a_network_has_a_host_when_it_is_spoken_to() -> None:
    there = hosts()
    for text, found in (
        ("10.20.0.77", True),
        ("10.20.0.0", False),
        ("10.20.0.255", False),
        ("10.20.1.1", False),
    ):
        assert (there.get(parse_address(text)) is not None) is found, text
    assert there.get(parse_address("10.20.0.77")) is there.own(parse_address("10.20.0.77"))
    for number in range(MOST_ASKED_FOR * 2):
        Hosts([parse_prefix("10.0.0.0/8")], seeded(1)).get(
            parse_address(f"10.9.{number >> 8}.{number & 255}")
        )
    wide = Hosts([parse_prefix("10.0.0.0/8")], seeded(1))
    for number in range(1, MOST_ASKED_FOR * 2):
        wide.get(parse_address(f"10.9.{number >> 8}.{number & 255}"))
    assert len(wide.by_address) == MOST_ASKED_FOR + 1
    assert wide.get(host_of(parse_prefix("10.0.0.0/8"))) is not None
    there.take([parse_prefix("10.21.0.0/24")])
    assert there.get(parse_address("10.20.0.77")) is None


@pytest.mark.parametrize("protocol", [ICMP, UDP, TCP])
def test_a_host_that_a_program_plays_can_be_asked_to_ask(protocol: int) -> None:
    """Its own answers reach our host, and all else the program."""
    there, far = hosts(), Hosts([parse_prefix("10.30.0.0/24")], seeded(2))
    address = host_of(LAN)
    given: list[bytes] = []
    lent = there.lend(address, given.append)
    own, other = there.own(address), host_of(parse_prefix("10.30.0.0/24"))
    assert own is not None
    query = own.ask(protocol, other, 443, 0.0)
    for _ in range(6):
        for data in there.packets(0.0):
            far.get(other).receive(data, 0.0)
        for data in far.packets(0.0):
            there.get(address).receive(data, 0.0)
    assert query.answered_at is not None
    assert not given
    own.forget(query)
    strange = far.own(other)
    strange.ask(ICMP, address, 0, 1.0)
    for data in far.packets(1.0):
        there.get(address).receive(data, 1.0)
    assert len(given) == 1
    there.take_back(lent)
    assert there.get(address) is own


ONE = "  - {from: quay/desks, to: apps/web/10.64.0.40, flow: tcp/443, must: work}\n"
BACK = "  - {from: apps/web/10.64.0.41, to: quay/desks/10.20.0.99, flow: tcp/22, must: not}\n"
OVER = "  - {from: quay/desks/10.20.0.98, to: apps/web/10.64.0.42, flow: tcp/8443, until: 2026-01-01}\n"
HOSTS = swap(("expectations:\n", "expectations:\n" + ONE + BACK + OVER))


def test_wishes_between_single_hosts_are_tried_by_these_hosts() -> None:
    settled = settled_of(
        HOSTS.replace("subnets: {web: {hosts: 20}}", "subnets: {web: {hosts: 20}}")
    )
    web = settled.network(NetworkRef.of("apps/web"))
    assert web.holds(parse_address("10.64.0.40")), web
    world = VirtualWorld(settled)
    rehearsal = Rehearsal(VirtualStage(world))
    began = rehearsal.begin()
    assert began.good, began
    named = {str(w.source): w for w in settled.own_expectations() if w.source.part is not None}
    assert len(named) == 2
    for wish in named.values():
        key = key_of(settled, (wish.source, None), (wish.destination, None), wish.flow)
        assert world.host_at(wish.source.place, key.source) is not None


def test_ike_from_an_address_that_nobody_should_have_is_named() -> None:
    """An uplink behind a translator gets another address, and its gateway begins again from there."""
    settled = settled_of(
        swap(("fibre: {address: 192.0.2.10,", "fibre: {address: 192.0.2.10, inside: 10.0.0.2,"))
    )
    world = VirtualWorld(settled)
    world.run(10.0)
    world.internet.readdress("quay-gw/fibre", parse_address("192.0.2.99"))
    world.restart("quay-gw")
    world.run(40.0)
    drops = [d for i in world.cloud.instances.values() for d in i.router.drops.as_data()]

    class Cloud:
        def drops(self, cloud: str) -> list:
            return dropped(drops)

    down = [compared(settled, settled.tunnel("quay-apps/a"), NOT_CONFIGURED, NOT_CONFIGURED)]
    (words,) = read_strangers(settled, Ends({"apps": Cloud()}, {}), down)
    assert "apps hears IKE from 192.0.2.99, which is not a peer's address there" in words
    assert "quay-gw" in words


@pytest.fixture(scope="module")
def folder(tmp_path_factory) -> Folder:
    made = Folder(tmp_path_factory.mktemp("hosts"))
    made.write("design.yaml", HOSTS)
    made.obrin("settle").good()
    made.obrin("handover").good()
    return made


def test_trace_takes_a_host_in_a_network(folder: Folder) -> None:
    assert (
        "10.64.0.40"
        in folder.obrin("trace", "quay/desks", "apps/web/10.64.0.40", "tcp/443").good().out
    )
    folder.obrin("trace", "quay/desks", "apps/web/10.99.0.1", "tcp/443").bad(
        2, "is not in apps/web"
    )
    folder.obrin("trace", "quay/desks", "apps/web/x", "tcp/443").bad(2, "neither a network")
    folder.obrin("trace", "apps/web/10.64.0.41", "quay/desks/10.20.0.99", "tcp/22").bad(1)


@pytest.mark.long
def test_a_running_world_has_them_too_and_heals_what_was_retyped(folder: Folder) -> None:
    today = date(2026, 6, 1).isoformat()
    folder.obrin("practice", "start", "--speed", "5000").good()
    try:
        folder.obrin("connect", timeout=120).good()
        folder.obrin("probe", OBRIN_TODAY=today).good()
        for fault in (("retype", "quay-gw", "filter"), ("drift", "cloud", "filters/apps")):
            folder.obrin("practice", "fault", *fault).good()
            assert folder.obrin("status").err.count("is not as the design") == 1, fault
            folder.obrin("practice", "heal").good()
            assert "is not as the design" not in folder.obrin("status").err, fault
        folder.obrin("status").good()
    finally:
        folder.obrin("practice", "stop")
