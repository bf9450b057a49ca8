"""One value mistyped at one end of a link that was right: both ends' words name it, and once it is
mended nothing old is told."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import pytest

from obrin.core.address.prefix import Address
from obrin.core.ipsec.suite import SHIPPED
from obrin.core.settled.links import SettledTunnel
from obrin.device.config import InsideEnds, RouterConfig
from obrin.device.router.router import Router
from obrin.device.standard.state import session_states, tunnel_states
from obrin.live.drivers.observed import end_statuses
from obrin.live.observe.both_ends import compared
from obrin.live.observe.tunnel import TunnelStatus
from obrin.live.practice.cloud.names import cloud_name
from obrin.wire.ike.config import Identity
from tests.doubles import settled_of
from tests.live.virtual_world import VirtualWorld

A = "quay-apps/a"


def world() -> VirtualWorld:
    found = VirtualWorld(settled_of())
    found.run(12.0)
    return found


def status_of(world: VirtualWorld, label: str = A) -> TunnelStatus:
    tunnel: SettledTunnel = world.settled.tunnel(label)

    def seen(router: Router, name: str) -> Any:
        told = tunnel_states(router, world.now), (), session_states(router, world.now)
        return end_statuses(*told)[name]

    return compared(
        world.settled,
        tunnel,
        seen(world.sites["quay-gw"].router, label),
        seen(world.instance(tunnel.instance), cloud_name(label)),
    )


def told(world: VirtualWorld) -> str:
    found = status_of(world)
    return " | ".join((*found.disagreements, *found.notes, *found.site.rejected))


Change = Callable[[RouterConfig], RouterConfig]


def peer(**changes: Any) -> Change:
    def change(config: RouterConfig) -> RouterConfig:
        tunnel = config.tunnels[A]
        mine = replace(tunnel, peer=replace(tunnel.peer, **changes))
        return replace(config, tunnels=config.tunnels | {A: mine})

    return change


def without_pfs(config: RouterConfig) -> RouterConfig:
    return peer(
        suites=tuple(
            replace(s, esp=replace(s.esp, group=None)) for s in config.tunnels[A].peer.suites
        )
    )(config)


def exchanged(config: RouterConfig) -> RouterConfig:
    tunnel, neighbour = config.tunnels[A], config.neighbours[A]
    block, other, own = tunnel.inside[0]
    session = replace(neighbour.session, local_address=own, peer_address=other)
    return replace(
        config,
        tunnels=config.tunnels | {A: replace(tunnel, inside=(InsideEnds(block, own, other),))},
        neighbours=config.neighbours | {A: replace(neighbour, session=session)},
    )


def other_block(config: RouterConfig) -> RouterConfig:
    tunnel = config.tunnels[A]
    moved = Address(32, tunnel.inside[0].block.value + 5)
    moved = replace(tunnel, inside=(InsideEnds.of(moved, 30),))
    return replace(config, tunnels=config.tunnels | {A: moved})


def told_nothing(config: RouterConfig) -> RouterConfig:
    silent = replace(config.neighbours[A], announce=())
    return replace(config, neighbours=config.neighbours | {A: silent})


def accepting_nothing(config: RouterConfig) -> RouterConfig:
    neighbour = config.neighbours[A]
    deaf = replace(
        neighbour, policy=replace(neighbour.policy, accept=type(neighbour.policy.accept)(()))
    )
    return replace(config, neighbours=config.neighbours | {A: deaf})


def wrong_as(config: RouterConfig) -> RouterConfig:
    neighbour = config.neighbours[A]
    session = replace(neighbour.session, peer_as=64999)
    policy = replace(neighbour.policy, peer_as=64999)
    wrong = replace(neighbour, session=session, policy=policy)
    return replace(config, neighbours=config.neighbours | {A: wrong})


MISTYPED: dict[str, tuple[Change, float, tuple[str, ...]]] = {
    "key": (peer(key=b"another key than the clouds"), 20, ("AUTHENTICATION_FAILED",)),
    "own identity": (
        peer(local_identity=Identity.of("192.0.2.99")),
        20,
        ("AUTHENTICATION_FAILED", "192.0.2.99"),
    ),
    "suite": (
        peer(suites=(SHIPPED["common"],)),
        20,
        ("NO_PROPOSAL_CHOSEN",),
    ),
    "PFS at one end": (
        without_pfs,
        3200,
        ("the child SA is not rekeyed", "it stops when its lifetime is over"),
    ),
    "inside addresses exchanged": (exchanged, 20, ("the site has the two inside addresses exch",)),
    "inside address of another block": (other_block, 20, ("as its own inside address, by the",)),
    "nothing told": (
        told_nothing,
        20,
        ("the site announces nothing: by the design it advertises",),
    ),
    "nothing accepted": (accepting_nothing, 20, ("the site did not accept it",)),
    "AS number": (wrong_as, 20, ("64999",)),
}


@pytest.mark.long
@pytest.mark.parametrize("what", MISTYPED)
def test_what_was_mistyped_at_one_end_is_named_and_forgotten_when_mended(what: str) -> None:
    change, seconds, words = MISTYPED[what]
    found = world()
    assert status_of(found).right
    gateway = found.sites["quay-gw"]
    right = gateway.router.config
    gateway.take(change(right), found.now)
    found.run(seconds)
    assert not status_of(found).right
    for word in words:
        assert word in told(found), told(found)
    gateway.take(right, found.now)
    found.run(40.0 if seconds < 100 else 700.0)
    assert told(found) == ""
    assert status_of(found).right


def test_a_refused_rekey_is_forgotten_when_the_next_one_works() -> None:
    found = world()
    gateway = found.sites["quay-gw"]
    right = gateway.router.config
    gateway.take(without_pfs(right), found.now)
    found.run(3200.0)
    assert "the child SA is not rekeyed" in told(found)
    cloud = found.instance(1)
    assert cloud.states[cloud_name(A)].refusal is not None
    cloud.states[cloud_name(A)].rekeyed("IKE SA")
    assert cloud.states[cloud_name(A)].refusal is not None
    cloud.states[cloud_name(A)].rekeyed("child SA")
    assert cloud.states[cloud_name(A)].refusal is None


def test_counters_belong_to_the_sa_that_is_there() -> None:
    """A gateway that starts again counts from nothing; the far end does so, too."""
    found = world()
    gateway = found.sites["quay-gw"]
    config = gateway.router.config
    before = found.instance(1).states[cloud_name(A)].packets_in
    assert before > 0
    gateway.router = Router("quay-gw", config, gateway._rng)
    gateway.router.start(found.now)
    found.run(8.0)
    status = status_of(found)
    assert told(found) == ""
    assert status.right
    assert abs(status.site.packets_out - status.cloud.packets_in) <= 2


def bgp(**changes: Any) -> Callable[[Any], Any]:
    return lambda body: body.model_copy(update={"bgp": body.bgp.model_copy(update=changes)})


def of_tunnel(**changes: Any) -> Callable[[Any], Any]:
    return lambda body: body.model_copy(update=changes)


def no_pfs_there(body: Any) -> Any:
    suite = body.suite | {"child-sa": {**body.suite["child-sa"]}}
    del suite["child-sa"]["pfs-dh-group"]
    return body.model_copy(update={"suite": suite})


def other_end_of(body: Any) -> Any:
    first, second = (str(end) for end in body.inside[0].ends())
    other = second if body.inside_addresses == [first] else first
    return body.model_copy(update={"inside_addresses": [other]})


AT_CLOUD: dict[str, tuple[str, Callable[[Any], Any], float, tuple[str, ...]]] = {
    "key": (
        "tunnels/quay-apps.a",
        of_tunnel(pre_shared_key="something-else-1234567"),
        20,
        ("AUTH",),
    ),
    "PFS": ("tunnels/quay-apps.a", no_pfs_there, 3200, ("the child SA is not rekeyed",)),
    "inside addresses": (
        "tunnels/quay-apps.a",
        other_end_of,
        20,
        ("the cloud has the two inside addresses exchanged",),
    ),
    "nothing told": ("tunnels/quay-apps.a", bgp(announce=[]), 20, ("the cloud announces nothing",)),
    "nothing accepted": ("tunnels/quay-apps.a", bgp(accept=[]), 20, ("the cloud did not accept",)),
    "AS number": (
        "far-ends/quay-apps.quay-gw.fibre",
        of_tunnel(autonomous_system=64999),
        20,
        ("expected 64999",),
    ),
    "identity": (
        "far-ends/quay-apps.quay-gw.fibre",
        of_tunnel(identity="10.0.0.1"),
        20,
        ("10.0.0.1",),
    ),
    "address": (
        "far-ends/quay-apps.quay-gw.fibre",
        of_tunnel(address="192.0.2.99"),
        60,
        ("has 192.0.2.99 as its peer",),
    ),
}


@pytest.mark.long
@pytest.mark.parametrize("what", AT_CLOUD)
def test_what_was_mistyped_at_the_cloud_is_named_and_forgotten_when_mended(what: str) -> None:
    name, change, seconds, words = AT_CLOUD[what]
    found = world()
    kind, _, key = name.partition("/")
    resource = found.store.resources[kind, key]
    right = resource.body
    resource.body = change(right)
    found.rebuild()
    found.run(seconds)
    assert not status_of(found).right
    for word in words:
        assert word in told(found), told(found)
    resource.body = right
    found.rebuild()
    found.run(60.0 if seconds < 100 else 700.0)
    assert told(found) == ""
    assert status_of(found).right
