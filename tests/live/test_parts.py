"""Parts of the live room on their own: the internet, journal, executor, status, RESTCONF."""

from __future__ import annotations

import asyncio
import json
from pathlib import Path

import httpx
import pytest

from obrin.core.address.prefix import Address, parse_address
from obrin.core.errors import OutsideError
from obrin.core.handover.configured import device_config
from obrin.core.handover.secrets import Secrets, key_data
from obrin.core.handover.sheet.blocks import markdown
from obrin.core.handover.sheet.context import template_context
from obrin.core.handover.sheet.sheet import value_sheet
from obrin.core.handover.standard.device import encode
from obrin.core.handover.standard.device import parts as parts_of
from obrin.core.handover.standard.ipsec import decode_suite, encode_suite
from obrin.core.ipsec.suite import SHIPPED
from obrin.core.reach.filters import filter_of
from obrin.device.standard.from_standard import router_config
from obrin.live import templates
from obrin.live.connect.execute import CloudTask, execute
from obrin.live.connect.journal import Journal
from obrin.live.drivers.observations import EndStatus
from obrin.live.drivers.protocol import CloudStep, Done
from obrin.live.http import HttpError
from obrin.live.observe.both_ends import _disagreements, _notes
from obrin.live.practice.clock import wall_clock
from obrin.live.practice.internet.internet import CLOUD, Internet, Line
from obrin.live.secrets.sealed import SealError, seal, unseal
from obrin.live.standard_modules import StandardDataError, validate
from obrin.live.templates import TemplateFault, render_template
from obrin.wire.packet import UDP, Packet, Udp, decode_packet, decode_udp
from tests.doubles import seeded, settled_of, swap

SECRETS = Secrets({"quay-apps/a": "A" * 30, "quay-apps/b": "B" * 30})

SITE, OWN, FAR = (parse_address(t) for t in ("192.0.2.10", "192.168.7.2", "203.0.113.1"))


def udp(source: int, destination: int, port: int = 500, to: int = 500) -> bytes:
    segment = Udp(port, to, b"x").encode(source, destination)
    return Packet(source, destination, UDP, segment).encode()


def test_the_internet_carries_only_what_is_rightly_addressed() -> None:
    net = Internet([Line("g/u", SITE, SITE)])
    assert net.carry("g/u", udp(SITE, FAR)) == (CLOUD, udp(SITE, FAR))
    assert net.carry(CLOUD, udp(FAR, SITE)) == ("g/u", udp(FAR, SITE))
    assert net.carry("g/u", udp(OWN, FAR)) is None
    assert net.carry(CLOUD, udp(FAR, Address(32, 12345))) is None
    assert net.carry("g/u", b"junk") is None
    assert net.carried == 2
    assert len(net.lost) == 3


def test_cuts_are_silent_in_both_directions_and_heal() -> None:
    net = Internet([Line("g/u", SITE, SITE)])
    for cut in (
        lambda: net.cut_pair("192.0.2.10", "203.0.113.1"),
        lambda: net.cut_lines.add("g/u"),
    ):
        cut()
        assert net.carry("g/u", udp(SITE, FAR)) is None
        assert net.carry(CLOUD, udp(FAR, SITE)) is None
        net.heal()
        assert net.carry("g/u", udp(SITE, FAR)) is not None


def test_a_translator_keeps_a_mapping_and_lets_nothing_else_in() -> None:
    net = Internet([Line("g/u", SITE, OWN)])
    assert net.carry(CLOUD, udp(FAR, SITE, 500, 20001)) is None  # nothing went out yet
    _, out = net.carry("g/u", udp(OWN, FAR))
    packet = decode_packet(out)
    port = decode_udp(packet).source_port
    assert packet.source == SITE
    assert port != 500
    _, again = net.carry("g/u", udp(OWN, FAR))
    assert again == out
    _, back = net.carry(CLOUD, udp(FAR, SITE, 500, port))
    assert (decode_packet(back).destination, decode_udp(decode_packet(back)).destination_port) == (
        OWN,
        500,
    )
    assert net.carry("g/u", Packet(OWN, FAR, 50, b"esp").encode()) is None
    assert net.carry("g/u", Packet(OWN, FAR, UDP, b"short").encode()) is None


