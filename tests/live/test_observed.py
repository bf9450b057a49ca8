"""Devices read by open standards: the practice gateways' own agent, RESTCONF, and an agent of the
operating system's packages."""

from __future__ import annotations

import asyncio
import shutil
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from obrin.core.errors import ObrinError, OutsideError
from obrin.core.handover.pack import make_pack
from obrin.core.handover.secrets import Secrets
from obrin.core.handover.standard.operational import DIRECT, DeviceState, InterfaceState
from obrin.core.known import NotKnown
from obrin.core.routing.used import used_differences
from obrin.live.drivers import snmp
from obrin.live.drivers.by_tables import Observer, ends_by_tables, paths_by_tables, routes_by_tables
from obrin.live.drivers.places import Place, read_places
from obrin.live.drivers.restconf import open_gateway
from obrin.live.drivers.restconf_tables import open_observer as open_restconf
from obrin.live.drivers.snmp import open_observer as open_snmp
from obrin.live.observe.both_ends import compared
from obrin.live.observe.tunnel import DOWN, UP
from obrin.live.practice.gateway.agent import Agent
from obrin.live.practice.record import World
from obrin.live.practice.world import start_world, stop_world
from obrin.live.standard_modules import data_model
from obrin.wire.mib.interfaces import encode as encode_interfaces
from tests.doubles import settled_of
from tests.live.test_watch import GOOD

SETTLED = settled_of()
KEYS = {tunnel.label: f"key-of-{tunnel.label}-1234567890" for tunnel in SETTLED.tunnels()}
PACK = make_pack(SETTLED, "quay-gw", Secrets(KEYS))


@pytest.fixture(scope="module")
def world(tmp_path_factory) -> Iterator[World]:
    folder = tmp_path_factory.mktemp("observed") / ".obrin" / "practice"
    world = start_world(SETTLED, folder, speed=20000.0, snmp=True)
    driver = open_gateway(Place(name="quay-gw", url=world.gateways["quay-gw"], token=world.token))
    driver.hand_over(PACK.config, PACK.keys)
    driver.close()
    yield world
    stop_world(folder)


@pytest.fixture(params=["snmp", "restconf"])
def observer(request: pytest.FixtureRequest, world: World) -> Iterator[Observer]:
    found = world.agents if request.param == "snmp" else world.gateways
    opened = {"snmp": open_snmp, "restconf": open_restconf}[request.param]
    observer = opened(Place(name="quay-gw", url=found["quay-gw"], token=world.token))
    yield observer
    observer.close()


def test_both_protocols_tell_what_the_gateway_has(observer, world):
    state = observer.state()
    legs = SETTLED.legs_at("quay-gw")
    held = {address for one in state.interfaces for address in one.addresses}
    assert {address for leg in legs for address in leg.insides(at_site=True)} <= held
    ends = ends_by_tables(SETTLED, "quay-gw", state)
    assert ends.keys() == {leg.label for leg in legs}
    assert {end.child for end in ends.values()} == {"down"}, "nothing is built at the cloud"
    assert all(end.not_known.keys() >= {"ike", "announced"} for end in ends.values())
    own = routes_by_tables(SETTLED, "quay-gw", state)
    assert {r.via for r in own} >= set(SETTLED.gateways["quay-gw"].networks)


def test_what_the_model_uses_and_the_device_does_not_is_reported(observer):
    """Its tunnels are down, so all that lies beyond them is missing, and nothing else is wrong."""
    seen = routes_by_tables(SETTLED, "quay-gw", observer.state())
    found = list(used_differences(SETTLED, "quay-gw", ((r.prefix, r.via) for r in seen)))
    spaces = {prefix for cloud in SETTLED.clouds.values() for prefix in cloud.all_spaces}
    assert {d.prefix for d in found if d.what == "missing"} >= spaces
    assert {d.what for d in found} == {"missing"}


