"""Names of networks, parsed where they come in: `place/network`, `place`, or a prefix."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any

from pydantic import PlainSerializer, PlainValidator, WithJsonSchema

from obrin.core.address.prefix import Prefix, parse_prefix
from obrin.core.errors import AddressError


@dataclass(frozen=True, slots=True, order=True)
class NetworkRef:
    """A network of a site, or a subnet of a cloud; without `network`, all of the place."""

    place: str
    network: str = ""

    @classmethod
    def of(cls, text: str) -> NetworkRef:
        """`place/network` or `place`."""
        place, _, network = text.partition("/")
        return cls(place, network)

    def __str__(self) -> str:
        return f"{self.place}/{self.network}" if self.network else self.place


Reference = NetworkRef | Prefix


def _network_ref(value: Any) -> NetworkRef:
    if isinstance(value, NetworkRef):
        return value
    if not isinstance(value, str):
        raise ValueError(f"{value!r} is not a network; write for example harbour-house/offices")
    return NetworkRef.of(value)


def parse_reference(value: Any) -> Reference:
    """A prefix where it is one, and a name otherwise."""
    if isinstance(value, Prefix):
        return value
    try:
        return parse_prefix(value) if isinstance(value, str) else _network_ref(value)
    except AddressError:
        return NetworkRef.of(value)


_TEXT = WithJsonSchema({"type": "string"})
NetworkText = Annotated[NetworkRef, PlainValidator(_network_ref), PlainSerializer(str), _TEXT]
ReferenceText = Annotated[Reference, PlainValidator(parse_reference), PlainSerializer(str), _TEXT]
