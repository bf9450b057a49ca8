"""Session keys beside a capture, in the files that a packet dissector reads.

Written only when a capture was asked for, with mode 0600. The folder can be given to the
dissector as its configuration folder.
"""

from __future__ import annotations

import itertools
import os
from collections.abc import Iterable
from pathlib import Path

from obrin.core.ipsec.registry import Kind
from obrin.live.files import private_folder
from obrin.wire.esp import CHACHA20
from obrin.wire.ike.child import ChildSa
from obrin.wire.ike.events import ChildUp, IkeUp
from obrin.wire.ike.sa import IkeSa

IKE_FILE, ESP_FILE = "ikev2_decryption_table", "esp_sa"


class KeyLog:
    def __init__(self, folder: Path) -> None:
        self._folder = folder
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        private_folder(folder)

    def write(self, events: Iterable[IkeUp | ChildUp]) -> None:
        for event in events:
            if isinstance(event, IkeUp):
                found = ike_line(event.sa)
                if found is not None:
                    self._append(IKE_FILE, found)
            else:
                for line in esp_lines(event.child):
                    self._append(ESP_FILE, line)

    def _append(self, name: str, line: str) -> None:
        flags = os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW
        descriptor = os.open(self._folder / name, flags, 0o600)
        with os.fdopen(descriptor, "a", encoding="ascii") as file:
            file.write(line + "\n")


_IKE_INTEGRITY = {
    2: "HMAC_SHA1_96 [RFC2404]",
    12: "HMAC_SHA2_256_128 [RFC4868]",
    13: "HMAC_SHA2_384_192 [RFC4868]",
    14: "HMAC_SHA2_512_256 [RFC4868]",
}
_ESP_INTEGRITY = {
    2: "HMAC-SHA-1-96 [RFC2404]",
    12: "HMAC-SHA-256-128 [RFC4868]",
    13: "HMAC-SHA-384-192 [RFC4868]",
    14: "HMAC-SHA-512-256 [RFC4868]",
}


def ike_line(sa: IkeSa) -> str | None:
    """SPIs, keys and algorithms of an IKE SA, one line; None for a cipher that the dissector has no
    name for, with which it would read none of the others."""
    if sa.keys is None:
        raise AssertionError("an IKE SA without keys")
    cipher, integrity = sa.algorithm(Kind.ENCRYPTION), sa.integrity
    if cipher.number == CHACHA20:
        return None
    name = f"AES-GCM-{cipher.key_bits} with 16 octet ICV [RFC5282]"
    if integrity is not None:
        name = f"AES-CBC-{cipher.key_bits} [RFC3602]"
    return ",".join(
        [
            sa.spi_i.hex(),
            sa.spi_r.hex(),
            sa.keys.ei.hex(),
            sa.keys.er.hex(),
            f'"{name}"',
            sa.keys.ai.hex(),
            sa.keys.ar.hex(),
            f'"{"NONE [RFC4306]" if integrity is None else _IKE_INTEGRITY[integrity.number]}"',
        ]
    )


def esp_lines(child: ChildSa) -> list[str]:
    """A line for each direction in each outer family, which the dissector tells apart; none for a
    cipher that it has no name for."""
    cipher, integrity = child.chosen.one(Kind.ENCRYPTION), child.chosen.one(Kind.INTEGRITY)
    if cipher is None:
        raise AssertionError("a child SA without encryption")
    if cipher.number == CHACHA20:
        return []
    names = ("AES-GCM with 16 octet ICV [RFC4106]", "NULL")
    if integrity is not None:
        names = ("AES-CBC [RFC3602]", _ESP_INTEGRITY[integrity.number])
    lines = []
    ways = ((child.spi_in, child.keys_in), (child.spi_out, child.keys_out))
    for family, (spi, keys) in itertools.product(("IPv4", "IPv6"), ways):
        fields = [
            family,
            "*",
            "*",
            f"0x{spi.hex()}",
            names[0],
            f"0x{keys.encryption.hex()}",
            names[1],
            f"0x{keys.integrity.hex()}" if keys.integrity else "",
        ]
        lines.append(",".join(f'"{field}"' for field in fields))
    return lines