def test_what_is_read_over_restconf_fits_the_standard_modules(world):
    from yangson.enumerations import ContentType

    driver = open_gateway(Place(name="quay-gw", url=world.gateways["quay-gw"], token=world.token))
    client = driver._client
    both = {}
    for top in ("ietf-interfaces:interfaces", "ietf-routing:routing"):
        state = client.get(f"/restconf/data/{top}?content=nonconfig")[top]
        config = client.get(f"/restconf/data/{top}?content=config")[top]
        both[top] = client.get(f"/restconf/data/{top}")[top]
        assert state.keys() | config.keys() == both[top].keys()
    data_model().from_raw(both).validate(ctype=ContentType.all)
    with pytest.raises(OutsideError, match="all, config or nonconfig"):
        client.get("/restconf/data/ietf-interfaces:interfaces?content=some")
    driver.close()


def test_status_says_what_an_end_cannot_tell(world):
    place = Place(name="quay-gw", url=world.agents["quay-gw"], token=world.token)
    state = open_snmp(place).state()
    leg = SETTLED.legs_at("quay-gw")[0]
    down = ends_by_tables(SETTLED, "quay-gw", state)[leg.label]
    assert compared(SETTLED, leg, down, GOOD).state == DOWN
    unsaid = NotKnown("the test withholds it")
    up = replace(down, child="up", bgp="established", received=unsaid)
    cloud = replace(GOOD, received=("10.9.0.0/16",), announced=("10.64.0.0/22",))
    found = compared(SETTLED, leg, up, cloud)
    assert found.state == UP
    assert not found.disagreements, "what nobody told is no disagreement"


def test_of_a_device_that_reports_nothing_nothing_is_known():
    ends = ends_by_tables(SETTLED, "quay-gw", DeviceState(interfaces=()))
    assert {end.problem for end in ends.values()} == {"the device reports no interfaces"}
    assert {len(end.not_known) for end in ends.values()} == {9}
    with pytest.raises(OutsideError, match="reports no routes"):
        routes_by_tables(SETTLED, "quay-gw", DeviceState(interfaces=()))
    assert paths_by_tables(DeviceState(interfaces=())) is None


@pytest.fixture
def quick(monkeypatch):
    monkeypatch.setattr(snmp, "TIMEOUT", 1.0)
    monkeypatch.setattr(snmp, "RETRIES", 0)


def test_a_wrong_token_and_a_dead_agent_are_one_sentence(world, quick):
    url = world.agents["quay-gw"]
    with pytest.raises(
        OutsideError, match=r"first line of its token with .hash: sha-256"
    ) as caught:
        open_snmp(Place(name="quay-gw", url=url, token="not the token at all")).state()
    assert "not the token" not in str(caught.value)
    with pytest.raises(OutsideError, match="does not answer"):
        open_snmp(Place(name="x", url="snmp://127.0.0.1:9", token="community")).state()


@pytest.mark.parametrize(
    ("url", "token", "words"),
    [
        ("snmp://", "12345678", "names no agent"),
        ("snmp://a:b@127.0.0.1", "12345678", "names no agent"),
        ("http://127.0.0.1", "12345678", "names no agent"),
        ("snmp://a@127.0.0.1:99999", "12345678", "snmp://USER@HOST:PORT"),
        ("snmp://a@127.0.0.1", "short", "too short"),
    ],
)
def test_a_place_that_names_no_agent_is_refused(url, token, words):
    with pytest.raises(ObrinError, match=words):
        open_snmp(Place(name="x", url=url, token=token))


def test_an_agent_that_goes_round_in_circles_is_left(quick):
    """Its identifiers do not rise, so a walk would never end."""

    async def serve(ready: threading.Event, ended: threading.Event, port: list[int]) -> None:
        class Circle(list):
            def __getitem__(self, place):
                return super().__getitem__(place % 2 if isinstance(place, int) else place)

        cells = sorted(
            encode_interfaces([InterfaceState(name=f"if{n}") for n in range(60)]),
            key=lambda c: c.oid,
        )
        agent = Agent(lambda: Circle(cells), "a token of the test")
        port.append(agent.port)
        ready.set()
        while not ended.is_set():
            await asyncio.sleep(0.02)
        agent.close()

    ready, ended, port = threading.Event(), threading.Event(), []
    thread = threading.Thread(target=lambda: asyncio.run(serve(ready, ended, port)))
    thread.start()
    try:
        assert ready.wait(10)
        place = Place(
            name="x", url=f"snmp://practice@127.0.0.1:{port[0]}", token="a token of the test"
        )
        with pytest.raises(OutsideError, match="do not rise"):
            open_snmp(place).state()
    finally:
        ended.set()
        thread.join()


