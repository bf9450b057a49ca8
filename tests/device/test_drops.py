"""What a practice router can do nothing with is dropped, counted and named; nothing is silent."""

from __future__ import annotations

import pytest

from obrin.core.address.prefix import parse_address
from obrin.device.packets.drops import KEPT, NO_FLOW, OTHERS, DropLog
from obrin.wire.bgp.fsm import BgpState
from obrin.wire.icmp import time_exceeded
from obrin.wire.packet import ESP, ICMP, TCP, UDP, Packet, Udp, decode_packet
from obrin.wire.tcp_segment import RST, SYN, Segment
from tests.doubles import settled_of
from tests.live.virtual_world import VirtualWorld


@pytest.fixture(scope="module")
def world() -> VirtualWorld:
    made = VirtualWorld(settled_of())
    made.run(20.0)
    return made


def reasons(world: VirtualWorld) -> dict[str, int]:
    found: dict[str, int] = {}
    for drop, count in world.routers["quay-gw"].drops:
        found[drop.reason] = found.get(drop.reason, 0) + count
    return found


def bgp_segment(world: VirtualWorld, flags: int = RST) -> Packet:
    """A reset at the very number that is expected: only its way here can give it away."""
    router = world.routers["quay-gw"]
    (connection, *_) = router.tcp._connections.values()
    segment = Segment(
        source_port=connection.remote[1],
        destination_port=connection.local[1],
        sequence=connection.receive_next,
        acknowledgement=connection.send_next,
        flags=flags,
        window=9,
        data=b"",
    )
    ends = connection.remote[0], connection.local[0]
    return Packet(*ends, TCP, segment.encode(*ends), ttl=255)


def inner_cases(world: VirtualWorld):
    router = world.routers["quay-gw"]
    first, second = router.config.tunnels
    good = bgp_segment(world)
    own = next(
        name for name, t in router.config.tunnels.items() if t.inside[0].local == good.destination
    )
    other = second if own == first else first
    host = dict(router.config.networks)["desks"].address_at(10)
    yield "from a local host", None, good
    yield "from the other tunnel", other, good
    yield "by another host at the far end", own, good._replace(source=host)
    yield "through a router", own, good._replace(ttl=254)
    yield "of protocol 89", own, good._replace(protocol=89)
    yield (
        "BFD nobody asked for",
        own,
        good._replace(
            protocol=UDP, payload=Udp(1, 3784, b"").encode(good.source, good.destination)
        ),
    )
    yield "a damaged checksum", own, good._replace(payload=good.payload[:-1] + b"!" * 3)
    yield "a damaged echo", own, good._replace(protocol=ICMP, payload=b"\x08" * 8)


def test_what_the_gateway_itself_is_reported_comes_from_its_peer_on_the_link(world) -> None:
    router = world.routers["quay-gw"]
    for what, arrived_by, packet in inner_cases(world):
        before = sum(reasons(world).values())
        router._route(packet.encode(), arrived_by, world.now)
        assert sum(reasons(world).values()) == before + 1, what
        assert all(s.state is BgpState.ESTABLISHED for s in router.bgp.sessions.values()), what
    assert any("it comes from beyond the link" in reason for reason in reasons(world))
    world.run(5.0)
    assert all(s.state is BgpState.ESTABLISHED for s in router.bgp.sessions.values())


def outer_cases(world: VirtualWorld):
    router = world.routers["quay-gw"]
    (spi, (name, _child)), *_ = router.esp.inbound.items()
    path = router.ike.tunnels[name].path
    source, here = (parse_address(a[0]) for a in (path.remote, path.local))
    yield "TCP", Packet(source, here, TCP, b"x" * 20).encode()
    yield "no such port", Packet(source, here, UDP, Udp(1, 53, b"x").encode(source, here)).encode()
    yield "no such SA", Packet(source, here, ESP, b"\1\2\3\4" + bytes(40)).encode()
    yield (
        "not authentic",
        Packet(source, here, ESP, spi + (9**9).to_bytes(4, "big") + bytes(60)).encode(),
    )
    yield "too short", Packet(source, here, ESP, spi).encode()
    yield "junk", b"junk"
    yield "fragment", (raw := Packet(source, here, UDP, b"x" * 20).encode())[:6] + b"\x20" + raw[7:]
    for port in (500, 4500):
        data = b"\0\0\0\0" * (port == 4500) + b"\xee" * 30
        yield (
            f"IKE at {port}",
            Packet(source, here, UDP, Udp(port, port, data).encode(source, here)).encode(),
        )


