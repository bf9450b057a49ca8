"""Real probes: ordinary sockets of an ordinary kernel, between namespaces through the practice world."""

from __future__ import annotations

import contextlib
import json
import socket
import subprocess
import threading
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from obrin.core.address.prefix import parse_address
from obrin.live.observe.here import NotAllowed, connect, datagram, ping
from tests.cli.program import PROGRAM, Folder
from tests.doubles import DESIGN, swap
from tests.outputs import valid

pytestmark = pytest.mark.long

HOME = parse_address("127.0.0.1")
TWO_NETWORKS = swap(
    ("guests: 10.20.8.0/24", "guests: 10.20.8.0/24, labs: 10.20.12.0/24"),
    ("networks: [desks]", "networks: [desks, labs]"),
    (
        "  - {from: quay/guests,",
        "  - {from: quay/labs, to: apps/web, flow: icmp}\n  - {from: quay/guests,",
    ),
)


def test_tcp_and_udp_on_loopback() -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_STREAM) as server:
        server.bind(("127.0.0.1", 0))
        server.listen()
        assert connect(HOME, server.getsockname()[1]).answered
        port = server.getsockname()[1]
    refused = connect(HOME, port)
    assert (refused.answered, refused.refused) == (False, True)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as echo:
        echo.bind(("127.0.0.1", 0))
        echo.settimeout(5)

        def answer() -> None:
            data, sender = echo.recvfrom(100)
            echo.sendto(data, sender)

        thread = threading.Thread(target=answer)
        thread.start()
        assert datagram(HOME, echo.getsockname()[1]).answered
        thread.join()
        port = echo.getsockname()[1]
    assert datagram(HOME, port).refused


def test_ping_in_both_families() -> None:
    for text in ("127.0.0.1", "::1"):
        try:
            reply = ping(parse_address(text), 1300)
        except NotAllowed as error:
            pytest.skip(str(error))
        except OSError:
            continue  # no IPv6 here at all
        assert reply.answered
        assert 0 < reply.seconds < 1.5


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    folder = Folder(tmp_path_factory.mktemp("here"), real=True)
    folder.write("design.yaml", TWO_NETWORKS)
    folder.obrin("settle").good()
    folder.obrin("practice", "start", "--speed", "5000").good()
    try:
        folder.obrin("connect", timeout=120).good()
        run = folder.obrin("practice", "run", "quay/desks", "--", "sh", "-c", "exit 7")
        if run.code != 7:
            pytest.skip(run.err)
        yield folder
    finally:
        folder.obrin("practice", "stop")


def here(folder: Folder, network: str, name: str) -> list[dict]:
    """Asked by a program in the place of a host there."""
    asked = str(PROGRAM), "probe", "--here", network, "--to", name, "--json"
    run = folder.obrin("practice", "run", network, "--", *asked, timeout=120)
    return valid("probe --here", json.loads(run.out))


def test_from_a_host_of_the_practice_world(world: Folder) -> None:
    found = here(world, "quay/desks", "desks.json")
    assert [(f["flow"], f["must"], f["met"]) for f in found] == [
        ("tcp/443", "work", True),
        ("icmp", "work", True),
    ]
    for one in found:
        assert one["path"] == ["quay-gw at quay-apps/a", "apps at quay-apps/a"]
        assert 0 < one["seconds"] <= one["waited"]
    sizes = {s["bytes"]: s["answered"] for s in found[1]["sizes"]}
    assert len(sizes) == 2
    assert all(sizes.values())
    guests = here(world, "quay/guests", "guests.json")
    assert [(f["must"], f["met"], f["answers"]) for f in guests] == [("not", None, [False] * 3)]
    assert "nothing shows that packets cross from quay/guests" in guests[0]["not_known"]
    merged = world.obrin("probe", "--merge", "desks.json", "--merge", "guests.json").bad(1, "")
    assert "2 of 3 expectations are as wished, of 1 it is not known" in merged.out
    results = (world.path / "desks.json").read_text()
    assert "10.20." not in results  # no address stands in what is handed on


def test_causes_from_real_packets(world: Folder) -> None:
    world.obrin("practice", "fault", "large", "quay-gw/fibre").good()
    world.obrin("practice", "fault", "large", "quay-gw/radio").good()
    try:
        found = here(world, "quay/desks", "large.json")
        assert "small ones pass and large ones hang" in found[1]["cause"]
    finally:
        world.obrin("practice", "heal").good()
    for uplink in ("quay-gw/fibre", "quay-gw/radio"):
        world.obrin("practice", "cut", "uplink", uplink).good()
    try:
        here(world, "quay/desks", "cut.json")
        run = world.obrin("probe", "--merge", "cut.json").bad(1, "")
        assert "nothing answers to quay at all" in run.out
    finally:
        world.obrin("practice", "heal").good()


def neighbours(config: dict) -> list[dict]:
    return config["obrin-bgp:bgp"]["neighbor"]


def rules(config: dict) -> list[dict]:
    return config["ietf-access-control-list:acls"]["acl"][0]["aces"]["ace"]


