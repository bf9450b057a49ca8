"""Texts that may be handed on: addresses and the design's names stand for others, consistently.

Addresses keep what shows the mistake and lose what shows the place. Two that share their
first n bits do so afterwards (a permutation bit by bit, each flipped or not by a keyed hash of the
bits before it), so a prefix still holds its hosts. Private and link-local ones stay so; all others
become addresses that nobody has: of 240.0.0.0/4 (RFC 1112), and of 3fff::/20 (RFC 9637).

The invariant. One key makes the same text of the same text, and different addresses stay different.
The cost is one hash for each bit of each address, kept once found.

Proven: `tests/core/test_redacted.py`, with every spelling of an address. Source: Xu and others,
"Prefix-preserving IP address anonymization" (2002).
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
"""Special ranges: their first bits stay."""
_OTHERS = {32: parse_prefix("240.0.0.0/4"), 128: parse_prefix("3fff::/20")}
_LENGTH = r"(?:/\d{1,3}(?!\d))?"
_V4 = re.compile(r"(?<!\d)\d{1,3}(?:\.\d{1,3}){3,}(?!\d)" + _LENGTH)
"""In a run of more than four numbers, any four may be an address; the last ones are tried first."""
_V6 = re.compile(r"(?<![0-9A-Fa-f:])[0-9A-Fa-f:]*:[0-9A-Fa-f:]*:[0-9A-Fa-f:.]*" + _LENGTH)
"""A run of what addresses of IPv6 are written with; one may stand anywhere in it."""
_REVERSE = re.compile(
    r"(?<![\w.])((?:\d{1,3}\.){1,4})(in-addr\.arpa)|((?:[0-9a-f]\.)+)(ip6\.arpa)", re.IGNORECASE
)
"""Names of addresses in reverse look-ups (RFC 1035 section 3.5, RFC 3596 section 2.5)."""
_ANY = re.compile("|".join(f"(?:{p.pattern})" for p in (_REVERSE, _V6, _V4)), re.I)
LONGEST = 45
"""Characters of an address of IPv6."""
MOST_RUN = 200
"""Characters; in what is longer no address of IPv6 is looked for."""
LEAST = 2
"""Characters of a name that is replaced wherever it stands; a shorter one is a word too often, and
is replaced where it is a whole text, in quotes, or a part of a path."""


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
        self._key = key
        self._names = {name.lower(): other for name, other in names.items()}
        every = sorted(self._names, key=len, reverse=True)
        self._anywhere = _pattern([n for n in every if len(n) >= LEAST], _ALONE)
        self._in_place = _pattern([n for n in every if len(n) < LEAST], _PLACED)
        self._bits = functools.cache(self._moved)

    def text(self, text: str) -> str:
        """Addresses first, since a name may look like a part of one."""
        written, at = [], 0
        for match in _ANY.finditer(text):
            written += [self._named(text[at : match.start()]), self._addressed(match[0])]
            at = match.end()
        return "".join((*written, self._named(text[at:])))

    def data(self, data: Any) -> Any:
        """All texts below it, keys of mappings too where they are names."""
        if isinstance(data, str):
            return self.text(data)
        if isinstance(data, dict):
            return {
                self._names.get(str(key).lower(), key): self.data(value)
                for key, value in data.items()
            }
        if isinstance(data, list | tuple):
            return [self.data(value) for value in data]
        return data

    def _named(self, text: str) -> str:
        whole = self._names.get(text.strip().lower())
        if whole is not None:
            return text.replace(text.strip(), whole)

        def other(match: re.Match[str]) -> str:
            return self._names[match[0].lower()]

        for pattern in (self._in_place, self._anywhere):
            text = text if pattern is None else pattern.sub(other, text)
        return text

    def _addressed(self, text: str) -> str:
        """Something that is written like an address, or has one in it."""
        reverse = _REVERSE.fullmatch(text)
        if reverse is not None:
            return self._reverse(reverse)
        if ":" not in text:
            return self._dotted(text)
        body, slash, length = text.partition("/")
        for start, end in _spans(body) if len(body) <= MOST_RUN else ():
            tail = slash + length if end == len(body) else ""
            found = self._address(body[start:end] + tail)
            if found != body[start:end] + tail:
                before = _V4.sub(lambda m: self._dotted(m[0]), body[:start])
                rest = "" if tail else self.text(text[end:])
                return self._named(before) + found + rest
        return _V4.sub(lambda m: self._dotted(m[0]), text)

    def _dotted(self, text: str) -> str:
        body, slash, length = text.partition("/")
        parts, written = body.split("."), list[str]()
        while len(parts) >= 4:
            parts, last = parts[:-4], ".".join(parts[-4:])
            written.insert(0, self._address(last + slash + length))
            slash = length = ""
        return ".".join((*parts, *written))

    def _reverse(self, match: re.Match[str]) -> str:
        """The labels of an address from its last to its first; of a zone the others are zeros."""
        labels = (match[1] or match[3]).rstrip(".").split(".")[::-1]
        if match[1]:
            padded = ".".join((labels + ["0"] * 4)[:4])
            written = self._address(padded).split(".")
        else:
            digits = "".join(labels).ljust(32, "0")
            moved = self._bits(Address(128, int(digits[:32], 16)))
            written = list(f"{moved.value:032x}")
        return ".".join(written[: len(labels)][::-1]) + "." + (match[2] or match[4])

    def _address(self, text: str) -> str:
        """What is not an address after all stays."""
        body, _, length = text.partition("/")
        try:
            if ":" not in body:  # some write every part with three digits
                body = ".".join(str(int(part)) for part in body.split("."))
            address = parse_address(body)
            long = int(length or address.bits)
        except (AddressError, ValueError):
            return text
        if address.value == 0 or long > address.bits:
            return text
        if not length:
            return text if netmask_length(address) is not None else str(self._bits(address))
        whole = address.network(long).value == address.value
        moved = self._bits(address)
        return str(moved.network(long)) if whole else f"{moved}/{long}"

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
        written = f"{bits}/{place}/{before:x}".encode()
        return hmac.new(self._key, written, hashlib.sha256).digest()[0] & 1


def _spans(text: str) -> Iterator[tuple[int, int]]:
    """Parts of a run that begin and end at a colon or at its ends, the longest first; few, since
    no address has more than eight of them."""
    cuts = [n for n, c in enumerate(text) if c == ":"]
    starts = sorted({0, *cuts, *(n + 1 for n in cuts)})
    ends = sorted({len(text), *cuts, *(n + 1 for n in cuts), len(text.rstrip("."))})
    spans = ((a, b) for a in starts for b in ends if 2 <= b - a <= LONGEST)
    yield from sorted(spans, key=lambda span: span[0] - span[1])


_ALONE = r"(?<![^\W_])(?:{})(?![^\W_])"
"""Not within a word; what joins names to longer ones, such as `-` and `_`, is not of a word."""
_PLACED = r"(?:(?<=[/\'\"])(?:{0})(?![^\W_])|(?<![^\W_])(?:{0})(?=[/\'\"]))"


def _pattern(names: list[str], form: str) -> re.Pattern[str] | None:
    if not names:
        return None
    return re.compile(form.format("|".join(map(re.escape, names))), re.IGNORECASE)
