"""Devices of any make by RESTCONF (RFC 8040): the standard modules that most of them have."""

from __future__ import annotations

from obrin.core.errors import ObrinError, OutsideError
from obrin.core.handover.standard.operational import INTERFACES, ROUTING, DeviceState, decode
from obrin.live.drivers.by_tables import Observer
from obrin.live.drivers.places import Place
from obrin.live.http import Client, HttpError

NOT_THERE = 404


def open_observer(place: Place) -> Observer:
    """The entry point `restconf`."""
    return RestconfObserver(place.name, Client.at(f"the device of {place.name}", place))


class RestconfObserver:
    def __init__(self, name: str, client: Client) -> None:
        self._name, self._client = name, client

    def state(self) -> DeviceState:
        """Raises OutsideError. A device without ietf-routing reports no routes."""
        try:
            interfaces = self._client.get(f"/restconf/data/{INTERFACES}")[INTERFACES]
            return decode(interfaces, self._routing())
        except (ObrinError, LookupError, TypeError, ValueError, AttributeError) as error:
            if isinstance(error, OutsideError):
                raise
            raise OutsideError(
                f"the device of {self._name} sends what does not fit its modules: {error}"
            ) from error

    def _routing(self) -> dict[str, object] | None:
        try:
            found: dict[str, object] = self._client.get(f"/restconf/data/{ROUTING}")[ROUTING]
        except HttpError as error:
            if error.status == NOT_THERE:
                return None
            raise
        return found

    def close(self) -> None:
        self._client.close()
