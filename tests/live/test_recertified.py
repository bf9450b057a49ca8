"""Certificates renewed on running tunnels, under a new root too: in virtual time, and by the
program."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest

import obrin
from obrin.core.design.places import NetworkRef
from obrin.core.handover.secrets import Secrets
from obrin.core.settled.model import host_of
from obrin.live.secrets.authority import Authority
from obrin.live.secrets.material import certificate_files, lives_of
from tests.authority import NOW
from tests.cli.program import Folder
from tests.cli.torture import KILLED, VARIABLE
from tests.doubles import settled_of, swap
from tests.live.test_killed import count_of
from tests.live.virtual_world import VirtualWorld, keys_of
from tests.outputs import valid

LEDGER = Path(obrin.__file__).parent / "demo" / "ledger.yaml"
CERTIFIED = settled_of(
    swap(("bgp: {hold-time: 6 s}", "bgp: {hold-time: 6 s}\n    authentication: certificate"))
)


def issued(authority: Authority) -> None:
    for name, identities in CERTIFIED.certified().items():
        authority.issue(name, identities, lives_of(CERTIFIED), NOW)


def test_another_root_and_all_below_it_cut_nothing() -> None:
    """Round by round, as `certificates rotate` goes, with real packets all the time."""
    lives, authority = lives_of(CERTIFIED), Authority(name="x")
    authority.found(lives, NOW)
    issued(authority)
    world = VirtualWorld(CERTIFIED, certificates=certificate_files(authority, CERTIFIED, NOW))
    world.run(12.0)
    ends = (NetworkRef.of(name) for name in ("quay/desks", "apps/web"))
    desk, web = (host_of(CERTIFIED.network(end)) for end in ends)
    router = world.routers["quay-gw"]
    first = {name: tunnel.current for name, tunnel in router.ike.tunnels.items()}
    old_root = authority.roots[0].certificate

    def told() -> None:
        secrets = Secrets(keys_of(CERTIFIED), certificate_files(authority, CERTIFIED, NOW))
        world.change(CERTIFIED, lambda: world.run(0.05), secrets)
        assert world.longest_gap(desk, web, 3.0) <= 0.06

    authority.found(lives, NOW)
    told()
    issued(authority)
    told()
    assert {name: tunnel.current for name, tunnel in router.ike.tunnels.items()} == first
    for label in ("quay-apps/b", "quay-apps/a"):
        router.begin_anew(label, world.now)
        assert world.longest_gap(desk, web, 10.0) <= 0.06
        chain = router.ike.tunnels[label].peer_chain
        assert chain[1].issuer == authority.roots[1].certificate.subject
        assert router.ike.tunnels[label].established
    assert authority.retire(CERTIFIED.certified(), NOW) == [f"{old_root.serial_number:x}"]
    now = {name: tunnel.current for name, tunnel in router.ike.tunnels.items()}
    told()
    assert {name: tunnel.current for name, tunnel in router.ike.tunnels.items()} == now


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    folder = Folder(tmp_path_factory.mktemp("certified"))
    shutil.copy(LEDGER, folder.path / "design.yaml")
    folder.obrin("settle").good()
    folder.obrin("handover").good()
    folder.obrin("practice", "start", "--speed", "5000").good()
    try:
        folder.obrin("connect", timeout=120).good()
        yield folder
    finally:
        folder.obrin("practice", "stop")


def serials(world: Folder) -> dict[str, str]:
    found = world.obrin("certificates", "list", "--json").good().json
    return {f"{c['what']} {c['name']}": c["serial"] for c in found if c["state"] == "in use"}


@pytest.mark.long
def test_a_new_root_is_rotated_in_killed_and_taken_up(world: Folder) -> None:
    dry = world.obrin("certificates", "rotate", "--dry-run", "--json").good().json
    subjects = [c["subject"] for c in valid("certificates rotate", dry)["changes"]]
    assert subjects[-2:] == ["harbour-ledger/south", "harbour-ledger/north"]  # what carries is last
    store = world.path / ".obrin" / "certificates-design.json"
    command = ("certificates", "rotate", "--below", "root")
    count = count_of(world, *command)
    taken_up = 0
    for number in (count // 2, count - 12, count - 6):
        world.obrin("handover").good()  # then nothing else is written than in the first run
        before = serials(world)
        assert world.obrin(*command, **{VARIABLE: f"kill:{number}"}).code == KILLED, number
        if json.loads(store.read_text())["turns"]:
            world.obrin("certificates", "rotate", "hh-west").bad(2, "not finished yet")
            assert "Taken up" in world.obrin("certificates", "rotate", timeout=120).good().err
            taken_up += 1
        else:
            world.obrin(*command, timeout=120).good()
        assert json.loads(store.read_text())["turns"] == []
        after = serials(world)
        assert after.keys() == before.keys()
        assert all(after[name] != before[name] for name in before), number
        world.obrin("status").good()
    assert taken_up
    world.obrin("certificates", "retire", "--dry-run").good()
    assert "believed no more" in world.obrin("certificates", "retire").good().out
    world.obrin("connect", timeout=120).good()
    world.obrin("status").good()


@pytest.mark.long
def test_who_is_not_named_keeps_the_certificate(world: Folder) -> None:
    before = serials(world)
    world.obrin("certificates", "renew", "issuing").good()
    world.obrin("certificates", "rotate", "hh-west", timeout=120).good()
    after = serials(world)
    changed = {name for name in before if before[name] != after[name]}
    assert changed == {"issuing skerrow-ledger", "gateway hh-west"}
    world.obrin("status").good()


@pytest.mark.long
@pytest.mark.parametrize("names", [(), ("hh-west",)])
def test_a_tunnel_that_does_not_come_up_shows_the_old_certificates_again(
    world: Folder, names: tuple[str, ...]
) -> None:
    before = serials(world)
    world.obrin("practice", "cut", "tunnel", "harbour-ledger/south").good()
    try:
        run = world.obrin("certificates", "rotate", *names, "--timeout", "3", timeout=120)
        assert "did not come up by the new certificates" in run.bad(3).err
    finally:
        world.obrin("practice", "heal").good()
    assert serials(world) == before


@pytest.mark.long
def test_where_an_end_is_done_by_hand_nothing_is_begun(world: Folder) -> None:
    before = serials(world)
    world.write("design.places.yaml", "gateways: {hh-west: {driver: by-hand, by: Ada}}\n")
    try:
        run = world.obrin("certificates", "rotate").bad(3, "done by hand", "certificates renew")
        assert "Taken up" not in run.err
        world.write("design.places.yaml", "gateways: {sw-box: {driver: by-hand, by: Ada}}\n")
        world.obrin("keys", "rotate").bad(3, "done by hand", "keys renew")
    finally:
        (world.path / "design.places.yaml").unlink()
    assert serials(world) == before
    assert "turns" not in (world.path / ".obrin/keys-design.json").read_text()


def test_what_cannot_be_rotated(tmp_path: Path) -> None:
    folder = Folder(tmp_path)
    shutil.copy(LEDGER, tmp_path / "design.yaml")
    folder.obrin("settle").good()
    for given, words in (
        (("rotate", "nobody"), "needs no certificate"),
        (("rotate", "sw-box"), "needs no certificate"),
        (("rotate", "hh-west", "--below", "root"), "Leave the NAMES out"),
        (("rotate",), "no practice world runs here"),
    ):
        folder.obrin("certificates", *given).bad(2, words)
    assert "No older root" in folder.obrin("certificates", "retire").good().out
    folder.obrin("certificates", "renew", "root").good()
    folder.obrin("certificates", "retire").bad(2, "hh-west", "certified below an older root")
