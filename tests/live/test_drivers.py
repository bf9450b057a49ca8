"""The drivers that ship against the suite for all of them; which driver serves which place."""

from __future__ import annotations

from collections.abc import Iterator
from importlib.metadata import EntryPoint
from pathlib import Path

import pytest

from obrin.core.errors import ObrinError
from obrin.core.handover.pack import make_pack
from obrin.core.handover.secrets import Secrets
from obrin.live.drivers import registry
from obrin.live.drivers.places import Place, read_places
from obrin.live.drivers.practice_cloud.driver import open_cloud
from obrin.live.drivers.protocol import CloudDriver, GatewayDriver
from obrin.live.drivers.registry import open_ends
from obrin.live.drivers.restconf import open_gateway
from obrin.live.practice.record import World
from obrin.live.practice.world import start_world, stop_world
from obrin.live.project import Project
from obrin.testing.drivers import CloudDriverTests, GatewayDriverTests
from tests.doubles import DESIGN, settled_of, swap

SETTLED = settled_of()
KEYS = {tunnel.label: f"key-of-{tunnel.label}-1234567890" for tunnel in SETTLED.tunnels()}
SECRETS = Secrets(KEYS)
PACK = make_pack(SETTLED, "quay-gw", SECRETS)
RENEWED = Secrets({label: f"another-{key}" for label, key in KEYS.items()})
ALTERED = settled_of(swap(("hold-time: 6 s", "hold-time: 9 s")))
OTHER = make_pack(ALTERED, "quay-gw", RENEWED)


@pytest.fixture(scope="module")
def world(tmp_path_factory) -> Iterator[World]:
    folder = tmp_path_factory.mktemp("drivers") / ".obrin" / "practice"
    yield start_world(SETTLED, folder, speed=20000.0)
    stop_world(folder)


class TestPracticeCloud(CloudDriverTests):
    settled, secrets = SETTLED, SECRETS
    altered, renewed = ALTERED, RENEWED

    @pytest.fixture
    def driver(self, world: World) -> Iterator[CloudDriver]:
        place = Place(name="apps", url=world.cloud, token=world.token, speed=world.speed)
        driver = open_cloud(place)
        yield driver
        driver.close()


class TestRestconfGateway(GatewayDriverTests):
    config, keys = PACK.config, PACK.keys
    altered, renewed = OTHER.config, OTHER.keys
    labels = frozenset(KEYS)

    @pytest.fixture
    def driver(self, world: World) -> Iterator[GatewayDriver]:
        place = Place(name="quay-gw", url=world.gateways["quay-gw"], token=world.token)
        driver = open_gateway(place)
        yield driver
        driver.close()

    def begun(self, driver: GatewayDriver, label: str) -> object:
        """The SPI of its IKE SA."""
        tunnels = driver._state()["tunnel"]
        return next(t.get("initiator-ikesa-spi") for t in tunnels if t["name"] == label)


@pytest.fixture
def project(tmp_path: Path) -> Project:
    (tmp_path / "design.yaml").write_text(DESIGN)
    return Project(tmp_path / "design.yaml")


GATEWAY = "gateways: {quay-gw: {driver: restconf, url: 'http://127.0.0.1:1', token-file: token}}\n"


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("gateways: [", "it is not YAML"),
        ("gateways: 5", "gateways: Input should be"),
        ("clouds: {apps: {driver: practice, url: 'ftp://x', token-file: t}}", "clouds.apps.url"),
        ("clouds: {apps: {driver: practice, url: 'http://x'}}", "give either token-variable"),
        (
            "clouds: {apps: {driver: practice, url: 'http://x', token-file: t, colour: red}}",
            "colour",
        ),
        (
            "clouds: {apps: {driver: moon, url: 'http://x', token-variable: HOME}}",
            "no driver 'moon'",
        ),
        ("clouds: {shed: {driver: practice, url: 'http://x', token-file: t}}", "no cloud 'shed'"),
        (
            "gateways: {shed: {driver: restconf, url: 'http://x', token-file: t}}",
            "no gateway 'shed'",
        ),
        (GATEWAY, "the token of quay-gw is not there. Put it into"),
        (GATEWAY.replace("token-file: token", "token-variable: NO_SUCH_TOKEN"), "Set the variable"),
        (
            "clouds: {apps: {driver: practice, url: 'https://x', token-variable: HOME, authority: a}}",
            "authority of the cloud",
        ),
        ("", "no practice world runs here"),
    ],
)
def test_a_file_of_places_that_cannot_be_used_is_one_message(
    project: Project, text: str, words: str
) -> None:
    project.places_path.write_text(GATEWAY + text if text.startswith("clouds: {apps") else text)
    (project.folder / "token").write_text("t") if text.startswith("clouds") else None
    with pytest.raises(ObrinError) as caught, open_ends(project, SETTLED):
        pass
    assert words in str(caught.value)


def test_places_of_ones_own_beside_the_practice_world(project: Project, world: World) -> None:
    """All places are named, so no practice world is looked for; the driver is the same."""
    (project.folder / "token").write_text(f"{world.token}\n")
    project.places_path.write_text(
        f"clouds: {{apps: {{driver: practice, url: '{world.cloud}', token-file: token}}}}\n"
        f"gateways: {{quay-gw: {{driver: restconf, url: '{world.gateways['quay-gw']}', "
        "token-file: token}}\n"
    )
    with open_ends(project, SETTLED) as ends:
        assert not ends.gateways["quay-gw"].has_pack()
        assert ends.clouds["apps"].held() == []
    assert world.token not in repr(read_places(project.places_path))


def test_two_packages_with_one_name_are_reported(monkeypatch: pytest.MonkeyPatch) -> None:
    found = [EntryPoint("twin", f"{module}:open", registry.CLOUDS) for module in ("a", "b")]
    monkeypatch.setattr(registry, "entry_points", lambda group: found)
    registry.cloud_factory.cache_clear()
    with pytest.raises(ObrinError, match="two packages bring a driver 'twin': a:open and b:open"):
        registry.cloud_factory("twin")
    registry.cloud_factory.cache_clear()