@pytest.mark.parametrize("name", SHIPPED)
def test_suites_come_back_from_standard_data(name: str) -> None:
    assert decode_suite(encode_suite(SHIPPED[name])) == SHIPPED[name]


@pytest.mark.parametrize("routing", ["bgp", "static"])
def test_a_router_is_configured_from_its_pack_alone(routing: str) -> None:
    settled = settled_of(swap(("    bgp: {hold-time: 6 s}", f"    routing: {routing}")))
    config = encode(device_config(settled, "quay-gw"))
    keys = key_data(settled, "quay-gw", SECRETS)
    validate(config)
    validate(keys)
    router = router_config(json.loads(json.dumps(config)), json.loads(json.dumps(keys)), wall_clock)
    assert router.rules == filter_of(settled, "quay-gw")
    assert list(router.networks) == settled.networks_at("quay")
    for tunnel in settled.tunnels():
        made = router.tunnels[tunnel.label]
        assert (made.inside[0].local, made.inside[0].remote) == (
            tunnel.site_inside,
            tunnel.cloud_inside,
        )
        assert made.peer.suites == (settled.links["quay-apps"].suite,)
        assert made.peer.liveness == settled.links["quay-apps"].liveness
    assert bool(router.neighbours) is (routing == "bgp")
    assert len(router.static) == (2 if routing == "static" else 0)
    with pytest.raises(KeyError):
        router_config(config, {}, wall_clock)


def test_translation_is_in_both_packs_and_comes_back_from_standard_data() -> None:
    text = swap(
        (
            "    subnets: {web: {hosts: 100}}",
            "    space: 10.20.0.0/20\n    subnets: {web: {hosts: 100}}",
        ),
        (
            "    networks: [desks]\n",
            "    networks: [desks]\n    seen-as: {desks: }\n    cloud-seen-as:\n",
        ),
    )
    settled = settled_of(text)
    link = settled.links["quay-apps"]
    for place, parts in (("quay-gw", link.exposures), ("apps", link.cloud_exposures)):
        config = encode(device_config(settled, place))
        validate(config)
        sheet = markdown(value_sheet(settled, place))
        for part in parts:
            assert f"{part.real} to {part.seen}" in sheet
    config = json.loads(json.dumps(encode(device_config(settled, "quay-gw"))))
    keys = key_data(settled, "quay-gw", SECRETS)
    for tunnel in router_config(config, keys, wall_clock).tunnels.values():
        assert [(p.real, p.seen) for p in tunnel.translations] == [
            (p.real, p.seen) for p in link.exposures
        ]


@pytest.mark.parametrize(
    "damage",
    [
        lambda d: d["obrin-ipsec:ipsec"]["tunnel"][0].pop("suite"),
        lambda d: d["obrin-ipsec:ipsec"]["tunnel"][0].update(suite="other"),
        lambda d: d["obrin-ipsec:ipsec"]["tunnel"][0].update(interface="other"),
        lambda d: d["obrin-bgp:bgp"].update({"autonomous-system": "x"}),
        lambda d: d["obrin-bgp:bgp"]["neighbor"][0].update({"hold-time": 2}),
        lambda d: d.update({"obrin-other:thing": {}}),
        lambda d: d["ietf-interfaces:interfaces"]["interface"][0].update(colour="red"),
    ],
)
def test_damaged_standard_data_is_refused(damage) -> None:
    data = encode(device_config(settled_of(), "quay-gw"))
    damage(data)
    with pytest.raises(StandardDataError, match="YANG modules"):
        validate(data)


@pytest.mark.parametrize("size", [1, 2, 50])
@pytest.mark.parametrize("place", ["quay-gw", "apps"])
def test_parts_of_standard_data_are_valid_and_make_the_whole(size: int, place: str) -> None:
    settled = settled_of()
    config = device_config(settled, place)
    whole, parts = encode(config), [encode(part) for part in parts_of(config, size)]
    tunnels, rules = [], []
    for part in parts:
        validate(part)
        tunnels += part["obrin-ipsec:ipsec"]["tunnel"]
        rules += part["ietf-access-control-list:acls"]["acl"][0]["aces"]["ace"][:-1]
    assert tunnels == whole["obrin-ipsec:ipsec"]["tunnel"]
    assert rules == whole["ietf-access-control-list:acls"]["acl"][0]["aces"]["ace"][:-1]