def tells_nothing(config: dict) -> None:
    for one in neighbours(config):
        one["announce"] = []


def takes_nothing(config: dict) -> None:
    for one in neighbours(config):
        one["accept"] = []


def forgets_the_desks(config: dict) -> None:
    for one in neighbours(config):
        one["announce"].remove("10.20.0.0/22")


def lacks_the_rule(config: dict) -> None:
    """That of the service, in both directions."""
    kept = [ace for ace in rules(config) if "tcp" not in ace.get("matches", {})]
    rules(config)[:] = kept


@pytest.mark.parametrize(
    ("change", "causes"),
    [
        (forgets_the_desks, {"icmp": "the way back to quay/desks alone is missing at an end"}),
        *(
            pytest.param(change, causes, marks=pytest.mark.slow)
            for change, causes in (
                (lacks_the_rule, {"tcp/443": "the hosts reach each other, and tcp/443 does not"}),
                (tells_nothing, {"icmp": "no route leads into them"}),
                (takes_nothing, {"icmp": "no route leads into them"}),
            )
        ),
    ],
)
def test_what_was_mistyped_at_the_gateway_is_named_by_real_packets(world, change, causes) -> None:
    path = world.path / "packs" / "design" / "quay-gw" / "config.json"
    right = path.read_text()
    config = json.loads(right)
    change(config)
    path.write_text(json.dumps(config))
    try:
        world.obrin("connect", "--timeout", "2", timeout=60)
        here(world, "quay/desks", "desks.json")
        here(world, "quay/labs", "labs.json")
        run = world.obrin("probe", "--merge", "desks.json", "--merge", "labs.json", "--json")
        found = {f["flow"]: f["cause"] for f in run.json if f["from"] == "quay/desks"}
        for flow, words in causes.items():
            assert words in found[flow], found
    finally:
        path.write_text(right)
        world.obrin("connect", timeout=60).good()


WEB = "web: {hosts: 100}"


@pytest.mark.parametrize(
    "entered",
    [
        pytest.param("web: {hosts: 100, propagation: false}", id="propagation off"),
        pytest.param(
            "web: {hosts: 100, hosts-accept: [udp/53]}",
            id="a firewall of the hosts",
            marks=pytest.mark.slow,
        ),
    ],
)
def test_what_is_missing_beyond_the_tunnel_is_named(world: Folder, entered: str) -> None:
    """What was built is another design than the one that is asked by."""
    world.write("design.yaml", TWO_NETWORKS.replace(WEB, entered))
    try:
        world.obrin("settle").good()
        world.obrin("connect", timeout=60)
        world.write("design.yaml", TWO_NETWORKS)
        found = here(world, "quay/desks", "desks.json")
        assert {one["met"] for one in found} == {False}
        assert all("packets cross: apps at quay-apps/a answers" in one["cause"] for one in found)
    finally:
        world.write("design.yaml", TWO_NETWORKS)
        world.obrin("settle").good()
        world.obrin("connect", timeout=60).good()


def test_what_cannot_be_asked_is_reported(tmp_path: Path) -> None:
    folder = Folder(tmp_path)
    folder.write("design.yaml", swap(text=DESIGN))
    folder.obrin("settle").good()
    folder.write("broken.json", "{}")
    folder.all_bad(
        [
            (
                ("probe", "--here", "quay/nothing"),
                2,
                "There are: apps/web, quay/desks, quay/guests",
            ),
            (("probe", "--here", "quay/desks", "--merge", "x"), 2, "do not go together"),
            (("probe", "--to", "x"), 2, "go with '--here'"),
            (("probe", "--here", "quay/desks", "--host", "apps/web=x"), 2, "--host: "),
            (("probe", "--merge", "gone.json"), 2, "cannot be read"),
            (("probe", "--merge", "broken.json"), 2, "these are not the results of a probe"),
        ]
    )


def running(mark: str) -> list[str]:
    """Processes with this word in their command line."""
    found = []
    for file in Path("/proc").glob("[0-9]*/cmdline"):
        with contextlib.suppress(OSError):
            if mark.encode() in file.read_bytes().split(b"\0"):
                found.append(file.parent.name)
    return found


def until(true: Callable[[], bool]) -> bool:
    end = time.monotonic() + 10
    while not true() and time.monotonic() < end:
        time.sleep(0.05)
    return true()


def test_what_a_program_leaves_running_ends_with_it(world: Folder) -> None:
    mark = "61.25"
    text = f"sleep {mark} & echo begun"
    run = world.obrin("practice", "run", "quay/desks", "--", "sh", "-c", text).good()
    assert "begun" in run.out
    assert until(lambda: not running(mark))


def test_a_program_ends_when_the_command_is_killed(world: Folder) -> None:
    mark = "62.25"
    command = [str(PROGRAM), "practice", "run", "quay/desks", "--", "sleep", mark]
    with subprocess.Popen(command, cwd=world.path) as process:
        assert until(lambda: len(running(mark)) == 2)  # the command and the program
        process.kill()
    assert until(lambda: not running(mark))
