"""The built program on a running practice world: connect, kill and resume, status, probe, faults."""

from __future__ import annotations

import ipaddress
import json
import os
import re
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path

import pytest

import obrin
from obrin.live.drivers.places import Place
from obrin.live.drivers.registry import open_ends
from obrin.live.drivers.restconf import open_gateway
from obrin.live.http import Client
from obrin.live.observe.outage import measure_outage
from obrin.live.practice.record import need_world
from obrin.live.project import Project
from obrin.wire.capture import decode_capture
from tests.cli.program import PROGRAM, Folder
from tests.doubles import DESIGN, swap
from tests.outputs import valid

pytestmark = pytest.mark.long

CROSSING = Path(obrin.__file__).parent / "demo" / "crossing.yaml"


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    """A project with its world running; its connect was killed in the middle, then run again."""
    folder = Folder(tmp_path_factory.mktemp("world"), real=True)
    folder.write("design.yaml", DESIGN)
    folder.obrin("settle").good()
    folder.obrin("practice", "start", "--speed", "250", "--capture", "x.pcap").good()
    try:
        folder.interrupted = stopped_at(folder, signal.SIGINT, "waiting  gateways/apps")
        stopped_at(folder, signal.SIGKILL, "already so")
        folder.resumed = folder.obrin("connect")
        yield folder
    finally:
        folder.obrin("practice", "stop")


def stopped_at(folder: Folder, sign: signal.Signals, told: str) -> tuple[int, float, str]:
    """Send a signal to a connect that tells something: (exit code, seconds, last words)."""
    process = subprocess.Popen(
        [PROGRAM, "connect"],
        cwd=folder.path,
        stderr=subprocess.PIPE,
        stdout=subprocess.DEVNULL,
        text=True,
    )
    for line in process.stderr:
        if told in line:
            break
    sent = time.monotonic()
    process.send_signal(sign)
    words = process.stderr.read()
    return process.wait(), time.monotonic() - sent, words


def test_an_interrupt_ends_the_waiting_at_once(world) -> None:
    code, seconds, words = world.interrupted
    assert code == 130
    assert seconds < 2.0
    *before, last = words.strip().splitlines()
    assert last == "interrupted"
    # What was being finished just then may still be told.
    assert all(line.split()[0] in ("done", "waiting") for line in before if line)


def test_a_killed_connect_is_taken_up_and_nothing_made_twice(world) -> None:
    run = world.resumed.good()
    assert "Taken up from an interrupted run" in run.out
    assert "gateways/apps" in run.out
    assert "networks/apps: already so" in run.err
    assert "  done     gateways/apps: " in run.err  # built, or ready in the meantime
    assert "2 of 2 tunnels up; both ends agree." in run.out
    again = world.obrin("connect").good()
    assert "0 steps done, 12 were already so." in again.out
    journal = sqlite3.connect(world.path / ".obrin" / "journal.sqlite")
    states = {row[0] for row in journal.execute("select state from step")}
    assert states == {"done"}


def test_status_shows_both_ends(world) -> None:
    text = world.obrin("status").good().out
    for word in ("Site says", "Cloud says", "established", "10.20.0.0/22"):
        assert word in text
    for tunnel in valid("status", world.obrin("status", "--json").good().json):
        assert tunnel["up"]
        assert tunnel["disagreements"] == []
        assert tunnel["site"]["packets_out"] > 0
        assert tunnel["cloud"]["received"] == ["10.20.0.0/22"]


def test_probe_meets_every_expectation_and_names_what_dropped(world) -> None:
    outcomes = valid("probe", world.obrin("probe", "--json").good().json)
    assert [o["met"] for o in outcomes] == [True, True, True]
    assert outcomes[2]["seen"] == "no answer"
    assert outcomes[2]["dropped"] == "quay-gw: no filter rule lets it through"