def test_the_journal_remembers_what_was_begun(tmp_path) -> None:
    path = tmp_path / "journal.sqlite"
    journal = Journal(path)
    journal.begin("a")
    journal.begin("b")
    journal.done("a", "built")
    journal.close()
    assert Journal(path).unfinished() == ["b"]
    path.with_name("broken").write_bytes(b"not a database at all" * 100)
    with pytest.raises(OutsideError, match="nothing is made twice"):
        Journal(path.with_name("broken"))


class FakeCloud:
    """A driver that has everything already; refuses what it is told to refuse."""

    def __init__(self, refuse: str = "") -> None:
        self.order: list[str] = []
        self.refuse = refuse

    def do(self, step, report, stop) -> Done:
        if step.name == self.refuse:
            raise HttpError(f"the cloud answered 409 to PUT {step.name}: because", 409)
        self.order.append(step.name)
        return Done(False, "already so")


def tasks(cloud: FakeCloud, *steps: tuple[str, set[str]]) -> list[CloudTask]:
    return [
        CloudTask(cloud, CloudStep(name=name, body={}, needs=frozenset(needs)))
        for name, needs in steps
    ]


STEPS = [("c/3", {"b/2", "a/1"}), ("b/2", {"a/1"}), ("a/1", set())]


def test_steps_run_in_the_order_of_their_needs(tmp_path) -> None:
    cloud = FakeCloud()
    done = execute(tasks(cloud, *STEPS), Journal(tmp_path / "j"), lambda _p: None)
    assert cloud.order == ["a/1", "b/2", "c/3"] == list(done)
    assert not any(found.changed for found in done.values())


def test_a_failed_step_stops_what_needs_it_and_stays_unfinished(tmp_path) -> None:
    cloud, journal = FakeCloud("b/2"), Journal(tmp_path / "j")
    with pytest.raises(OutsideError, match="b/2: the cloud answered 409"):
        execute(tasks(cloud, *STEPS), journal, lambda _p: None)
    assert cloud.order == ["a/1"]
    assert journal.unfinished() == ["b/2"]


@pytest.mark.parametrize("garbage", [b"garbage" * 900, b"SQLite format 3\0" + b"x" * 5000])
def test_a_garbled_journal_is_one_message(tmp_path, garbage: bytes) -> None:
    path = tmp_path / "journal"
    path.write_bytes(garbage)
    with pytest.raises(OutsideError, match="nothing is made twice"):
        Journal(path)
    whole = tmp_path / "whole"
    journal = Journal(whole)
    journal.begin("a")
    journal._database.execute("DROP TABLE step")
    for act in (lambda: journal.begin("b"), lambda: journal.done("a", ""), journal.unfinished):
        with pytest.raises(OutsideError, match="move it away"):
            act()


def test_what_a_journal_made_is_one_designs_only(tmp_path) -> None:
    journal = Journal(tmp_path / "j")
    for name, design in (("a", "x"), ("a", "y"), ("b", "x"), ("c", "y"), ("b", "x")):
        journal.note_made(name, design)
    assert (journal.made("x"), journal.made("y")) == ({"b"}, {"c"})
    journal.removed("b")
    assert journal.made("x") == set()


def test_needs_that_never_come_are_an_error(tmp_path) -> None:
    waiting = tasks(FakeCloud(), ("a/1", {"z/9"}))
    with pytest.raises(OutsideError, match="never comes: a/1"):
        execute(waiting, Journal(tmp_path / "j"), lambda _p: None)


UP = EndStatus(
    ike="established",
    child="up",
    packets_in=5,
    packets_out=5,
    bgp="established",
    received=("a",),
    announced=("b",),
)


