"""Ten jobs as a new user does them, with the built program, and how many commands each takes."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

import obrin
from obrin.live.http import Client
from obrin.live.practice.record import need_world
from tests.cli.program import Folder, Run
from tests.outputs import valid

pytestmark = pytest.mark.long

DEMO = Path(obrin.__file__).parent / "demo"


class Job(Folder):
    """A folder of a new user; `commands` are those given in it, edits of the design are none."""

    def __init__(self, path: Path) -> None:
        super().__init__(path)
        self.commands: list[str] = []

    def run(self, words: str, *more: str, given: str = "", **env: str) -> Run:
        self.commands.append(words)
        return self.obrin(*words.split(), *more, given=given, **env)

    def edit(self, *pairs: tuple[str, str], name: str = "design.yaml") -> None:
        text = (self.path / name).read_text(encoding="utf-8")
        for old, new in pairs:
            assert text.count(old) == 1, (old, text)
            text = text.replace(old, new)
        self.write(name, text)


@pytest.fixture
def job(tmp_path) -> Iterator[Job]:
    made = Job(tmp_path)
    yield made
    made.obrin("practice", "stop")


def test_a_home_lab_behind_a_router(job: Job) -> None:
    """One line, one tunnel, a box in the LAN: from nothing to probed in six commands."""
    facts = "--site home --network lan=192.168.1.0/24 --uplink line=192.0.2.20 --cloud lab"
    job.run(f"new lab {facts} --hosts 20").good()
    job.edit(
        ("{address: 192.0.2.20, provider: line}", "{address: 192.0.2.20, inside: 192.168.1.2}"),
        ("      t2: {gateway: home-gateway, uplink: line, instance: 2}\n", ""),
        (
            "elsewhere: {}",
            "accepted-findings:\n"
            "  - {finding: address-one-armed, at: sites.home.gateways.home-gateway.uplinks.line.inside,\n"
            "     because: the box has one interface, by: me}\n"
            "  - {finding: one-tunnel, at: links.home-lab.tunnels, because: a lab may be down, by: me}\n"
            "elsewhere: {}",
        ),
    )
    job.run("settle").good()
    job.run("check").good()
    job.run("practice start --speed 3000").good()
    assert "1 of 1 tunnels up" in job.run("connect").good().out
    assert "3 of 3 expectations are as wished" in job.run("probe").good().out
    assert len(job.commands) <= 6


def test_two_offices_and_an_old_firewall(job: Job) -> None:
    job.write("design.yaml", OFFICES)
    found = job.run("check").bad(1, "mill-box speaks IKEv1, apps IKEv2").out
    assert "put a gateway in front of it" in found
    job.edit(("profile: old-device", "profile: branch-box"))
    job.run("settle").good()
    found = job.run("check").bad(1, "use 'routing: static'").out
    job.edit(("  mill-apps:\n", "  mill-apps:\n    routing: static\n"))
    job.run("settle").good()
    job.run("check --level error").good()
    job.run("handover").good()
    sheet = (job.path / "packs" / "design" / "mill-box" / "sheet.md").read_text()
    assert "10.30.0.0/22" in sheet
    assert "BGP" not in sheet.partition("## 4.")[2].partition("## 5.")[0]
    assert len(job.commands) <= 6


def test_an_overlap_in_what_exists(job: Job) -> None:
    job.write("design.yaml", OVERLAP)
    job.run("check").bad(1, "10.20.0.0/22 of mill/desks lies inside 10.20.0.0/16 of cloud apps")
    ways = valid("space remedies", job.run("space remedies --json").good().json)
    way = next(w for w in ways[0]["remedies"] if w["name"] == "translate")
    lines = way["write"]
    assert lines[:2] == ["links:", "  mill-apps:"]
    job.edit(("  mill-apps:\n", "  mill-apps:\n" + "".join(f"{line}\n" for line in lines[2:])))
    job.run("settle").good()
    job.run("check --level error").good()
    assert not job.run("space overlaps --json").good().json
    assert len(job.commands) <= 5


def test_twenty_shops_from_a_table(job: Job) -> None:
    for name in ("kiosks.csv", "kiosk.yaml"):
        job.write(name, (DEMO / name).read_text())
    job.edit(("kiosk-amber,north,6,", "kiosk-amber,north,six,"), name="kiosks.csv")
    new = "new --sites kiosks.csv --template kiosk.yaml"
    job.run(new).bad(2, "kiosks.csv:2:1, filled in at kiosk.yaml:14:15: 'hosts' is 'six'")
    job.edit(("kiosk-amber,north,six,", "kiosk-amber,north,6,"), name="kiosks.csv")
    job.run(new).good()
    job.run("settle").good()
    job.run("check --level error").good()
    told = valid("handover", job.run("handover --json").good().json)
    assert len(told) == 25
    assert len(job.commands) <= 5


def test_certificates_with_the_devices_own_request(job: Job) -> None:
    job.run("new shop --yes").good()
    job.edit(("    routing: bgp\n", "    routing: bgp\n    authentication: certificate\n"))
    job.run("settle").good()
    key = ec.generate_private_key(ec.SECP384R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "box")])
    request = x509.CertificateSigningRequestBuilder().subject_name(subject)
    signed = request.sign(key, hashes.SHA384()).public_bytes(serialization.Encoding.PEM)
    job.write("box.csr", signed.decode())
    job.run("certificates sign box.csr --gateway office-gateway --to box.pem").good()
    job.run("certificates export root --to root.pem").good()
    job.run("certificates check box.pem --authority root.pem --identity 192.0.2.10").good()
    job.run("check --level error").good()
    job.run("handover").good()
    held = json.loads((job.path / "packs" / "design" / "office-gateway" / "keys.json").read_text())
    assert "PRIVATE KEY" not in json.dumps(held)
    assert len(job.commands) <= 7


def test_a_hub_with_a_circuit(job: Job) -> None:
    job.write("design.yaml", (DEMO / "crossing.yaml").read_text())
    job.run("settle").good()
    job.run("check --level error").good()
    way = "trace harbour-house/counters timetable/booking tcp/443"
    assert "circuit harbour-line" in job.run(way).good().out
    lost = job.run(f"{way} --without circuit:harbour-line").good().out
    assert "tunnel harbour-crossing/north" in lost
    failures = valid("drill", job.run("drill --json").json)
    line = next(f for f in failures if f["failed"] == ["circuit:harbour-line"])
    assert line["seconds"] < 10
    job.run("handover").good()
    assert len(job.commands) <= 6


def test_from_static_routes_to_bgp(job: Job) -> None:
    job.run("new shop --yes").good()
    job.edit(("    routing: bgp\n", "    routing: static\n"))
    job.run("settle").good()
    job.run("practice start --speed 3000").good()
    job.run("connect").good()
    before = job.run("status --json").good().json
    assert {end["bgp"] for t in before for end in (t["site"], t["cloud"])} == {"none"}
    job.edit(("    routing: static\n", "    routing: bgp\n"))
    job.run("settle").good()
    tried = valid("connect --dry-run", job.run("connect --dry-run --json").good().json)
    assert {c["subject"] for c in tried["changes"]} >= {"gateways/cloud", "tunnels/office-cloud.t1"}
    job.run("connect").good()
    after = valid("status", job.run("status --json").good().json)
    assert {end["bgp"] for t in after for end in (t["site"], t["cloud"])} == {"established"}
    job.run("probe").good()


def test_a_supplier_gets_in_to_one_host_until_a_day(job: Job) -> None:
    job.run("new shop --yes").good()
    job.edit(
        (
            "expectations:\n",
            "expectations:\n  - {from: cloud/apps, to: office/lan/10.20.0.40, flow: tcp/3389, "
            "until: 2026-12-31}\n",
        )
    )
    day, after = {"OBRIN_TODAY": "2026-12-31"}, {"OBRIN_TODAY": "2027-01-01"}
    job.run("settle", **day).good()
    job.run("practice start --speed 3000", **day).good()
    job.run("connect", **day).good()
    assert "4 of 4 expectations are as wished" in job.run("probe", **day).good().out
    ends = valid("calendar", job.run("calendar --json", **day).good().json)
    assert ("2026-12-31", "access") in {(e["day"], e["kind"]) for e in ends}
    job.run("probe", **after).bad(1, "NOT AS WISHED")
    assert "access-ended" in job.run("check", **after).good().out
    job.run("handover", **after).good()
    job.run("connect --yes", **after).good()
    assert "4 of 4 expectations are as wished" in job.run("probe", **after).good().out


def test_three_mistakes_at_a_gateway_are_found_by_status(job: Job) -> None:
    """The identity, the address and the algorithm: each is named, and gone once it is mended."""
    job.run("new shop --yes").good()
    job.run("settle").good()
    job.run("practice start --speed 3000").good()
    job.run("connect").good()
    for meant, entered, words in (
        ('"remote-identity": "203.0.113.1"', '"remote-identity": "203.0.113.9"', "203.0.113.9"),
        ('"remote-address": "203.0.113.1"', '"remote-address": "203.0.113.7"', "203.0.113.7"),
        ('"encryption": "AES-GCM-16-256"', '"encryption": "AES-GCM-16-128"', "NO_PROPOSAL_CHOSEN"),
    ):
        mistype(job, meant, entered)
        assert words in job.run("status").bad(1, "office-cloud/t1").out
        job.run("connect").good()
    assert job.run("status").good()


def mistype(job: Job, meant: str, entered: str) -> None:
    """At the gateway, over RESTCONF, as docs/practice-world.md has it."""
    record = need_world(job.path / ".obrin" / "practice")
    with closing(Client("the gateway", record.gateways["office-gateway"], record.token)) as box:
        path = "/restconf/data/obrin-ipsec:ipsec"
        text = json.dumps(box.get(path), indent=1)
        assert meant in text, text
        box.call("PUT", path, json.loads(text.replace(meant, entered)))


def test_everything_by_script(job: Job) -> None:
    """No terminal, no question, every answer as JSON."""
    made = valid("new", job.run("new --yes --json").good().json)
    assert made["next"] == ["obrin settle"]
    secrets = valid("settle", job.run("settle --json").good().json)["secrets_made"]
    assert secrets == ["key of office-cloud/t1", "key of office-cloud/t2"]
    findings = valid("check", job.run("check --json").good().json)
    assert {f["severity"] for f in findings} <= {"warning", "note"}
    valid("handover", job.run("handover --json").good().json)
    valid("practice start", job.run("practice start --speed 3000 --json").good().json)
    connected = valid("connect", job.run("connect --yes --json").good().json)
    assert all(t["right"] for t in connected["tunnels"])
    assert all(o["met"] for o in valid("probe", job.run("probe --json").good().json))
    turned = valid("keys rotate", job.run("keys rotate --json").good().json)
    assert [c["subject"] for c in turned["changes"]] == [
        "key of office-cloud/t2",
        "key of office-cloud/t1",
    ]
    cut = valid("practice cut", job.run("practice cut tunnel office-cloud/t1 --json").good().json)
    assert cut["next"] == ["obrin practice heal"]
    valid("practice heal", job.run("practice heal --json").good().json)
    valid("practice stop", job.run("practice stop --json").good().json)


OFFICES = """\
obrin: 1
name: two-offices
sites:
  harbour:
    networks: {desks: 10.20.0.0/22}
    gateways:
      harbour-box:
        profile: modern-router
        uplinks: {fibre: {address: 192.0.2.10}, radio: {address: 192.0.2.11}}
  mill:
    networks: {desks: 10.30.0.0/22}
    gateways:
      mill-box:
        profile: old-device
        uplinks: {copper: {address: 198.51.100.20}, mobile: {address: 198.51.100.21}}
