"""The life of a practice world's processes: only its own are ended, and none is left behind."""

from __future__ import annotations

import json
import shutil
import signal
import socket
import subprocess
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

import obrin
from obrin.live.http import InternetClient
from obrin.live.practice.internet.cable import TOKEN_SIZE
from obrin.live.practice.record import need_world, proves, read_record
from tests.cli.program import PROGRAM, Folder
from tests.doubles import DESIGN

pytestmark = pytest.mark.long


def processes(folder: Path) -> list[int]:
    """Of practice worlds that were started in a folder, by what the system says."""
    found = []
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                words = (entry / "cmdline").read_bytes().split(b"\0")
                state = (entry / "stat").read_text().rpartition(")")[2].split()[0]
            except OSError:
                continue
            if b"obrin.live.practice.run" in words and state != "Z":
                where = words[words.index(b"--folder") + 1].decode()
                if Path(where).is_relative_to(folder):
                    found.append(int(entry.name))
    return found


def until(what: Callable[[], bool], seconds: float = 15.0) -> None:
    end = time.monotonic() + seconds
    while not what():
        assert time.monotonic() < end
        time.sleep(0.1)


needs_proc = pytest.mark.skipif(not Path("/proc/self/stat").exists(), reason="no /proc")


@pytest.fixture
def folder(tmp_path) -> Folder:
    made = Folder(tmp_path / "project", real=True)
    made.path.mkdir()
    made.write("design.yaml", DESIGN)
    made.obrin("settle").good()
    yield made
    if made.path.exists():
        made.obrin("practice", "stop")


@needs_proc
def test_only_ones_own_are_ended_and_a_copy_ends_nothing(folder, tmp_path) -> None:
    folder.obrin("practice", "start").good()
    running = processes(folder.path)
    assert len(running) == 3
    shutil.copytree(folder.path, tmp_path / "copy")
    copy = Folder(tmp_path / "copy", real=True)
    copy.obrin("status").bad(2, "no practice world runs here")
    run = copy.obrin("practice", "status").bad(2, "3 of 3 processes are dead")
    assert run.out.count("DEAD") == 3
    assert "No practice world runs here" in copy.obrin("practice", "stop").good().err
    assert processes(folder.path) == running
    # A record that names the numbers and ports of strangers ends nobody.
    with subprocess.Popen(["sleep", "60"]) as stranger:
        with socket.create_server(("127.0.0.1", 0)) as server:
            record = json.loads((folder.path / ".obrin/practice/world.json").read_text())
            record |= {
                "starter": stranger.pid,
                "pids": {"x": stranger.pid},
                "processes": ["x"],
                "ports": {"x": server.getsockname()[1], "internet": 1, "cloud": 2},
            }
            (tmp_path / "copy/.obrin/practice/world.json").write_text(json.dumps(record))
            assert "No practice world runs" in copy.obrin("practice", "stop").good().err
        assert stranger.poll() is None
        stranger.kill()
    folder.obrin("practice", "status").good()
    folder.obrin("practice", "stop").good()
    until(lambda: not processes(folder.path))


@needs_proc
def test_a_deleted_folder_leaves_no_orphan(folder) -> None:
    folder.obrin("practice", "start").good()
    assert processes(folder.path)
    shutil.rmtree(folder.path)
    until(lambda: not processes(folder.path))


@needs_proc
@pytest.mark.parametrize("after", [0.3, 0.6, 1.0, 1.5])
def test_a_killed_start_leaves_no_orphan(folder, after: float) -> None:
    with subprocess.Popen(
        [PROGRAM, "practice", "start"],
        cwd=folder.path,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    ) as start:
        time.sleep(after)
        start.send_signal(signal.SIGKILL)
    if read_record(folder.path / ".obrin" / "practice") is not None:
        record = read_record(folder.path / ".obrin" / "practice")
        if record.state == "running":
            return  # it was quicker than the kill
    until(lambda: not processes(folder.path))
    folder.obrin("practice", "start").good()
    assert len(processes(folder.path)) == 3
    folder.obrin("practice", "stop").good()


def test_a_capture_is_not_written_through_a_link(folder, tmp_path) -> None:
    (tmp_path / "precious").write_text("precious")
    (folder.path / "x.pcap").symlink_to(tmp_path / "precious")
    folder.obrin("practice", "start", "--capture", "x.pcap").bad(2, "symbolic link")
    (folder.path / "x.pcap").unlink()
    (tmp_path / "private").mkdir()
    (folder.path / "x.pcap.keys").symlink_to(tmp_path / "private")
    folder.obrin("practice", "start", "--capture", "x.pcap").bad(3, "symbolic link")
    assert (tmp_path / "precious").read_text() == "precious"
    assert not list((tmp_path / "private").iterdir())


