"""Devices of any make by RESTCONF (RFC 8040): the standard modules that most of them have."""

from __future__ import annotations

from obrin.core.errors import ObrinError, OutsideError
from obrin.core.handover.standard.operational import INTERFACES, ROUTING, DeviceState, decode
from obrin.live.drivers.by_tables import Observer
from obrin.live.drivers.places import ROOT, Place
from obrin.live.http import Client, HttpError

NOT_THERE, NO_CONTENT = 404, 204


def open_observer(place: Place) -> Observer:
    """The entry point `restconf`."""
    return RestconfObserver(place, Client.at(f"the device of {place.name}", place))


class RestconfObserver:
    def __init__(self, place: Place, client: Client) -> None:
        self._name, self._data, self._client = place.name, f"{place.root}/data", client

    def state(self) -> DeviceState:
        """Raises OutsideError. A device without ietf-routing reports no routes, and one without
        ietf-interfaces no interfaces."""
        try:
            interfaces, routing = self._container(INTERFACES), self._container(ROUTING)
            if interfaces is None and routing is None:
                raise OutsideError(
                    f"the device of {self._name} has neither {INTERFACES} nor {ROUTING}. Look at "
                    f"its url, and at 'root' where its RESTCONF is not at {ROOT}"
                )
            return decode(interfaces or {}, routing)
        except (ObrinError, LookupError, TypeError, ValueError, AttributeError) as error:
            if isinstance(error, OutsideError):
                raise
            raise OutsideError(
                f"the device of {self._name} sends what does not fit its modules: {error}"
            ) from error

    def _container(self, name: str) -> dict[str, object] | None:
        """Everything in it; None where the device has none (RFC 8040 section 4.3)."""
        try:
            answer = self._client.call("GET", f"{self._data}/{name}")
        except HttpError as error:
            if error.status == NOT_THERE:
                return None
            raise
        if answer.status == NO_CONTENT:
            return None
        found: dict[str, object] = answer.json()[name]
        return found

    def close(self) -> None:
        self._client.close()
