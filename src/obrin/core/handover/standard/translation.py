"""One-to-one translation at tunnel interfaces: ietf-nat (RFC 8512), static mappings."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from obrin.core.address.prefix import parse_prefix
from obrin.core.address.translation import Exposure
from obrin.core.handover.standard.basic import Json

MODULE = "ietf-nat:nat"


@dataclass(frozen=True, slots=True, kw_only=True)
class Translation:
    """What is translated at an interface. `number` is unique at the device."""

    number: int
    interface: str
    parts: tuple[Exposure, ...]


def encode(translations: Iterable[Translation]) -> Json:
    return {"instances": {"instance": [_encode(of) for of in translations]}}


def _encode(of: Translation) -> Json:
    return {
        "id": of.number,
        "name": of.interface,
        "type": "ietf-nat:basic-nat44",
        "mapping-table": {
            "mapping-entry": [
                {
                    "index": index,
                    "type": "static",
                    "internal-src-address": str(part.real),
                    "external-src-address": str(part.seen),
                }
                for index, part in enumerate(of.parts, 1)
            ]
        },
    }


def decode(data: Json) -> tuple[Translation, ...]:
    return tuple(_decode(entry) for entry in data.get("instances", {}).get("instance", []))


def _decode(entry: Json) -> Translation:
    mappings = entry.get("mapping-table", {}).get("mapping-entry", [])
    return Translation(
        number=entry["id"],
        interface=entry["name"],
        parts=tuple(
            Exposure(
                "",
                parse_prefix(mapping["internal-src-address"]),
                parse_prefix(mapping["external-src-address"]),
            )
            for mapping in mappings
        ),
    )