def test_what_acts_out_there_can_be_tried_and_told_to_programs(world) -> None:
    trials = {
        "connect --dry-run": {"pack/quay-gw"},
        "keys rotate": {"key of quay-apps/b", "key of quay-apps/a"},
        "practice cut tunnel quay-apps/a": {"tunnel quay-apps/a"},
        "practice heal": {"everything that was cut"},
        "practice stop": {"practice world"},
    }
    for words, subjects in trials.items():
        command = [word for word in words.split() if word != "--dry-run"]
        told = world.obrin(*command, "--dry-run", "--json").good().json
        name = words if words.startswith("connect") else " ".join(command[:2])
        assert {c["subject"] for c in valid(name, told)["changes"]} == subjects, words
        assert not told["done"]
    connected = valid("connect", world.obrin("connect", "--json").good().json)
    assert (connected["changes"], connected["unchanged"]) == ([], 12)
    assert valid("practice status", world.obrin("practice", "status", "--json").json)
    assert world.obrin("practice", "status", "--json").json["faults"]["paths"] == 0
    assert valid("practice heal", world.obrin("practice", "heal", "--json").good().json)["done"]


def test_a_second_world_is_refused(world) -> None:
    world.obrin("practice", "start").bad(2, "runs here already")


def test_nothing_that_was_written_or_said_holds_a_key(world) -> None:
    keys = [world.obrin("keys", "show", f"quay-apps/{t}").good().out.strip() for t in "ab"]
    for name, data in world.files().items():
        if name.startswith(".obrin/keys-") or name.endswith("/keys.json"):
            continue
        assert not any(key.encode() in data for key in keys), name
    for command in (("status", "--json"), ("probe",), ("connect",), ("check",), ("keys", "list")):
        run = world.obrin(*command)
        assert not any(key in run.out + run.err for key in keys)


def test_the_capture_is_whole_and_its_keys_are_private(world) -> None:
    records = list(decode_capture((world.path / "x.pcap").read_bytes()))
    assert len(records) > 20
    for name in ("esp_sa", "ikev2_decryption_table"):
        assert (world.path / "x.pcap.keys" / name).stat().st_mode & 0o777 == 0o600


@pytest.mark.skipif(shutil.which("tshark") is None, reason="no packet dissector installed")
def test_an_independent_dissector_opens_the_capture_with_the_keys(world) -> None:
    command = [
        "tshark",
        "-r",
        str(world.path / "x.pcap"),
        "-o",
        "esp.enable_encryption_decode:TRUE",
        "-T",
        "fields",
        "-e",
        "_ws.col.Protocol",
        "-e",
        "_ws.col.Info",
        "-e",
        "ip.src",
    ]
    env = {**os.environ, "WIRESHARK_CONFIG_DIR": str(world.path / "x.pcap.keys")}
    text = subprocess.run(command, env=env, capture_output=True, text=True, check=True).stdout
    for inside in (
        "OPEN Message",
        "KEEPALIVE Message",
        "UPDATE Message",
        "Echo (ping) request",
        "Echo (ping) reply",
        "443",
        "10.20.0.10",
        "169.254.1.1",
    ):
        assert inside in text, inside
    assert "ESP\t" not in text  # nothing stayed closed
    detail = subprocess.run(
        ["tshark", "-r", str(world.path / "x.pcap"), "-V", "-Y", "isakmp.exchangetype == 35"],
        env=env,
        capture_output=True,
        text=True,
        check=True,
    ).stdout
    assert "Identification Data:192.0.2.10" in detail
    assert "Malformed" not in detail


def test_keys_are_rotated_while_traffic_runs(world) -> None:
    turns = world.obrin("keys", "rotate", "--dry-run").good().out
    assert turns.index("quay-apps/b") < turns.index("quay-apps/a")  # the one that carries is last
    before = world.obrin("keys", "show", "quay-apps/a").good().out
    project = Project(world.path / "design.yaml")
    _, settled = project.settled()
    with open_ends(project, settled) as ends:
        runs = []
        measured = measure_outage(
            settled,
            ends,
            lambda: runs.append(world.obrin("keys", "rotate")),
            interval=0.05,
            lead=0.2,
            duration=6.0,
        )
    runs[0].good()
    # How long the longest gap is depends on this machine's load; virtual time tells (see
    # test_a_key_replaced_at_one_end_and_later_at_the_other_cuts_nothing).
    assert measured.answered > measured.sent / 2
    assert world.obrin("keys", "show", "quay-apps/a").good().out != before
    assert "0 steps done" in world.obrin("connect").good().out


