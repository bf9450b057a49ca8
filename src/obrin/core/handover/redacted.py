"""Texts that may be handed on: addresses and the design's names stand for others, consistently.

Addresses keep what tells of the mistake and lose what tells of the place. Two that share their
first n bits do so afterwards (a permutation bit by bit, each flipped or not by a keyed hash of the
bits before it), so a prefix still holds its hosts. Private and link-local ones stay so; all others
become addresses that nobody has: of 240.0.0.0/4 (RFC 1112), and of 3fff::/20 (RFC 9637).
"""

from __future__ import annotations

import functools
import hashlib
import hmac
import re
from collections.abc import Iterator
from typing import Any

from obrin.core.address.prefix import Address, Prefix, netmask_length, parse_address, parse_prefix
from obrin.core.errors import AddressError
from obrin.core.settled.model import Settled

_KEPT = tuple(
    map(
        parse_prefix,
        (
            "10.0.0.0/8",
            "172.16.0.0/12",
            "192.168.0.0/16",
            "100.64.0.0/10",
            "169.254.0.0/16",
            "127.0.0.0/8",
            "fe80::/10",
            "fc00::/7",
        ),
    )
)
"""Of these, the first bits stay."""
_OTHERS = {32: parse_prefix("240.0.0.0/4"), 128: parse_prefix("3fff::/20")}
_ADDRESS = re.compile(
    r"(?<![\w.:-])(?:\d{1,3}(?:\.\d{1,3}){3}|[0-9A-Fa-f]{0,4}(?::[0-9A-Fa-f]{0,4}){2,7})"
    r"(?:/\d{1,3})?(?![\w:]|\.\d)"
)
LEAST = 3
"""Characters of a name that is replaced where it stands alone; shorter ones would hit words."""


def names_of(settled: Settled) -> dict[str, str]:
    """What stands for each name of a design."""
    return dict(_names(settled))


def _names(settled: Settled) -> Iterator[tuple[str, str]]:
    kinds: dict[str, list[str]] = {
        "design": [settled.name],
        "site": [*settled.sites],
        "cloud": [*settled.clouds],
        "gateway": [*settled.gateways],
        "link": [*settled.links],
        "circuit": [*settled.circuits],
        "network": [n for site in settled.sites.values() for n in site.networks],
        "subnet": [n for cloud in settled.clouds.values() for n in cloud.subnets],
        "uplink": [n for gateway in settled.gateways.values() for n in gateway.uplinks],
        "tunnel": [tunnel.name for tunnel in settled.tunnels()],
    }
    seen: set[str] = set()
    for kind, held in kinds.items():
        fresh = [name for name in dict.fromkeys(held) if name not in seen]
        seen |= set(fresh)
        for number, name in enumerate(fresh, 1):
            yield name, f"{kind}-{number}"


class Redactor:
    """`key` makes the same of the same again; without it nobody finds out what stood there."""

    def __init__(self, key: bytes, names: dict[str, str]) -> None:
        self._key, self._names = key, names
        alone = sorted((n for n in names if len(n) >= LEAST), key=len, reverse=True)
        every = sorted(names, key=len, reverse=True)
        self._alone = _pattern(alone, "")
        self._joined = _pattern(every, r"(?=/)") if every else None
        self._after = re.compile(r"(?<=/)(" + "|".join(map(re.escape, every)) + r")(?![\w-])")
        self._bits = functools.cache(self._moved)

    def text(self, text: str) -> str:
        """Addresses first, since a name may look like a part of one."""
        parts = _ADDRESS.split(text)
        found = [self._address(match[0]) for match in _ADDRESS.finditer(text)]
        told = [self._named(part) for part in parts]
        return "".join(a + b for a, b in zip(told, [*found, ""], strict=True))

    def data(self, data: Any) -> Any:
        """All texts below it, keys of mappings too where they are names."""
        if isinstance(data, str):
            return self.text(data)
        if isinstance(data, dict):
            return {self._names.get(key, key): self.data(value) for key, value in data.items()}
        if isinstance(data, list | tuple):
            return [self.data(value) for value in data]
        return data

    def _named(self, text: str) -> str:
        if text in self._names:
            return self._names[text]
        if self._joined is None:
            return text

        def other(match: re.Match[str]) -> str:
            return self._names[match[1]]

        text = self._after.sub(other, self._joined.sub(other, text))
        return text if self._alone is None else self._alone.sub(other, text)

    def _address(self, text: str) -> str:
        """What is no address after all stays."""
        try:
            prefix = parse_prefix(text) if "/" in text else None
            address = parse_address(text) if prefix is None else Address(prefix.bits, prefix.value)
        except AddressError:
            return text
        if address.value == 0 or (prefix is None and netmask_length(address) is not None):
            return text
        moved = self._bits(address)
        return str(moved if prefix is None else moved.network(prefix.length))

    def _moved(self, address: Address) -> Address:
        kept = next((k for k in _KEPT if k.holds(address)), None)
        home: Prefix = _OTHERS[address.bits] if kept is None else kept
        value = 0
        for place in range(address.bits):
            before = address.value >> (address.bits - place)
            flip = (
                self._flip(address.bits, place, before)
                if kept is None or place >= kept.length
                else 0
            )
            bit = (address.value >> (address.bits - place - 1)) & 1
            value = (value << 1) | (bit ^ flip)
        below = (1 << (address.bits - home.length)) - 1
        return Address(address.bits, home.value | (value & below))

    def _flip(self, bits: int, place: int, before: int) -> int:
        told = f"{bits}/{place}/{before:x}".encode()
        return hmac.new(self._key, told, hashlib.sha256).digest()[0] & 1


def _pattern(names: list[str], after: str) -> re.Pattern[str] | None:
    if not names:
        return None
    return re.compile(r"(?<![\w-])(" + "|".join(map(re.escape, names)) + r")(?![\w-])" + after)
