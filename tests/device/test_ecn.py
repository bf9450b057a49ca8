"""Class and congestion marks across a tunnel (RFC 2474, RFC 6040)."""

from __future__ import annotations

import pytest

from obrin.core.design.places import NetworkRef
from obrin.core.settled.model import host_of
from obrin.device.tunnels.ecn import CE, ECT_0, ECT_1, NOT_ECT, ecn_inside
from obrin.wire.icmp import Icmp
from obrin.wire.packet import ESP, decode_packet
from tests.doubles import settled_of, swap
from tests.live.test_virtual_world import BEHIND, MORE
from tests.live.virtual_world import VirtualWorld

FIGURE_4 = {
    NOT_ECT: (NOT_ECT, NOT_ECT, NOT_ECT, None),
    ECT_0: (ECT_0, ECT_1, ECT_0, CE),
    ECT_1: (ECT_1, ECT_1, ECT_1, CE),
    CE: (CE, CE, CE, CE),
}
"""By the inner mark: for the outer marks 00, 01, 10, 11."""


@pytest.mark.parametrize("inner", FIGURE_4)
def test_what_comes_out_is_as_figure_4_of_rfc_6040_has_it(inner: int) -> None:
    assert tuple(ecn_inside(inner, outer) for outer in range(4)) == FIGURE_4[inner]


@pytest.mark.parametrize("behind", [False, True])
@pytest.mark.parametrize(
    ("sent", "congested", "comes"),
    [
        (0xB8 | ECT_0, False, 0xB8 | ECT_0),
        (0xB8 | ECT_0, True, 0xB8 | CE),
        (0x28, False, 0x28),
        (0x28, True, None),
        (0, False, 0),
    ],
)
def test_marks_cross_the_tunnel(
    sent: int, congested: bool, comes: int | None, behind: bool
) -> None:
    world = VirtualWorld(settled_of(swap(*([BEHIND] if behind else []), text=MORE)))
    world.run(8.0)
    desk, web = (
        host_of(world.settled.network(NetworkRef.of(n))) for n in ("quay/desks", "apps/web")
    )
    outside: list[int] = []
    carry = world.internet.carry

    def carried(cable: str, data: bytes):
        packet = decode_packet(data)
        if cable.startswith("quay-gw") and (packet.protocol == ESP or packet.tos):
            outside.append(packet.tos)
            packet = packet._replace(tos=packet.tos | (CE if congested else 0))
        return carry(cable, packet.encode())

    world.internet.carry = carried
    host, arrived = world.cloud.hosts["apps"].get(web), []
    receive = host.receive
    host.receive = lambda data, now: (arrived.append(decode_packet(data).tos), receive(data, now))
    packet = Icmp(8, 0, 7, 1, b"marked").packet(desk, web)._replace(tos=sent)
    world.routers["quay-gw"].receive_local(packet.encode(), world.now)
    world.run(0.5)
    assert sent in outside or not sent
    assert arrived == ([] if comes is None else [comes])
    if comes is None:
        drops = str([d.router.drops.as_data() for d in world.cloud.instances.values()])
        assert "it met congestion, and its ends cannot be notified" in drops