@pytest.mark.parametrize(
    ("site", "cloud", "words"),
    [
        ({"ike": "asking"}, {}, "IKE SA: the site says asking, the cloud established"),
        ({"child": "down"}, {}, "child SA: the site says down"),
        ({"bgp": "active"}, {}, "BGP: the site says active"),
        ({"announced": ("b", "c")}, {}, "the site announced b, c"),
        ({"idle_out": 2}, {"idle_in": None}, "packets leave the site and none arrive"),
        ({"idle_out": 2}, {"idle_in": 9}, "packets leave the site and none arrive"),
        (
            {"refusal": "NO_PROPOSAL_CHOSEN from the peer: no", "refused_rekey": "child SA"},
            {"refusal": "NO_PROPOSAL_CHOSEN from this end: why", "refused_rekey": "child SA"},
            "the child SA is not rekeyed, as the cloud noted just now: NO_PROPOSAL_CHOSEN from this",
        ),
    ],
)
def test_disagreements_are_reported(site, cloud, words: str) -> None:
    import dataclasses

    one, two = dataclasses.replace(UP, **site), dataclasses.replace(UP, **cloud)
    assert any(words in text for text in _disagreements(one, two))


def test_ends_that_mirror_agree_and_notes_help_when_down() -> None:
    import dataclasses

    other = dataclasses.replace(UP, received=("b",), announced=("a",))
    assert _disagreements(UP, other) == []
    assert _notes(UP, other, speaks=True) == []
    # What left a while ago, or arrived a moment later than it left, says nothing.
    for left, came in ((31, None), (2, 4), (None, None)):
        one = dataclasses.replace(UP, idle_out=left)
        assert _disagreements(one, dataclasses.replace(other, idle_in=came)) == []
    down = dataclasses.replace(
        UP, bgp="idle", bgp_error="hold timer expired", packets_out=9, idle_out=1
    )
    assert _notes(down, other, speaks=True) == ["the site lost BGP: hold timer expired"]
    lacking = dataclasses.replace(UP, bgp="none")
    assert "has no BGP session" in _notes(lacking, other, speaks=True)[0]
    assert _notes(lacking, other, speaks=False) == []


@pytest.fixture
def gateway():
    """A gateway's application in this process, without sockets."""
    from obrin.live.practice.gateway.process import GatewayProcess
    from obrin.live.practice.gateway.site_process import SiteProcess

    site = SiteProcess({"quay-gw": {}}, {}, "secret", None)
    return AppClient(GatewayProcess("quay-gw", site).application())


class AppClient:
    """Asks an ASGI application without a socket."""

    def __init__(self, app) -> None:
        self._app = app

    def request(self, method: str, path: str, json=None) -> httpx.Response:
        async def ask() -> httpx.Response:
            transport = httpx.ASGITransport(self._app, raise_app_exceptions=False)
            async with httpx.AsyncClient(transport=transport, base_url="http://gateway") as client:
                return await client.request(method, path, json=json)

        return asyncio.run(ask())

    def get(self, path: str) -> httpx.Response:
        return self.request("GET", path)

    def put(self, path: str, json) -> httpx.Response:
        return self.request("PUT", path, json)


def test_restconf_reads_writes_and_refuses(gateway) -> None:
    settled = settled_of()
    config = encode(device_config(settled, "quay-gw"))
    keys = key_data(settled, "quay-gw", SECRETS)
    assert "restconf" in gateway.get("/.well-known/host-meta").text
    assert gateway.get("/restconf").json()["ietf-restconf:restconf"]["data"] == {}
    before = gateway.get("/restconf/data").headers["etag"]
    assert gateway.put("/restconf/data/obrin-keys:keys", json=keys).status_code == 201
    assert gateway.put("/restconf/data", json={"ietf-restconf:data": config}).status_code == 201
    assert gateway.put("/restconf/data", json={"ietf-restconf:data": config}).status_code == 204
    assert gateway.get("/restconf/data").headers["etag"] != before
    acls = gateway.get("/restconf/data/ietf-access-control-list:acls").json()
    assert acls["ietf-access-control-list:acls"] == config["ietf-access-control-list:acls"]
    state = gateway.get("/restconf/data/obrin-observe:state").json()["obrin-observe:state"]
    assert {t["name"] for t in state["tunnel"]} == {"quay-apps/a", "quay-apps/b"}


