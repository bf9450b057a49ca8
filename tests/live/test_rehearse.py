"""A design rehearsed in virtual time: what was predicted is what packets do; what is wrong is seen."""

from __future__ import annotations

import dataclasses
import random
from pathlib import Path

import pytest

import obrin
from obrin.core.drill.elements import Element, elements, parse_elements
from obrin.core.handover.pack import make_pack
from obrin.core.handover.secrets import Secrets
from obrin.core.handover.standard.basic import as_json
from obrin.core.routing.model import state_of
from obrin.live.rehearse import virtual
from obrin.live.rehearse.compare import differences
from obrin.live.rehearse.play import Rehearsal, ending
from obrin.live.rehearse.scenes import KEYS, REKEYS, TIME, Gone, Scene
from obrin.live.rehearse.virtual_stage import VirtualStage
from tests.authority import NOW
from tests.doubles import settled_of, swap
from tests.healthy import Healthy
from tests.live.buildable import Drawn
from tests.live.test_virtual_world import MORE
from tests.live.virtual_world import VirtualWorld, keys_of


def tried(text: str, seed: int, failures: int) -> Rehearsal:
    """A design with so many failures, of which each goes as predicted."""
    settled = settled_of(text)
    rehearsal = Rehearsal(VirtualStage(VirtualWorld(settled)))
    every = elements(settled)
    played = [rehearsal.begin()]
    asked = [one for one in rehearsal.ask_all() if not one.met]
    for one in random.Random(seed).sample(every, min(failures, len(every))):
        played.append(rehearsal.fail((one,)))
    assert (asked, [scene for scene in played if not scene.good]) == ([], []), text
    return rehearsal


def rehearsed(seed: int, failures: int) -> None:
    text = Drawn(seed).text
    odd = [scene for scene in ending(tried(text, seed, failures)) if not scene.good]
    assert odd == [], text


@pytest.mark.parametrize("first", [0, pytest.param(3, marks=pytest.mark.long)])
def test_drawn_designs_go_as_predicted(first: int) -> None:
    for seed in range(first, first + 3):
        rehearsed(seed, failures=2)


def joined(seed: int, failures: int) -> None:
    """A design with hubs, circuits, several gateways at a site and internal BGP, as they come."""
    tried(str(Healthy(seed)), seed, failures)


EACH_TEN = [pytest.param(first, marks=pytest.mark.long) for first in range(10, 100, 10)]


@pytest.mark.long
@pytest.mark.parametrize("first", [0, *EACH_TEN])
def test_whatever_is_drawn_goes_as_predicted(first: int) -> None:
    for seed in range(first, first + 10):
        joined(seed, failures=1)


@pytest.mark.slow
@pytest.mark.parametrize("first", range(1000, 3400, 40))
def test_two_thousand_designs_go_as_predicted(first: int) -> None:
    for seed in range(first, first + 40):
        joined(seed, failures=3)


CROSSING = Path(obrin.__file__).parent / "demo" / "crossing.yaml"


@pytest.mark.long
def test_the_crossing_goes_as_predicted_in_every_kind_of_failure() -> None:
    """Hub, circuit, two gateways that tell each other, peers beyond the tunnels, both families."""
    settled = settled_of(CROSSING.read_text())
    rehearsal = Rehearsal(VirtualStage(VirtualWorld(settled)))
    assert rehearsal.begin().good
    assert all(one.met for one in rehearsal.ask_all())
    seen = {}
    for name in ("circuit:harbour-line", "gateway:hh-east", "zone:east-3/a", "cloud:ledger"):
        (element,) = parse_elements(settled, [name])
        scene = seen[name] = rehearsal.fail((element,))
        assert scene.good, scene
    circuit = {flow.longest for flow in seen["circuit:harbour-line"].gone}
    assert circuit == {0.9}
    # The gateway beside believes for nine seconds what the dead one told it.
    slow = [flow for flow in seen["gateway:hh-east"].gone if "harbour-house" in flow.flow]
    assert {(flow.shortest, flow.longest) for flow in slow} == {(6.0, 9.0)}
    assert "internal BGP" in slow[0].noticed_by


def test_a_gateway_that_restarts_comes_back_without_a_word() -> None:
    settled = settled_of(CROSSING.read_text())
    world, whole = VirtualWorld(settled), state_of(settled)
    world.run(60.0)
    for gateway in settled.gateways:
        assert list(differences(world, whole)) == []
        world.restart(gateway)
        # The far end of a tunnel that the cloud begins notices by dead-peer detection.
        world.run(45.0)
    assert list(differences(world, whole)) == []


@pytest.mark.slow
@pytest.mark.parametrize("first", range(5000, 5400, 20))
def test_many_drawn_designs_go_as_predicted_in_every_failure(first: int) -> None:
    for seed in range(first, first + 20):
        rehearsed(seed, failures=99)


def edited(change) -> Rehearsal:
    """A world in which somebody changed the pack of the site's gateway."""
    settled = settled_of(MORE)
    secrets = Secrets(keys_of(settled), {})
    pack = make_pack(settled, "quay-gw", secrets)
    config = pack.config
    change(config)
    packs = {"quay-gw": dataclasses.replace(pack, config_text=as_json(config))}
    world = virtual.VirtualWorld(settled, secrets, packs=packs, start=NOW)
    return Rehearsal(VirtualStage(world))


def speakers(config) -> list:
    return config["obrin-bgp:bgp"]["neighbor"]