def test_a_cut_tunnel_is_seen_and_healed(world) -> None:
    world.obrin("practice", "cut", "tunnel", "nowhere").bad(2, "there is no tunnel")
    assert "no differences from the model" in world.obrin("routes", "quay-gw", "--now").good().out
    world.obrin("practice", "cut", "tunnel", "quay-apps/a").good()
    assert "Cut: 1 tunnel paths" in world.obrin("practice", "status").good().out
    told = valid("practice status", world.obrin("practice", "status", "--json").good().json)
    assert {p["state"] for p in told["places"]} == {"answers"}
    assert "quay-gw" in {p["name"] for p in told["places"]}
    assert told["faults"]["paths"] == 1
    assert "token" in json.loads(Path(told["token_file"]).read_text())
    until = time.monotonic() + 15
    while world.obrin("status").code == 0:
        assert time.monotonic() < until
        time.sleep(0.5)
    run = world.obrin("status").bad(1, "1 of 2 tunnels DOWN: quay-apps/a")
    assert run.err == ""
    (moved,) = valid(
        "routes --now", world.obrin("routes", "quay-gw", "--now", "--json").bad(1).json
    )
    assert (moved["what"], moved["tunnel"]) == ("differs", "quay-apps/a")
    world.obrin("routes", "apps", "--now").bad(2, "apps is not a site gateway")
    assert all(o["met"] for o in world.obrin("probe", "--json").good().json)
    world.obrin("practice", "heal").good()
    until = time.monotonic() + 40
    while world.obrin("status").code != 0:
        assert time.monotonic() < until
        time.sleep(0.5)


def test_a_changed_design_is_brought_over_by_connect(world) -> None:
    """A new expectation changes filters at both ends; connect changes just those."""
    before = (world.path / "design.yaml").read_text()
    wish = "  - {from: quay/desks, to: apps/web, flow: tcp/8443, must: work}\n"
    world.write("design.yaml", before + wish)
    world.obrin("probe").bad(1, "NOT AS WISHED")
    run = world.obrin("connect").good()
    assert "2 steps done" in run.out
    assert "filters/apps: built" in run.err
    world.obrin("probe").good()


def cloud_holds(world, kind: str) -> set[str]:
    with the_cloud(world) as cloud:
        return {item["name"] for item in cloud.get(f"/v1/{kind}")["items"]}


def the_cloud(world) -> closing[Client]:
    running = need_world(world.path / ".obrin" / "practice")
    return closing(Client("the cloud", running.cloud, running.token))


def test_what_the_design_no_longer_has_is_ended_and_what_others_made_is_left(world) -> None:
    before = (world.path / "design.yaml").read_text()
    with the_cloud(world) as cloud:
        cloud.call("PUT", "/v1/addresses/somebodys", {"addresses": ["203.0.113.99"]})
    tunnel = "      b: {gateway: quay-gw, uplink: radio, instance: 2}\n"
    world.write("design.yaml", before.replace(tunnel, ""))
    run = world.obrin("status").bad(
        1, "STILL THERE though it has ended: far-ends/quay-apps.quay-gw.radio"
    )
    run = world.obrin("connect", "--keep").bad(1, "STILL THERE", "tunnels/quay-apps.b")
    assert "addresses/somebodys" in run.out
    assert "quay-apps.b" in cloud_holds(world, "tunnels")
    run = world.obrin("connect").good()
    assert "To be ended, since the design has it no more:" in run.err
    assert "beside this design: addresses/somebodys." in run.out
    assert cloud_holds(world, "tunnels") == {"quay-apps.a"}
    assert cloud_holds(world, "far-ends") == {"quay-apps.quay-gw.fibre"}
    assert "somebodys" in cloud_holds(world, "addresses")
    world.obrin("status").good()
    world.write("design.yaml", before)
    world.obrin("connect").good()
    assert cloud_holds(world, "tunnels") == {"quay-apps.a", "quay-apps.b"}


