"""Dedicated lines: obrin-circuits. Their addresses stand with the interfaces."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from obrin.core.address.prefix import Address, parse_address
from obrin.core.handover.standard.basic import decode_bfd, encode_bfd
from obrin.core.ipsec.liveness import Bfd
from obrin.core.json_text import Json

MODULE = "obrin-circuits:circuits"


@dataclass(frozen=True, slots=True, kw_only=True)
class Circuit:
    """One end of a line; `remote_address` is the far end's on it."""

    name: str
    interface: str
    remote_address: Address
    bfd: Bfd | None = None


def encode(circuits: Iterable[Circuit]) -> Json:
    return {
        "circuit": [
            {
                "name": circuit.name,
                "interface": circuit.interface,
                "remote-address": str(circuit.remote_address),
                **encode_bfd(circuit.bfd),
            }
            for circuit in circuits
        ]
    }


def decode(data: Json) -> tuple[Circuit, ...]:
    return tuple(
        Circuit(
            name=entry["name"],
            interface=entry["interface"],
            remote_address=parse_address(entry["remote-address"]),
            bfd=decode_bfd(entry),
        )
        for entry in data.get("circuit", [])
    )