SNMPD = shutil.which("snmpd") or (shutil.which("/usr/sbin/snmpd"))


@pytest.fixture
def real_agent(tmp_path: Path) -> Iterator[int]:
    if SNMPD is None:
        pytest.skip("the system's SNMP agent is not installed")
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    (tmp_path / "conf").write_text(
        f"agentAddress udp:127.0.0.1:{port}\n"
        'createUser monitor SHA-256 "the first passphrase" AES "the second passphrase"\n'
        'createUser narrow SHA-256 "the first passphrase" AES "the second passphrase"\n'
        'createUser stock SHA-256 "the first passphrase" AES "the second passphrase"\n'
        'createUser open SHA-256 "the first passphrase"\n'
        "view interfaces included .1.3.6.1.2.1.2\nview system included .1.3.6.1.2.1.1\n"
        "rouser monitor priv\nrouser narrow priv -V interfaces\nrouser stock priv -V system\n"
        "rouser open auth\nrocommunity of-the-test 127.0.0.1\n"
        "rocommunity of-the-narrow 127.0.0.1 -V interfaces\n"
    )
    kept = f"--persistentDir={tmp_path / 'kept'}"
    process = subprocess.Popen(
        [SNMPD, "-f", "-Lf", str(tmp_path / "log"), "-C", "-c", str(tmp_path / "conf"), kept,
         "-p", str(tmp_path / "pid")],
    )  # fmt: skip
    yield port
    process.terminate()
    process.wait(10)


@pytest.mark.parametrize(
    ("user", "token"),
    [("monitor@", "the first passphrase\nthe second passphrase"), ("", "of-the-test")],
)
def test_a_real_agent_tells_this_machine(real_agent, user, token):
    observer = open_snmp(
        Place(name="host", url=f"snmp://{user}127.0.0.1:{real_agent}", token=token)
    )
    until = time.monotonic() + 20
    while True:
        try:
            state = observer.state()
            break
        except OutsideError:
            assert time.monotonic() < until
            time.sleep(0.2)
    names = {name for _, name in socket.if_nameindex()}
    assert {one.name for one in state.interfaces} == names
    loopback = next(one for one in state.interfaces if one.name == "lo")
    assert loopback.up
    assert "127.0.0.1" in map(str, loopback.addresses)
    assert state.neighbours is None, "it speaks no BGP"
    assert state.routes is None or {r.interface for r in state.routes} <= names | {""}
    assert not state.routes or DIRECT in {r.source for r in state.routes} or len(state.routes) > 0


def answered(port: int, user: str, token: str, **more: str) -> DeviceState:
    """As soon as the agent is there."""
    place = Place(name="host", url=f"snmp://{user}127.0.0.1:{port}", token=token, **more)
    until = time.monotonic() + 20
    while True:
        try:
            return open_snmp(place).state()
        except OutsideError as error:
            if "does not answer" not in str(error) or time.monotonic() > until:
                raise


BOTH = "the first passphrase\nthe second passphrase"


@pytest.mark.parametrize(
    ("user", "token", "problem"),
    [
        ("narrow@", BOTH, "the device reports no addresses"),
        ("", "of-the-narrow", "the device reports no addresses"),
        ("stock@", BOTH, "the device reports no interfaces"),
    ],
)
def test_of_what_a_view_leaves_out_nothing_is_known(real_agent, user, token, problem):
    answered(real_agent, "", "of-the-test")
    state = answered(real_agent, user, token)
    for end in ends_by_tables(SETTLED, "quay-gw", state).values():
        assert end.problem.startswith(problem)
        assert end.child == NotKnown(end.problem)
    with pytest.raises(OutsideError, match="reports no routes"):
        routes_by_tables(SETTLED, "quay-gw", state)


