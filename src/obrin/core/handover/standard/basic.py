"""What the modules have in common: names, addresses with their length, decimal numbers."""

from __future__ import annotations

import json

from obrin.core.ipsec.liveness import Bfd
from obrin.core.json_text import Json


def as_json(data: Json) -> str:
    """Write instance data as it is handed over."""
    return json.dumps(data, indent=2) + "\n"


def loaded(text: str) -> Json:
    """The inverse."""
    found: Json = json.loads(text)
    return found


def interface_name(tunnel: str) -> str:
    """The label of a tunnel as its interface's name."""
    return "tunnel-" + tunnel.replace("/", "-")


def circuit_interface(circuit: str) -> str:
    """The name of a circuit as its interface's name."""
    return f"circuit-{circuit}"


def decimal(value: float) -> str:
    """A decimal64, which is a string in JSON (RFC 7951 section 6.1)."""
    text = f"{value:.3f}".rstrip("0")
    return text + "0" if text.endswith(".") else text


def encode_bfd(bfd: Bfd | None) -> Json:
    """Encode as a member `bfd`, or nothing."""
    if bfd is None:
        return {}
    return {"bfd": {"interval": decimal(bfd.interval), "multiplier": bfd.multiplier}}


def decode_bfd(entry: Json) -> Bfd | None:
    found = entry.get("bfd")
    return None if found is None else Bfd(float(found["interval"]), int(found["multiplier"]))