@pytest.mark.parametrize(
    ("method", "path", "body", "status", "words"),
    [
        ("GET", "/restconf/data/obrin-keys:keys", None, 403, "can be set, not read"),
        ("GET", "/restconf/data/obrin-ipsec:ipsec", None, 404, "there is no"),
        ("PUT", "/restconf/data", [], 400, "must be a JSON object"),
        ("PUT", "/restconf/data", {"x": 1}, 400, "is expected"),
        (
            "PUT",
            "/restconf/data",
            {"ietf-restconf:data": {"obrin-ipsec:ipsec": {"x": 1}}},
            400,
            "YANG",
        ),
        ("PUT", "/restconf/data/obrin-keys:keys", {"other": 1}, 400, "nothing else"),
        (
            "PUT",
            "/restconf/data/obrin-keys:keys",
            {"obrin-keys:keys": {"x": "S3cr3t"}},
            400,
            "YANG",
        ),
        ("POST", "/restconf/operations/obrin-observe:probe", {}, 400, "not usable"),
        (
            "POST",
            "/restconf/operations/obrin-observe:fly",
            {"obrin-observe:input": {"source": "10.0.0.1", "destination": "10.0.0.2"}},
            404,
            "no operation",
        ),
    ],
)
def test_restconf_errors_are_in_its_own_form(gateway, method, path, body, status, words) -> None:
    answer = gateway.request(method, path, json=body)
    assert answer.status_code == status
    (error,) = answer.json()["ietf-restconf:errors"]["error"]
    assert words in error["error-message"]
    assert "S3cr3t" not in answer.text


@pytest.mark.parametrize(
    "text",
    [
        "{% for i in range(99999) %}{% for j in range(99999) %}{% endfor %}{% endfor %}",
        "{{ 'x' * 10**10 }}",
        "{% set x = ['y' * 10**9, 'z' * 10**9] %}",
        "{% for i in range(9999) %}{{ 'x' * 100000 }}{% endfor %}",
        "{% macro m() %}{{ m() }}{% endmacro %}{{ m() }}",
    ],
)
def test_a_template_without_an_end_is_a_message(text: str, monkeypatch) -> None:
    monkeypatch.setattr(templates, "SECONDS", 2)
    context = template_context(settled_of(), "quay-gw", None)
    with pytest.raises(TemplateFault, match=r"^t\.j2:1:"):
        render_template(text, Path("t.j2"), context)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (
            "{% for t in tunnels %}\n{{ t.mut }}{% endfor %}",
            "t.j2:2:6: 'mut' is not part of this value, which has: name, ",
        ),
        ("{% for %}", "t.j2:1:1: "),
        ("{{ gateway.__class__.mro() }}", "t.j2:1:12: this cannot be computed: '__class__'"),
        ("{{ 1 / 0 }}", "t.j2:1:1: this cannot be computed: division by zero"),
        ("{{ tunnels[0].key }}", "'key' is not part of this value"),
        (
            "{% for t in tunnels %}{{ t.suite.name }}{% endfor %}",
            "t.j2:1:34: 'name' is not part of this value, which is a text and has no parts",
        ),
        (
            "\n\n{{ tunnels.name }}",
            "t.j2:3:12: 'name' is not part of this value, which is a list of 2",
        ),
        ("{{ region.x }}", "which is nothing (it is not set)"),
        ("{{ nowhere }}", "'nowhere' means nothing here. Names at the top are: bgp, "),
        ("{{ gateway + 1 }}", "t.j2:1:1: this cannot be computed"),
        ("{% for i in range(10**9) %}x{% endfor %}", "t.j2:1:1: "),
    ],
)
def test_a_template_with_a_fault_is_reported_with_its_line(text: str, words: str) -> None:
    context = template_context(settled_of(), "quay-gw", None)
    with pytest.raises(TemplateFault) as error:
        render_template(text, Path("t.j2"), context)
    assert words in str(error.value)


def test_a_sealed_file_that_was_changed_is_not_opened() -> None:
    data = seal("secret", "right", seeded(5))
    assert unseal(data, "right") == "secret"
    assert "secret" not in json.dumps(data)
    for change in (
        {"scrypt": {**data["scrypt"], "n": 1 << 30}},
        {"scrypt": {**data["scrypt"], "p": 2}},
        {"data": "AAAA"},
        {"nonce": "!"},
        {"scrypt": 5},
        {"sealed": 2},
    ):
        with pytest.raises(SealError):
            unseal(data | change, "right")
    with pytest.raises(SealError, match="does not fit"):
        unseal(data, "wrong")