@pytest.mark.parametrize(
    ("user", "token", "hash_name", "words"),
    [
        ("nobody@", BOTH, "sha-256", "does not know the user in its url"),
        ("monitor@", "another passphrase\nthe second passphrase", "sha-256", "the first line of its token"),
        ("monitor@", BOTH, "sha-512", "'hash: sha-512'"),
        ("monitor@", "the first passphrase\nanother passphrase", "sha-256", "the last line of its token|does not answer"),
        ("open@", BOTH, "sha-256", "authenticate and encrypt"),
        ("", "not-the-community", "sha-256", "the community in its token"),
    ],
)  # fmt: skip
def test_what_is_wrong_with_a_place_is_said(real_agent, quick, user, token, hash_name, words):
    answered(real_agent, "", "of-the-test")
    place = Place(
        name="host", url=f"snmp://{user}127.0.0.1:{real_agent}", token=token, hash=hash_name
    )
    with pytest.raises(OutsideError, match=words) as caught:
        open_snmp(place).state()
    assert not any(line in str(caught.value) for line in token.split("\n"))


def test_a_device_with_another_root_and_a_password():
    """What it sends back is what the request has: the root, and the user with the password."""
    import base64
    import http.server

    asked: list[tuple[str, str]] = []

    class Device(http.server.BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            asked.append((self.path, self.headers["Authorization"]))
            self.send_response(404 if "routing" in self.path else 200)
            body = b'{"ietf-interfaces:interfaces": {"interface": [{"name": "t"}]}}'
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_of: object) -> None:
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Device)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        url = f"http://127.0.0.1:{server.server_port}"
        place = Place(name="quay-gw", url=url, token="secret word", user="monitor", root="/api/rc")
        state = open_restconf(place).state()
    finally:
        server.shutdown()
        server.server_close()
    assert [one.name for one in state.interfaces] == ["t"]
    assert isinstance(state.interfaces[0].up, NotKnown)
    assert state.routes is None
    assert {path.split("?")[0].rsplit("/", 2)[0] for path, _ in asked} == {"/api/rc"}
    basic = base64.b64encode(b"monitor:secret word").decode()
    assert {header for _, header in asked} == {f"Basic {basic}"}


def test_the_file_of_places_says_how_a_gateway_is_read(tmp_path):
    file = tmp_path / "design.places.yaml"
    file.write_text(
        "gateways:\n  quay-gw:\n    driver: by-hand\n    observe:\n      driver: snmp\n"
        "      url: snmp://monitor@192.0.2.1\n      token-file: quay.snmp\n      hash: sha-512\n"
    )
    spec = read_places(file).gateways["quay-gw"].observe
    assert spec is not None
    assert spec.hash == "sha-512"
    file.write_text("gateways: {quay-gw: {driver: mine, options: {port: ttyS0, speed: 9600}}}")
    place = read_places(file).gateways["quay-gw"].place("quay-gw", tmp_path)
    assert (place.url, place.token, place.options) == ("", "", {"port": "ttyS0", "speed": 9600})
    for wrong, words in (
        ("clouds: {apps: {driver: by-hand, observe: {driver: snmp, url: 'snmp://a@192.0.2.1', token-file: f}}}", "apps is a cloud"),
        ("gateways: {quay-gw: {driver: restconf, url: 'http://192.0.2.1', token-file: f, observe: {driver: snmp, url: 'snmp://a@192.0.2.1', token-file: f}}}", "go with the driver by-hand"),
        ("gateways: {quay-gw: {driver: by-hand, observe: {driver: snmp, url: 'snmp://a@192.0.2.1'}}}", "token-variable or token-file"),
        ("gateways: {quay-gw: {driver: by-hand, observe: {driver: snmp, url: 'ftp://192.0.2.1', token-file: f}}}", "pattern"),
    ):  # fmt: skip
        file.write_text(wrong)
        with pytest.raises(ObrinError, match=words):
            read_places(file)