def test_a_link_whose_day_is_over_is_ended_everywhere(world) -> None:
    before = (world.path / "design.yaml").read_text()
    world.write(
        "design.yaml", before.replace("    site: quay\n", "    site: quay\n    until: 2030-01-01\n")
    )
    late = {"OBRIN_TODAY": "2030-01-02"}
    world.obrin("status", **late).bad(1, "STILL THERE", "what quay-gw was given")
    world.obrin("connect", **late).good()
    assert cloud_holds(world, "tunnels") == set()
    running = need_world(world.path / ".obrin" / "practice")
    place = Place(name="quay-gw", url=running.gateways["quay-gw"], token=running.token)
    with closing(open_gateway(place)) as gateway:
        assert gateway.tunnels() == {}
    run = world.obrin("handover", **late).good()
    assert "its keys are taken away" in run.err
    assert not (world.path / "packs/design/quay-gw/keys.json").exists()
    world.write("design.yaml", before)
    world.obrin("connect").good()


def test_connect_goes_by_the_packs_that_were_handed_over(world) -> None:
    """A value changed in a pack: told before anything is done, given to the gateway, seen."""
    config = world.path / "packs/design/quay-gw/config.json"
    whole = config.read_text()
    data = json.loads(whole)
    data["obrin-bgp:bgp"]["neighbor"][0]["remote-autonomous-system"] = 64999
    config.write_text(json.dumps(data))
    run = world.obrin("connect", "--timeout", "6").bad(3, "tunnels DOWN: quay-apps/a")
    assert "remote-autonomous-system: 64999 instead of " in run.err
    assert run.err.index("64999 instead of") < run.err.index("  done     ")
    run = world.obrin("handover").good()
    assert "was changed by hand; that is config.json.edited now" in run.err
    assert config.read_text() == whole
    world.obrin("connect").good()
    keys = world.path / "packs/design/quay-gw/keys.json"
    text = keys.read_text()
    secret = json.loads(text)["obrin-keys:keys"]["pre-shared-key"][0]["secret"]
    keys.write_text(text.replace(secret, secret.swapcase()))
    run = world.obrin("connect", "--timeout", "6").bad(3, "the pre-shared keys differ")
    assert "another value" in run.err
    assert secret not in run.out + run.err
    assert secret.swapcase() not in run.out + run.err
    config.write_text("{")
    world.obrin("connect").bad(2, "config.json is not JSON")
    world.obrin("handover").good()
    world.obrin("connect").good()


def test_a_change_of_every_tunnel_at_once_is_warned_of(world) -> None:
    before = (world.path / "design.yaml").read_text()
    world.write(
        "design.yaml", before.replace("    bgp: {hold-time: 6 s}", "    bgp: {hold-time: 9 s}")
    )
    run = world.obrin("connect").good()
    assert re.search(
        r"warning: all tunnels of quay-apps change at once, .* about [0-9]+ s", run.err
    )
    world.write("design.yaml", before)
    world.obrin("connect").good()
    assert "warning" not in world.obrin("connect").good().err


def test_wrong_token_is_turned_away(world) -> None:
    import httpx

    from obrin.live.practice.record import need_world

    running = need_world(world.path / ".obrin" / "practice")
    for url in (running.cloud, running.internet, *running.gateways.values()):
        answer = httpx.get(f"{url}/v1/networks", headers={"Authorization": "Bearer x"})
        assert answer.status_code == 401
        assert answer.json()["title"] == "not authorised"


def test_a_gateway_that_stops_answering_is_reported_apart(world) -> None:
    """Last: it ends the gateway's process."""
    ready = json.loads((world.path / ".obrin/practice/gateway-quay-gw.json").read_text())
    os.kill(ready["pid"], signal.SIGKILL)
    time.sleep(0.2)
    run = world.obrin("practice", "status").bad(2, "1 of 3 processes are dead")
    assert "DEAD" in run.out
    world.obrin("status").bad(1, "gateway quay-gw does not answer")
    world.obrin("connect", "--timeout", "1").bad(3, "gateway quay-gw does not answer")
    assert "stopped" in world.obrin("practice", "stop").good().out


