"""What a text of a sheet says, however it is written: two texts say the same if their readings are
equal.

A sheet's own explanations count for nothing: what stands in parentheses, the same number in another
unit, words around addresses.
"""

from __future__ import annotations

import re
from typing import NamedTuple

from obrin.core.address.prefix import Address, netmask_length, parse_address
from obrin.core.address.space import range_blocks
from obrin.core.compare.spelling import algorithm
from obrin.core.errors import AddressError
from obrin.core.ipsec.registry import Kind

ALGORITHM, ADDRESSES, SECONDS, NUMBER, SWITCH, TEXT, BLANK = (
    "algorithm",
    "addresses",
    "seconds",
    "number",
    "switch",
    "text",
    "blank",
)
OFF = frozenset(
    (
        "off",
        "no",
        "none",
        "disabled",
        "disable",
        "false",
        "-",
        "--",
        "n/a",
        "na",
        "0",
        "no pfs",
        "no group",
    )
    + ("does not apply", "not used", "not applicable", "deactivated", "inactive")
)
ON = frozenset(("on", "yes", "enabled", "enable", "true", "activated", "1"))
KINDS = {
    "encryption": Kind.ENCRYPTION,
    "integrity": Kind.INTEGRITY,
    "prf": Kind.PRF,
    "dh-group-pfs": Kind.GROUP,
}
_UNITS = {
    **dict.fromkeys(("ms", "msec", "milliseconds"), 0.001),
    **dict.fromkeys(("s", "sec", "secs", "second", "seconds"), 1.0),
    **dict.fromkeys(("min", "mins", "minute", "minutes", "m"), 60.0),
    **dict.fromkeys(("h", "hr", "hrs", "hour", "hours"), 3600.0),
    **dict.fromkeys(("d", "day", "days"), 86400.0),
}
_TIME = re.compile(
    rf"([0-9]+(?:\.[0-9]+)?)\s*({'|'.join(sorted(_UNITS, key=len, reverse=True))})\Z"
)
_PLAIN = re.compile(r"([0-9]{1,3}(?:[ ,.'][0-9]{3})+|[0-9]+(?:\.[0-9]+)?)\s*(bytes?|octets?|b)?\Z")
_TIMELY = ("lifetime", "time", "keepalive", "wait", "ask-after")
"""A number without a unit is of seconds in rows that are called so."""
_ASDOT = re.compile(r"([0-9]{1,5})\.([0-9]{1,5})\Z")
_WORDS = {
    "extended-sequence-numbers": {
        **dict.fromkeys(("esn", "64-bit", "64 bit", "extended"), True),
        **dict.fromkeys(("no esn", "no-esn", "non-esn", "32-bit", "32 bit"), False),
    },
}
"""What switches are called in their own rows."""
_METHODS = {
    **dict.fromkeys(("psk", "pre-shared key", "preshared key", "shared key"), "pre-shared key"),
    **dict.fromkeys(("pre-shared-key", "shared secret", "pre-shared secret"), "pre-shared key"),
    **dict.fromkeys(("certificate", "certificates", "cert", "pki"), "certificate"),
    **dict.fromkeys(("digital signature", "rsa signature", "x.509", "x509"), "certificate"),
    **dict.fromkeys(("rekey", "rekeying", "by rekeying"), "by rekeying"),
    **dict.fromkeys(("reauth", "reauthentication"), "by authenticating anew"),
    "reauthenticate": "by authenticating anew",
}
"""How ends prove who they are, and renew that, in the spellings of usual screens."""
_V4 = r"(?:[0-9]{1,3}\.){3}[0-9]{1,3}"
_V6 = r"[0-9a-fA-F]{0,4}:[0-9a-fA-F:.]*:[0-9a-fA-F]{0,4}"
_IP = re.compile(
    r"(?<![\w.:])("
    rf"{_V4}(?:\s*/\s*[0-9]{{1,2}}(?![\w.])|\s*[-\u2013]\s*{_V4}|\s*/?\s*{_V4})?"
    rf"|{_V6}(?:\s*/\s*[0-9]{{1,3}}|\s*[-\u2013]\s*{_V6})?"
    r"|any|default|0/0)(?![\w:])"
)
_RANGE = re.compile(r"\s*[-\u2013]\s*")
_AS = re.compile(r"(?:asn?|as number)[ :-]*(?=[0-9])")


class Reading(NamedTuple):
    """`value` is comparable within a `kind`."""

    kind: str
    value: object

    @property
    def telling(self) -> bool:
        """Whether it says so much that it can be recognised elsewhere."""
        if self.kind == NUMBER:
            return isinstance(self.value, float) and self.value > 9
        return self.kind in (ADDRESSES, ALGORITHM, SECONDS, TEXT)

    @property
    def sign(self) -> object:
        """The form by which a value is recognised in another field: a number is one, whatever it
        counts."""
        return self.value if self.kind in (SECONDS, NUMBER) else self


