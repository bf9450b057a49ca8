"""One-to-one translation at tunnel interfaces: ietf-nat (RFC 8512), static mappings, NPTv6."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from obrin.core.address.prefix import parse_prefix
from obrin.core.address.translation import Exposure
from obrin.core.json_text import Json

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
    """All parts are of one family; RFC 8512 has a list of its own for IPv6."""
    if of.parts[0].real.bits == 128:
        pairs = [
            {"internal-ipv6-prefix": str(part.real), "external-ipv6-prefix": str(part.seen)}
            for part in of.parts
        ]
        return {
            "id": of.number,
            "name": of.interface,
            "type": "ietf-nat:nptv6",
            "policy": [{"id": 1, "nptv6-prefixes": pairs}],
        }
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
    pairs = [(m["internal-src-address"], m["external-src-address"]) for m in mappings]
    for policy in entry.get("policy", []):
        held = policy.get("nptv6-prefixes", [])
        pairs += [(m["internal-ipv6-prefix"], m["external-ipv6-prefix"]) for m in held]
    return Translation(
        number=entry["id"],
        interface=entry["name"],
        parts=tuple(Exposure("", parse_prefix(one), parse_prefix(two)) for one, two in pairs),
    )
