"""Finding drivers by their entry points, and opening those of a design."""

from __future__ import annotations

import functools
from collections.abc import Callable, Collection, Iterator
from contextlib import contextmanager
from importlib.metadata import entry_points
from typing import cast

from obrin.core.errors import ObrinError
from obrin.core.naming import those_near
from obrin.core.settled.model import Settled
from obrin.live.drivers.by_hand.done_file import HandRecord, record_of
from obrin.live.drivers.by_hand.drivers import ByHandCloud, ByHandGateway
from obrin.live.drivers.by_hand.person import Nobody, Person
from obrin.live.drivers.by_tables import Observer
from obrin.live.drivers.places import BY_HAND, Place, Places, PlaceSpec, read_places
from obrin.live.drivers.protocol import CloudDriver, Ends, GatewayDriver
from obrin.live.practice.record import need_world
from obrin.live.project import Project

CLOUDS, GATEWAYS, OBSERVERS = "obrin.clouds", "obrin.gateways", "obrin.observers"
PRACTICE, RESTCONF = "practice", "restconf"


@contextmanager
def open_ends(
    project: Project, settled: Settled, person: Person | None = None, *, by_hand: bool = False
) -> Iterator[Ends]:
    """The drivers of all places of a design. A `person` does what is done by hand: what the file of
    places says, or with `by_hand` all that it does not name.

    Raises ObrinError for a file of places that cannot be used, and where the practice world is
    needed and none runs."""
    places, name = read_places(project.places_path), project.places_path.name
    _refuse_strangers(name, "cloud", places.clouds, settled.clouds)
    _refuse_strangers(name, "gateway", places.gateways, settled.gateways)
    if by_hand:
        places = _all_by_hand(places, settled)
    ends = _Opening(project, places, person or Nobody()).all(settled)
    try:
        yield ends
    finally:
        ends.close()


def _refuse_strangers(file: str, kind: str, named: Collection[str], known: Collection[str]) -> None:
    for name in named:
        if name not in known:
            raise ObrinError(
                f"{file}: the design has no {kind} '{name}'. There are: {those_near(name, known)}"
            )


def _all_by_hand(places: Places, settled: Settled) -> Places:
    """What is not named is done by a person."""
    hand = PlaceSpec.model_validate({"driver": BY_HAND})
    return Places(
        clouds=dict.fromkeys(settled.clouds, hand) | places.clouds,
        gateways=dict.fromkeys(settled.gateways, hand) | places.gateways,
    )


class _Opening:
    """What the file says is looked at before anything is opened."""

    def __init__(self, project: Project, places: Places, person: Person) -> None:
        self._project, self._person = project, person
        folder = project.folder
        self._clouds = {
            name: (cloud_factory(spec.driver), spec.place(name, folder))
            for name, spec in places.clouds.items()
            if spec.driver != BY_HAND
        }
        self._gateways = {
            name: (gateway_factory(spec.driver), spec.place(name, folder))
            for name, spec in places.gateways.items()
            if spec.driver != BY_HAND
        }
        self._observers = {
            name: (observer_factory(spec.observe.driver), spec.observe.place(name, folder))
            for name, spec in places.gateways.items()
            if spec.observe is not None
        }
        self._by_hand = [
            {name: spec.by or "somebody" for name, spec in kind.items() if spec.driver == BY_HAND}
            for kind in (places.clouds, places.gateways)
        ]

    def all(self, settled: Settled) -> Ends:
        clouds: dict[str, CloudDriver] = {}
        gateways: dict[str, GatewayDriver] = {}
        try:
            for name, (open_cloud, place) in self._clouds.items():
                clouds[name] = open_cloud(place)
            for name, (open_gateway, place) in self._gateways.items():
                gateways[name] = open_gateway(place)
            self._hands(clouds, gateways)
            self._practice(settled, clouds, gateways)
        except BaseException:
            Ends(clouds, gateways).close()
            raise
        return Ends(clouds, gateways, functools.cache(lambda: self._project.barred(settled)))

    def _hands(self, clouds: dict[str, CloudDriver], gateways: dict[str, GatewayDriver]) -> None:
        if not any(self._by_hand):
            return
        project = self._project
        record = HandRecord(record_of(project))
        for name, who in self._by_hand[0].items():
            clouds[name] = ByHandCloud(name, record, self._person, who)
        for name, who in self._by_hand[1].items():
            gateway = ByHandGateway(name, _settled_now(project), record, self._person, who)
            gateways[name] = gateway
            if name in self._observers:
                open_observer, place = self._observers[name]
                gateway.observer = open_observer(place)

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


def _settled_now(project: Project) -> Callable[[], Settled]:
    return lambda: project.settled()[1]


@functools.cache
def cloud_factory(name: str) -> Callable[[Place], CloudDriver]:
    """Raises ObrinError for a driver that is not installed."""
    return cast("Callable[[Place], CloudDriver]", _find(CLOUDS, name))


@functools.cache
def gateway_factory(name: str) -> Callable[[Place], GatewayDriver]:
    """Raises ObrinError for a driver that is not installed."""
    return cast("Callable[[Place], GatewayDriver]", _find(GATEWAYS, name))


@functools.cache
def observer_factory(name: str) -> Callable[[Place], Observer]:
    """Raises ObrinError for a driver that is not installed."""
    return cast("Callable[[Place], Observer]", _find(OBSERVERS, name))


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