def test_hub_circuit_and_two_gateways_at_a_site_as_processes(tmp_path) -> None:
    folder = Folder(tmp_path, real=True)
    zones = "      zones: [a, b]\n"
    gives = (zones, f"{zones}      assigns: [addresses, peers]\n")
    folder.write("design.yaml", swap(gives, text=CROSSING.read_text()))
    before = _addresses(folder.obrin("settle", "--json").good().json["values"])
    folder.obrin("handover").bad(2, "packs would have placeholders", "--stand-ins")
    assert "others stand in" in folder.obrin("handover", "--stand-ins").good().err
    sheet = (folder.path / "packs" / "design" / "nq-box" / "sheet.md").read_text()
    assert "(not yet known: it stands in; ask" in sheet
    assert "Every value is final, but for those marked" in sheet
    assert "address-stands-in" in folder.obrin("check").good().out
    try:
        folder.obrin("practice", "start", "--speed", "5000").good()
        run = folder.obrin("connect", timeout=120).good()
        assert "7 of 7 tunnels and circuits up; both ends agree" in run.out
        assert "new sheets for hh-east, hh-west, nq-box, sw-box, crossing" in run.out
        sheet = (folder.path / "packs" / "design" / "nq-box" / "sheet.md").read_text()
        assert "not yet known" not in sheet
        again = folder.obrin("connect", "--json", timeout=120).good().json
        assert (again["assigned"], again["changes"]) == ({}, [])
        told = _addresses(folder.obrin("settle", "--json").good().json["values"])
        assert told.keys() - before.keys() == {"peers"}
        assert all(told[name] != before[name] for name in before)
        assert "stands-in" not in folder.obrin("check").good().out
        sheet = (tmp_path / "packs/design/nq-box/sheet.md").read_text()
        assert f" {told['addresses'][0]} " in sheet
        assert f" {before['addresses'][0]} " not in sheet
        assert "19 of 19 expectations" in folder.obrin("probe", timeout=120).good().out
        folder.obrin("practice", "cut", "circuit", "harbour-line").good()
        folder.obrin("practice", "cut", "attachment", "ledger@crossing").good()
        folder.obrin("practice", "cut", "circuit", "line").bad(2, "There are: harbour-line")
        time.sleep(2.0)
        found = folder.obrin("probe", "--json", timeout=120).bad(1).json
        met = {(f["from"], f["to"]): f["met"] for f in found}
        assert met["harbour-house/counters", "timetable/booking"]  # by a tunnel now
        assert not met["harbour-house/offices", "ledger/accounts"]
        assert "harbour-line/circuit" in folder.obrin("status").bad(1).out
        _programs_cross(folder)
        faults = folder.obrin("practice", "status", "--json").good().json["faults"]
        assert faults["circuits"] == ["harbour-line/circuit"]
        assert faults["attachments"] == ["ledger@crossing"]
        folder.obrin("practice", "heal").good()
        folder.obrin("practice", "fault", "behind", "hh-west", "2h").good()
        folder.obrin("practice", "fault", "ahead", "hh-west", "soon").bad(2, "'2h'")
        folder.obrin("practice", "fault", "restart", "nobody").bad(2, "There are: hh-east")
        for name in ("filters/timetable", "subnets/timetable.booking", "tunnels/yard-crossing.day"):
            folder.obrin("practice", "fault", "drift", "cloud", name).good()
            assert f"{name} is not as the design has it" in folder.obrin("status").bad(1, "").err
        found = folder.obrin("reshape", "--drift", "--json").bad(1, "").json
        assert sorted(one["name"] for one in found) == [
            "filters/timetable",
            "subnets/timetable.booking",
            "tunnels/yard-crossing.day",
        ]
        assert all(one["differing"] and not one["undone"] for one in found)
        for what in ("filter", "liveness"):
            folder.obrin("practice", "fault", "retype", "hh-east", what).good()
        assert "hh-east is not as the design has it: " in folder.obrin("status").bad(1, "").err
        (gateway,) = folder.obrin("reshape", "--drift", "--json").bad(1, "").json[3:]
        assert gateway["name"] == gateway["at"] == "hh-east"
        assert len(gateway["differing"]) == 2
        kept = (folder.path / "design.yaml").read_text()
        run = folder.obrin("reshape", "--drift", "--take", "--json", timeout=120).bad(1, "")
        taken = valid("reshape --drift --take", run.json)
        off = {"place": "clouds.timetable.subnets.booking.propagation", "value": False}
        assert off in taken["taken"]
        assert {left["name"] for left in taken["left"]} >= {"filters/timetable", "hh-east"}
        assert "propagation: false" in (folder.path / "design.yaml").read_text()
        folder.write("design.yaml", kept)
        folder.obrin("practice", "fault", "drift", "cloud", "networks/ledger").bad(
            3, "nobody changes"
        )
        folder.obrin("practice", "fault", "throttle", "cloud", "5").good()
        folder.obrin("practice", "fault", "fail", "cloud", "tunnels/x").good()
        told = folder.obrin("practice", "status").good().out
        assert "throttle 5 at the cloud, fail tunnels/x at the cloud" in told
        assert "behind 7200s at hh-west" in told
        folder.obrin("practice", "fault", "restart", "hh-west").good()
        assert "4 of 4 undone" in folder.obrin("reshape", "--drift", "--go", timeout=120).good().out
        assert "is what was built" in folder.obrin("reshape", "--drift").good().out
        assert "not as the design" not in folder.obrin("status").err
        assert "7 of 7 tunnels" in folder.obrin("connect", timeout=120).good().out
    finally:
        folder.obrin("practice", "stop")