def test_every_outer_packet_that_is_not_used_is_counted(world) -> None:
    for what, data in outer_cases(world):
        before = sum(reasons(world).values())
        world.sites["quay-gw"].receive(data, world.now)
        assert sum(reasons(world).values()) == before + 1, what


@pytest.mark.parametrize(("header", "words"), [(41, "IPv6"), (59, "")])
def test_inner_packets_of_other_families_are_named(world, header: int, words: str) -> None:
    router = world.routers["quay-gw"]
    (spi, (_name, _child)), *_ = router.esp.inbound.items()
    far = next(
        t
        for i in world.cloud.instances.values()
        for t in i.router.ike.tunnels.values()
        if t.outbound is not None and t.outbound.spi_out == spi
    )
    before = sum(reasons(world).values())
    data = far.outbound.sealer.seal(b"\x60" + bytes(39), header)
    router._open(data, 0, world.now)
    new = {r for r in reasons(world) if words and words in r}
    assert bool(new) == bool(words)
    assert sum(reasons(world).values()) == before + bool(words)


def test_a_syn_flood_at_the_bgp_port_leaves_the_session(world) -> None:
    router = world.routers["quay-gw"]
    good = bgp_segment(world, SYN)
    for number in range(200):
        segment = Segment(
            source_port=number + 1,
            destination_port=179,
            sequence=number,
            acknowledgement=0,
            flags=SYN,
            window=9,
            data=b"",
        )
        for arrived_by in (*router.config.tunnels, None):
            packet = good._replace(payload=segment.encode(good.source, good.destination))
            router._route(packet.encode(), arrived_by, world.now)
    world.run(30.0)
    assert all(s.state is BgpState.ESTABLISHED for s in router.bgp.sessions.values())
    assert len(router.tcp._connections) <= len(router.config.tunnels)


def test_the_log_forgets_flows_and_no_count() -> None:
    log = DropLog()
    for number in range(3 * KEPT):
        log.add("x", f"reason {number}", NO_FLOW)
    counts = {drop.reason: count for drop, count in log}
    assert len(counts) <= KEPT + 1
    assert sum(counts.values()) == 3 * KEPT
    assert counts[OTHERS] > KEPT


def test_an_error_passes_only_to_whom_it_concerns(world: VirtualWorld) -> None:
    """Whatever crosses the tunnel as an ICMP error goes to the host whose allowed packet it
    quotes, and to nobody else."""
    router = world.routers["quay-gw"]
    tunnel = next(iter(router.config.tunnels.values()))
    networks = dict(router.config.networks)
    host, guest = networks["desks"].address_at(10), networks["guests"].address_at(10)
    far = parse_address("10.64.0.10")
    payload = Udp(40000, 443, b"12345678").encode(host, far)

    def quoted(source=host, destination=far, protocol=TCP) -> Packet:
        return Packet(source, destination, protocol, payload, ttl=1)

    def let_through(packet: Packet, to=None) -> bool:
        error = time_exceeded(packet, tunnel.inside[0].remote)
        error = error if to is None else error._replace(destination=to)
        router.receive_across(tunnel.peer.name, error.encode(), world.now)
        return bool(router.local())

    assert let_through(quoted())
    assert not let_through(quoted(protocol=UDP))  # nobody lets that flow begin
    assert not let_through(quoted(source=guest))
    assert not let_through(quoted(destination=parse_address("10.64.3.10")), to=guest)
    assert not let_through(quoted(), to=guest)  # a flow that is allowed, of somebody else


def test_what_is_passed_on_too_often_is_reported_and_never_about_an_error(
    world: VirtualWorld,
) -> None:
    router = world.routers["quay-gw"]
    host = dict(router.config.networks)["desks"].address_at(10)
    far = parse_address("10.64.0.10")
    payload = Udp(40000, 443, b"12345678").encode(host, far)
    packet = Packet(host, far, TCP, payload, ttl=1)
    router.receive_local(packet.encode(), world.now)
    (told,) = map(decode_packet, router.local())
    assert told == time_exceeded(packet, told.source)
    assert told.source in router.config.tunnels["quay-apps/a"].inside[0]
    router.receive_local(told._replace(ttl=1, destination=far).encode(), world.now)
    assert router.local() == []
