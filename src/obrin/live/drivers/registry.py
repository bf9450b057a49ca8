"""Finding drivers by their entry points, and opening those of a design."""

from __future__ import annotations

import functools
from collections.abc import Callable, Collection, Iterator
from contextlib import contextmanager
from importlib.metadata import entry_points
from typing import cast

from obrin.core.errors import ObrinError
from obrin.core.settled.model import Settled
from obrin.live.drivers.places import Place, Places, read_places
from obrin.live.drivers.protocol import CloudDriver, Ends, GatewayDriver
from obrin.live.practice.record import need_world
from obrin.live.project import Project

CLOUDS, GATEWAYS = "obrin.clouds", "obrin.gateways"
PRACTICE, RESTCONF = "practice", "restconf"


@contextmanager
def open_ends(project: Project, settled: Settled) -> Iterator[Ends]:
    """The drivers of all places of a design. Raises ObrinError for a file of places that cannot be
    used, and where the practice world is needed and none runs."""
    places, name = read_places(project.places_path), project.places_path.name
    _refuse_strangers(name, "cloud", places.clouds, settled.clouds)
    _refuse_strangers(name, "gateway", places.gateways, settled.gateways)
    ends = _Opening(project, places).all(settled)
    try:
        yield ends
    finally:
        ends.close()


def _refuse_strangers(file: str, kind: str, named: Collection[str], known: Collection[str]) -> None:
    for name in named:
        if name not in known:
            raise ObrinError(
                f"{file}: the design has no {kind} '{name}'. There are: {', '.join(known)}"
            )


class _Opening:
    """What the file says is looked at before anything is opened."""

    def __init__(self, project: Project, places: Places) -> None:
        self._project = project
        folder = project.folder
        self._clouds = {
            name: (cloud_factory(spec.driver), spec.place(name, folder))
            for name, spec in places.clouds.items()
        }
        self._gateways = {
            name: (gateway_factory(spec.driver), spec.place(name, folder))
            for name, spec in places.gateways.items()
        }

    def all(self, settled: Settled) -> Ends:
        clouds: dict[str, CloudDriver] = {}
        gateways: dict[str, GatewayDriver] = {}
        try:
            for name, (open_cloud, place) in self._clouds.items():
                clouds[name] = open_cloud(place)
            for name, (open_gateway, place) in self._gateways.items():
                gateways[name] = open_gateway(place)
            self._practice(settled, clouds, gateways)
        except BaseException:
            Ends(clouds, gateways).close()
            raise
        return Ends(clouds, gateways)

    def _practice(
        self, settled: Settled, clouds: dict[str, CloudDriver], gateways: dict[str, GatewayDriver]
    ) -> None:
        """All that the file does not name. One practice cloud serves all clouds. Practice gateways
        that the design has no more are among them, since they may still have a pack."""
        left = [name for name in settled.clouds if name not in clouds]
        if not left and settled.gateways.keys() <= gateways.keys():
            return
        world = need_world(self._project.practice_folder)
        if left:
            place = Place(name=left[0], url=world.cloud, token=world.token, speed=world.speed)
            clouds |= dict.fromkeys(left, cloud_factory(PRACTICE)(place))
        for name, url in world.gateways.items():
            if name not in gateways:
                place = Place(name=name, url=url, token=world.token)
                gateways[name] = gateway_factory(RESTCONF)(place)


@functools.cache
def cloud_factory(name: str) -> Callable[[Place], CloudDriver]:
    """Raises ObrinError for a driver that is not installed."""
    return cast("Callable[[Place], CloudDriver]", _find(CLOUDS, name))


@functools.cache
def gateway_factory(name: str) -> Callable[[Place], GatewayDriver]:
    """Raises ObrinError for a driver that is not installed."""
    return cast("Callable[[Place], GatewayDriver]", _find(GATEWAYS, name))


def _find(group: str, name: str) -> object:
    """Raises ObrinError for a driver that is not installed, or that two packages bring."""
    found = [entry for entry in entry_points(group=group) if entry.name == name]
    if not found:
        known = ", ".join(sorted(entry.name for entry in entry_points(group=group)))
        raise ObrinError(f"there is no driver '{name}'. Installed: {known or 'none'}")
    if len({entry.value for entry in found}) > 1:
        listed = " and ".join(sorted(entry.value for entry in found))
        raise ObrinError(f"two packages bring a driver '{name}': {listed}. Remove one of them")
    return found[0].load()