clouds:
  apps:
    subnets: {web: {hosts: 50}}
links:
  harbour-apps:
    site: harbour
    cloud: apps
    tunnels:
      a: {gateway: harbour-box, uplink: fibre, instance: 1}
      b: {gateway: harbour-box, uplink: radio, instance: 2}
  mill-apps:
    site: mill
    cloud: apps
    tunnels:
      a: {gateway: mill-box, uplink: copper, instance: 1}
      b: {gateway: mill-box, uplink: mobile, instance: 2}
expectations:
  - {from: harbour/desks, to: apps/web, flow: tcp/443}
  - {from: mill/desks, to: apps/web, flow: tcp/443}
"""
OVERLAP = """\
obrin: 1
name: found
sites:
  mill:
    networks: {desks: 10.20.0.0/22}
    gateways: {mill-box: {uplinks: {a: {address: 192.0.2.10}, b: {address: 198.51.100.20}}}}
clouds:
  apps: {space: 10.20.0.0/16, subnets: {web: 10.20.1.0/24}}
links:
  mill-apps:
    site: mill
    cloud: apps
    tunnels:
      a: {gateway: mill-box, uplink: a, instance: 1}
      b: {gateway: mill-box, uplink: b, instance: 2}
expectations:
  - {from: mill/desks, to: apps/web, flow: tcp/443}
"""