@needs_proc
def test_of_two_starts_one_starts(folder) -> None:
    both = [
        subprocess.Popen(
            [PROGRAM, "practice", "start"],
            cwd=folder.path,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        for _ in range(2)
    ]
    said = [process.communicate(timeout=60) for process in both]
    codes = sorted(process.returncode for process in both)
    assert codes[0] == 0, said
    assert codes[1] in (2, 3)
    words = "".join(err for _, err in said)
    assert "runs here already" in words or "is writing in this project" in words
    assert len(processes(folder.path)) == 3


@needs_proc
def test_the_passphrase_stays_with_the_program(folder) -> None:
    folder.obrin("practice", "start", OBRIN_PASSPHRASE="sesame-open").good()
    for pid in processes(folder.path):
        assert b"sesame-open" not in Path(f"/proc/{pid}/environ").read_bytes()
        assert b"sesame-open" not in Path(f"/proc/{pid}/cmdline").read_bytes()


def test_datagrams_of_strangers_are_on_no_cable(folder) -> None:
    """Anything sent to the internet's loopback ports, from anywhere, is counted and goes nowhere."""
    folder.obrin("practice", "start", "--speed", "2000").good()
    folder.obrin("connect").good()
    practice = folder.path / ".obrin" / "practice"
    ports = json.loads((practice / "internet.json").read_text())["cables"]
    world = need_world(practice)
    with closing(InternetClient("the internet", world.internet, world.token)) as internet:
        before = internet.faults()
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as stranger:
            for port in ports.values():
                for data in (
                    b"\0plug",
                    b"",
                    b"x" * 60,
                    bytes(TOKEN_SIZE) + b"\0plug",
                    bytes(TOKEN_SIZE) + b"\x45" + bytes(40),
                    b"y" * 9000,
                ):
                    for _ in range(20):
                        stranger.sendto(data, ("127.0.0.1", port))
                stranger.setblocking(False)
                with pytest.raises(BlockingIOError):
                    stranger.recv(100)
        time.sleep(0.5)
        after = internet.faults()
    assert len(after["lost"]) <= len(before["lost"]) + 1
    assert after["lost"]["a datagram that came by no cable"] >= 300
    folder.obrin("status").good()
    folder.obrin("probe").good()


def test_what_answers_at_a_port_has_to_prove_itself(folder) -> None:
    folder.obrin("practice", "start").good()
    practice = folder.path / ".obrin" / "practice"
    world = need_world(practice)
    assert all(proves(world, practice, port) for port in world.ports.values())
    assert not proves(world, practice.parent, world.ports["cloud"])
    world.token = "another"
    assert not any(proves(world, practice, port) for port in world.ports.values())


LEDGER = Path(obrin.__file__).parent / "demo" / "ledger.yaml"


def test_a_revoked_gateway_stays_out(tmp_path) -> None:
    """Renewed, connected, revoked, connected: its tunnels end and do not come back."""
    folder = Folder(tmp_path, real=True)
    shutil.copy(LEDGER, tmp_path / "design.yaml")
    folder.obrin("settle").good()
    folder.obrin("certificates", "renew", "hh-west").good()
    folder.obrin("handover").good()
    folder.obrin("practice", "start", "--speed", "2000").good()
    try:
        folder.obrin("connect").good()
        folder.obrin("certificates", "revoke", "hh-west").good()
        folder.obrin("handover").good()
        run = folder.obrin("connect", "--timeout", "4").good()  # nobody waits for them
        assert "tunnels/harbour-ledger." in run.err
        tunnels = folder.obrin("status", "--json").good().json
        assert all(
            ("revoked" in t["revoked"]) == t["tunnel"].startswith("harbour-ledger/")
            for t in tunnels
        )
        seen = {t["tunnel"]: (t["site"]["child"], t["cloud"]["child"]) for t in tunnels}
        barred = {n: ends for n, ends in seen.items() if n.startswith("harbour-ledger/")}
        assert barred
        assert all(ends == ("down", "not configured") for ends in barred.values())
        assert any(ends == ("up", "up") for n, ends in seen.items() if n not in barred)
        assert "certificate-revoked" in folder.obrin("check").out
        folder.obrin("certificates", "renew", "hh-west").good()
        folder.obrin("connect").good()
    finally:
        folder.obrin("practice", "stop")


@pytest.mark.slow
def test_a_hundred_gateways_answer_all_probes(tmp_path) -> None:
    sites, links, wishes = [], [], []
    for i in range(100):
        sites.append(
            f"  s{i}:\n    networks: {{lan: 10.{100 + i // 64}.{i % 64 * 4}.0/24}}\n"
            f"    gateways:\n      g{i}:\n        uplinks:\n"
            f"          a: {{address: 198.51.100.{i + 1}, provider: one}}\n"
            f"          b: {{address: 192.0.2.{i + 1}, provider: two}}\n"
        )
        links.append(
            f"  l{i}:\n    site: s{i}\n    cloud: apps\n    tunnels:\n"
            f"      a: {{gateway: g{i}, uplink: a, instance: 1}}\n"
            f"      b: {{gateway: g{i}, uplink: b, instance: 2}}\n"
        )
        wishes.append(
            f"  - {{from: s{i}/lan, to: apps/web, flow: tcp/443, must: work}}\n"
            f"  - {{from: apps/web, to: s{i}/lan, flow: icmp, must: work}}\n"
        )
    folder = Folder(tmp_path, real=True)
    folder.write(
        "design.yaml",
        "obrin: 1\nname: load\nsites:\n"
        + "".join(sites)
        + "clouds:\n  apps:\n    space: 10.64.0.0/20\n    subnets: {web: {hosts: 100}}\n"
        "    gateway: {instances: 2}\nlinks:\n"
        + "".join(links)
        + "expectations:\n"
        + "".join(wishes),
    )
    folder.obrin("settle").good()
    folder.obrin("practice", "start", "--speed", "5000").good()
    try:
        folder.obrin("connect", "--timeout", "200", timeout=400).good()
        run = folder.obrin("probe", timeout=200).good()
        assert "200 of 200 expectations are as wished" in run.out
    finally:
        folder.obrin("practice", "stop")