def _addresses(values) -> dict:
    here = "clouds.crossing.gateway."
    names = ("addresses", "addresses6", "peers")
    return {name: values[here + name]["value"] for name in names if here + name in values}


SERVER = """
import http.server
server = http.server.ThreadingHTTPServer(("0.0.0.0", 443), http.server.SimpleHTTPRequestHandler)
print("ready", flush=True)
server.serve_forever()
"""
CLIENT = """
import sys, urllib.request
print(len(urllib.request.urlopen(sys.argv[1], timeout=20).read()))
"""


def _programs_cross(folder: Folder) -> None:
    """Ordinary programs as hosts at both ends; where the kernel gives none, it is said why."""
    run = folder.obrin("practice", "run", "harbour-house/counters", "--", "sh", "-c", "exit 7")
    if run.code != 7:
        run.bad(3, "root")
        return
    folder.obrin("practice", "run", "harbour-house/x", "--", "ls").bad(
        2, "There are: harbour-house"
    )
    folder.obrin("practice", "run", "harbour-house/counters", "--", "no-such-program").bad(
        3, "no prog"
    )
    values = folder.obrin("settle", "--json").good().json["values"]
    where = values["clouds.timetable.subnets.booking.prefix"]["value"]
    address = str(ipaddress.ip_network(where)[10])
    (folder.path / "large.bin").write_bytes(os.urandom(200_000))
    command = [PROGRAM, "practice", "run", "timetable/booking", "--", sys.executable, "-c", SERVER]
    server = subprocess.Popen(command, cwd=folder.path, stdout=subprocess.PIPE, text=True)
    try:
        assert server.stdout.readline() == "ready\n"
        # The host is lent: nobody else can be it, nor ask from it.
        folder.obrin("practice", "run", "timetable/booking", "--", "ls").bad(3, "a program runs as")
        for network in ("harbour-house/counters", "northquay/gates"):
            asked = (sys.executable, "-c", CLIENT, f"http://{address}:443/large.bin")
            assert folder.obrin("practice", "run", network, "--", *asked).good().out == "200000\n"
    finally:
        server.kill()
        server.wait()


def test_the_demo_tells_its_story_and_leaves_a_project(tmp_path) -> None:
    folder = Folder(tmp_path, real=True)
    run = folder.obrin("demo", timeout=120).good()
    assert "15 of 15 as wanted" in run.out
    assert "predicted outage: 4.0 to 6.0 s" in run.out
    project = Folder(tmp_path / "skerrow-ferries", real=True)
    project.obrin("check").good()
    project.obrin("check", "--design", "draft.yaml").bad(1, "space-overlap", "one-tunnel")
    project.obrin("handover").good()
    project.obrin("status").bad(2, "no practice world runs here")
