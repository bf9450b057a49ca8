"""Names of networks, parsed where they come in: `place/network`, a part, `place`, or a prefix."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any

from pydantic import PlainSerializer, PlainValidator, WithJsonSchema

from obrin.core.address.prefix import Prefix, host_prefix, parse_prefix
from obrin.core.errors import AddressError

INTERNET = "internet"
"""What lies beyond all that a design describes, where a flow may lead."""


@dataclass(frozen=True, slots=True, order=True)
class NetworkRef:
    """A network of a site, or a subnet of a cloud; without `network`, all of the place. `part` is a
    single host or a prefix in the network, None for all of it; `bits` the family that is meant, 0
    for both."""

    place: str
    network: str = ""
    part: Prefix | None = None
    bits: int = 0

    @classmethod
    def of(cls, text: str) -> NetworkRef:
        """`place/network`, `place/network/address`, `place/network/prefix` or `place`.

        Raises AddressError for a part that is neither address nor prefix.
        """
        place, network, part = (*text.split("/", 2), "", "")[:3]
        return cls(place, network, parse_part(part) if part else None)

    @property
    def is_internet(self) -> bool:
        return self.place == INTERNET and not self.network

    @property
    def whole(self) -> NetworkRef:
        """The network in every family, without the part."""
        return NetworkRef(self.place, self.network)

    @property
    def family(self) -> int:
        """Bits of the addresses that are meant; 0 for both families."""
        return self.bits if self.part is None else self.part.bits

    def covers(self, other: NetworkRef) -> bool:
        """Whether all of the other is in this one. Parts are of one network."""
        if 0 not in (self.family, other.family) and self.family != other.family:
            return False
        if self.whole != other.whole or self.part is None:
            return self.whole == other.whole
        return other.part is not None and self.part.covers(other.part)

    def __str__(self) -> str:
        name = f"{self.place}/{self.network}" if self.network else self.place
        return name if self.part is None else f"{name}/{format_part(self.part)}"


def parse_part(text: str) -> Prefix:
    """A prefix, or an address as one of full length. Raises AddressError."""
    return parse_prefix(text) if "/" in text else host_prefix(text)


def format_part(part: Prefix) -> str:
    """A single host without its length."""
    return str(part).removesuffix(f"/{part.bits}")


Reference = NetworkRef | Prefix


def _network_ref(value: Any) -> NetworkRef:
    if isinstance(value, NetworkRef):
        return value
    if not isinstance(value, str):
        raise ValueError(f"{value!r} is not a network; write for example harbour-house/offices")
    try:
        return NetworkRef.of(value)
    except AddressError as error:
        raise ValueError(f"{error}; a host or a prefix may stand behind a network's name") from None


def parse_reference(value: Any) -> Reference:
    """A prefix or an address where it is one, and a name otherwise."""
    if isinstance(value, Prefix):
        return value
    try:
        return parse_part(value) if isinstance(value, str) else _network_ref(value)
    except AddressError:
        return _network_ref(value)


_TEXT = WithJsonSchema({"type": "string"})
NetworkText = Annotated[NetworkRef, PlainValidator(_network_ref), PlainSerializer(str), _TEXT]
ReferenceText = Annotated[Reference, PlainValidator(parse_reference), PlainSerializer(str), _TEXT]