def slow_hold(config) -> None:
    for speaker in speakers(config):
        speaker["hold-time"] = 60


def other_preference(config) -> None:
    one, two = speakers(config)
    one["local-preference"], two["local-preference"] = (
        two["local-preference"],
        one["local-preference"],
    )


def deaf(config) -> None:
    speakers(config)[1]["accept"] = []


def test_a_wrong_preference_shows_in_the_tables() -> None:
    scene = edited(other_preference).begin()
    assert not scene.good
    assert scene.mended is None
    assert any("goes bgp by quay-apps/b, by the model bgp by quay-apps/a" in w for w in scene.apart)


def test_a_backup_that_takes_nothing_over_shows_in_the_failure() -> None:
    rehearsal = edited(deaf)
    assert rehearsal.begin().good  # nothing of it is seen while all is up
    scene = rehearsal.fail([Element("tunnel", "quay-apps/a")])
    assert not scene.good
    assert any(flow.measured is None and flow.longest for flow in scene.gone)
    assert any("goes nowhere" in words for words in scene.apart)


def test_a_hold_time_of_ones_own_is_no_difference_since_the_lower_counts() -> None:
    rehearsal = edited(slow_hold)
    assert rehearsal.begin().good
    assert rehearsal.fail([Element("tunnel", "quay-apps/a")]).good  # RFC 4271 section 4.2


def test_several_fail_together_and_rekeys_lose_nothing() -> None:
    rehearsal = Rehearsal(VirtualStage(VirtualWorld(settled_of(MORE))))
    rehearsal.begin()
    both = [Element("tunnel", f"quay-apps/{name}") for name in "ab"]
    first = rehearsal.fail(both)
    rekeys, keys = ending(rehearsal)
    assert first.what == "tunnel:quay-apps/a + tunnel:quay-apps/b"
    assert first.good
    assert {flow.measured for flow in first.gone} == {None}
    assert (rekeys.what, rekeys.good, rekeys.gone) == (REKEYS, True, ())
    assert (keys.what, keys.good) == (KEYS, True)


def test_new_keys_are_at_both_ends_and_a_wrong_one_is_noticed(monkeypatch) -> None:
    world = VirtualWorld(settled_of(MORE))
    rehearsal = Rehearsal(VirtualStage(world))
    rehearsal.begin()
    peers = world.routers["quay-gw"].config.tunnels, world.instance(1).config.tunnels
    before = peers[0]["quay-apps/a"].peer.key
    assert rehearsal.renew_keys().good
    after = [
        world.routers["quay-gw"].config.tunnels["quay-apps/a"].peer.key,
        world.instance(1).config.tunnels["quay-apps.a"].peer.key,
    ]
    assert after[0] == after[1] != before
    monkeypatch.setattr(world, "_hand", lambda *given: None)  # the site is not told
    scene = rehearsal.renew_keys()
    assert not scene.good
    assert any("with the key of quay-apps/" in flow.flow for flow in scene.gone)


def test_hours_pass_without_a_gap() -> None:
    world = VirtualWorld(settled_of(MORE.replace("hold-time: 6 s", "hold-time: 90 s")))
    rehearsal = Rehearsal(VirtualStage(world))
    rehearsal.begin()
    children = {
        c.spi_in for c in world.routers["quay-gw"].ike.tunnels["quay-apps/a"].children.values()
    }
    scene = rehearsal.endure(2 * 3600.0)
    assert (scene.what, scene.good) == (TIME, True)
    later = world.routers["quay-gw"].ike.tunnels["quay-apps/a"].children.values()
    assert children.isdisjoint(c.spi_in for c in later)  # it was rekeyed when its time came
    world.cut("quay-apps/a")
    world.cut("quay-apps/b")
    world.run(200.0)
    assert not rehearsal.endure(60.0).good


@pytest.mark.parametrize(
    ("shortest", "longest", "measured", "met"),
    [
        (4.0, 6.0, 5.0, True),
        (4.0, 6.0, 6.6, True),
        (4.0, 6.0, 6.7, False),
        (4.0, 6.0, 3.3, False),
        (40.0, 60.0, 65.9, True),
        (4.0, 6.0, None, False),
        (0.0, None, None, True),
        (0.0, None, 5.0, False),
        (0.0, 0.0, 0.4, True),
        (0.0, 0.0, 0.7, False),
    ],
)
def test_what_counts_as_predicted(shortest, longest, measured, met: bool) -> None:
    flow = Gone(flow="x", shortest=shortest, longest=longest, measured=measured)
    assert flow.met is met
    assert Scene(what="y", gone=(flow,)).good is met


def test_a_session_that_ends_as_its_tunnel_does_begins_again() -> None:
    """The hold timer and dead-peer detection at the same instant: the connection is gone before it
    was hung up."""
    quick = (
        "    bgp: {hold-time: 6 s}",
        "    bgp: {hold-time: 6 s}\n    liveness: {delay: 2 s, wait: 500 ms, tries: 3}",
    )
    world = VirtualWorld(settled_of(swap(quick, text=MORE)))
    world.run(8.0)
    bgp = world.routers["quay-gw"].bgp
    session = bgp.sessions["quay-apps/a"]
    session._hold_at = world.now
    session.handle_timer(world.now)
    assert session.hang_up
    bgp.tunnel_down("quay-apps/a", world.now)
    bgp.tunnel_up("quay-apps/a", world.now)
    world.run(20.0)
    assert session.established