class Held(NamedTuple):
    """An address and the length beside it."""

    address: Address
    length: int


def read(name: str, text: str) -> Reading:
    """Read what was entered for the value `name`. What a tunnel is called says nothing of it."""
    group, *rest = name.split(".")
    by_row = group.startswith(("suite", "tunnels", "routing", "circuits"))
    row = rest[0 if by_row else -1] if rest else name
    plain = re.sub(r"\([^)]*\)", " ", text)
    plain = re.sub(r"\s+", " ", plain).strip().strip("\"'").rstrip(";,").strip().lower()
    if not plain:
        return Reading(BLANK, "")
    kind = next((k for row, k in KINDS.items() if f".{row}." in f"{name}."), None)
    if kind is not None and name.startswith("suite"):
        bits = re.sub(r"\(\s*([0-9]+)(?:[ -]?bits?)?\s*\)", r"-\1", text.lower())
        for spelled in dict.fromkeys((bits, plain)):
            first = re.split(r"[;,] (?=at every|out: |in: )", spelled.strip())[0]
            found = algorithm(kind, first)
            if found is not None:
                return Reading(ALGORITHM, found.name)
    if (said := _WORDS.get(row, {}).get(plain)) is not None:
        return Reading(SWITCH, said)
    if plain in _METHODS and "identity" not in row and "secret" not in row:
        return Reading(TEXT, _METHODS[plain])
    if plain in OFF and not (plain == "0" and "order" in row):
        return Reading(SWITCH, False)
    if "as-number" in row:
        plain = _AS.sub("", plain)
    if "as-number" in row and (dotted := _ASDOT.match(plain)):
        return Reading(NUMBER, float(int(dotted[1]) << 16 | int(dotted[2])))
    held = addresses(plain)
    if held:
        return Reading(ADDRESSES, frozenset(held))
    return _quantity(row, plain)


def _quantity(row: str, plain: str) -> Reading:
    timed = _TIME.match(plain)
    if timed:
        return Reading(SECONDS, round(float(timed[1]) * _UNITS[timed[2]], 6))
    several = re.fullmatch(r"(.*?)(?:, | = |/)(.*)", plain)
    if several and all(_TIME.match(part.strip()) for part in several.groups()):
        return _quantity(row, several[1].strip())
    number = _PLAIN.match(plain)
    if number:
        value = float(re.sub(r"(?<=[0-9])[ ,'](?=[0-9]{3})", "", number[1]))
        timely = any(word in row for word in _TIMELY)
        return Reading(SECONDS if timely and not number[2] else NUMBER, value)
    if plain in ON:
        return Reading(SWITCH, True)
    words = re.sub(r"[\s_-]+", " ", plain)
    return Reading(TEXT, re.sub(r"^on, ", "", words))


def addresses(text: str) -> list[Held]:
    """All addresses and prefixes in a text, in order; masks as lengths."""
    found = []
    for match in _IP.finditer(text):
        held = _one(match[1])
        if held is not None:
            found += held
    return found


def _one(text: str) -> list[Held] | None:
    if text in ("any", "default", "0/0"):
        return [Held(parse_address("0.0.0.0"), 0)]
    first, *last = _RANGE.split(text.strip())
    if last:
        return _range(first, last[0])
    address, _, rest = re.sub(r"\s*/\s*|\s+", "/", text.strip()).partition("/")
    try:
        host = parse_address(address)
        if not rest:
            return [Held(host, host.bits)]
        return [Held(host, int(rest) if rest.isdigit() else mask_length(rest))]
    except (AddressError, ValueError):
        return None


def _range(first: str, last: str) -> list[Held] | None:
    """The prefixes that a range of addresses is."""
    try:
        one, two = parse_address(first), parse_address(last)
    except AddressError:
        return None
    if one.bits != two.bits or one.value > two.value:
        return None
    return [Held(p.address_at(0), p.length) for p in range_blocks(one.bits, one.value, two.value)]


def mask_length(mask: str) -> int:
    """Prefix length of a netmask or a wildcard mask. Raises ValueError for what is neither,
    AddressError for what is not an address."""
    bits, value = parse_address(mask)
    if value >> bits - 1 == 0 and value:
        value ^= (1 << bits) - 1  # the ones of a wildcard mask are behind
    length = netmask_length(Address(bits, value))
    if length is None:
        raise ValueError(f"{mask} is not a mask")
    return length
