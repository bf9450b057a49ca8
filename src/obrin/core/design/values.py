"""The small texts of a design: names, prefixes, durations, rates, flows. Units are written out."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Annotated, Any, Literal

from pydantic import (
    AfterValidator,
    BeforeValidator,
    PlainSerializer,
    PlainValidator,
    StringConstraints,
    WithJsonSchema,
)

from obrin.core.address.prefix import Prefix, parse_address, parse_ipv4, parse_prefix
from obrin.core.quantity import exact, plain

Name = Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9-]{0,62}$")]

LONGEST = 36525 * 86400.0
"""Seconds in a hundred years; nothing that Obrin plans lasts longer."""
_DURATION = re.compile(r"([0-9]{1,12}(?:\.[0-9]{1,9})?)\s*(ms|s|min|h|d)\Z")
_SECONDS = {
    "d": Decimal(86400),
    "h": Decimal(3600),
    "min": Decimal(60),
    "s": Decimal(1),
    "ms": Decimal("0.001"),
}
_LEAST_SHOWN = {"d": Decimal(172800), "h": Decimal(3600), "min": Decimal(120), "s": Decimal(1)}
"""Seconds from which on a person would choose each unit."""
_RATE = re.compile(r"([0-9]{1,12}(?:\.[0-9]{1,9})?)\s*(kbit/s|Mbit/s|Gbit/s)\Z")
_MEGABITS = {"Mbit/s": Decimal(1), "Gbit/s": Decimal(1000), "kbit/s": Decimal("0.001")}
_GROWTH = re.compile(r"([0-9]{1,6}(?:\.[0-9]{1,9})?)\s*(%|doublings?)\Z")
_AS_RANGE = re.compile(r"([0-9]{1,10})(?:-([0-9]{1,10}))?\Z")
_FLOW = re.compile(r"(tcp|udp)/([0-9]{1,5})(?:-([0-9]{1,5}))?\Z")


def _prefix(value: Any) -> Prefix:
    if isinstance(value, Prefix):
        return value
    if not isinstance(value, str):
        raise ValueError(f"{value!r} is not a prefix; write for example 10.20.0.0/22")
    return parse_prefix(value)


def _ipv4_prefix(value: Any) -> Prefix:
    prefix = _prefix(value)
    if prefix.bits != 32:
        raise ValueError(
            f"{prefix} is IPv6; give an IPv4 prefix here and the IPv6 one in the key ending in 6"
        )
    return prefix


def _ipv6_prefix(value: Any) -> Prefix:
    prefix = _prefix(value)
    if prefix.bits != 128:
        raise ValueError(f"{prefix} is IPv4; give an IPv6 prefix here, such as 2001:db8:20::/48")
    return prefix


def parse_prefix_text(value: Any) -> Prefix:
    """A prefix of either family where a mapping has it for a key. Raises ValueError."""
    return _prefix(value)


def _either_prefixes(value: Any) -> tuple[Prefix, ...]:
    listed = value if isinstance(value, list | tuple) else [value]
    found = tuple(map(_prefix, listed))
    if not found:
        raise ValueError("the list of prefixes is empty; give at least one")
    return found


def _prefixes(value: Any) -> tuple[Prefix, ...]:
    found = _either_prefixes(value)
    if len({prefix.bits for prefix in found}) > 1:
        raise ValueError("IPv4 and IPv6 are mixed; make one entry for each family")
    return found


def _prefixes_ipv4(value: Any) -> tuple[Prefix, ...]:
    return tuple(map(_ipv4_prefix, _prefixes(value)))


def _prefixes_ipv6(value: Any) -> tuple[Prefix, ...]:
    return tuple(map(_ipv6_prefix, _prefixes(value)))


def parse_growth(value: Any) -> float:
    """`50 %` or `2 doublings` to a factor, 1.5 or 4. Raises ValueError."""
    match = _GROWTH.match(value) if isinstance(value, str) else None
    if match is None:
        raise ValueError(f"{value!r} is not a growth; write for example '50 %' or '1 doubling'")
    number = float(match[1])
    if number > (10_000 if match[2] == "%" else 16):
        raise ValueError(f"{value!r} is more than anybody needs; at most 10000 % or 16 doublings")
    return float(1 + number / 100 if match[2] == "%" else 2.0**number)


def format_growth(factor: float) -> str:
    """A factor as text that `parse_growth` reads back."""
    return f"{plain((factor - 1) * 100)} %"


def _as_range(value: Any) -> range:
    match = _AS_RANGE.match(str(value)) if not isinstance(value, bool) else None
    if match is None:
        raise ValueError(f"{value!r} is not a range of AS numbers; write for example 64512-64999")
    first, last = int(match[1]), int(match[2] or match[1])
    if not 1 <= first <= last <= 4294967294:
        raise ValueError(
            f"{value!r} does not rise, or leaves 1 to 4294967294; write for example 64512-64999"
        )
    return range(first, last + 1)


def _ipv4(value: Any) -> str:
    if not isinstance(value, str):
        raise ValueError(f"{value!r} is not an address; write for example 192.0.2.10")
    parse_ipv4(value)
    return value


def _ipv6(value: Any) -> str:
    if not isinstance(value, str) or parse_address(value).bits != 128:
        raise ValueError(f"{value!r} is not an IPv6 address; write for example 2001:db8::10")
    return value


def _address(value: Any) -> str:
    if not isinstance(value, str):
        raise ValueError(f"{value!r} is not an address; write for example 192.0.2.10")
    parse_address(value)
    return value


def parse_duration(value: Any) -> float:
    """`8 h` to seconds. A bare number is refused: one screen's minutes are another's seconds."""
    if isinstance(value, int | float) and not isinstance(value, bool):
        raise ValueError(f"{value} has no unit; write '{value} s' or '{value} min'")
    match = _DURATION.match(value) if isinstance(value, str) else None
    if match is None:
        raise ValueError(f"{value!r} is not a time; write for example '3600 s', '60 min' or '8 h'")
    seconds = float(Decimal(match[1]) * _SECONDS[match[2]])
    if seconds > LONGEST:
        raise ValueError(f"{value!r} is more than a hundred years")
    if abs(seconds * 1000 - round(seconds * 1000)) > 1e-6:
        raise ValueError(f"{value!r} is finer than a millisecond; no device takes it so")
    return seconds


def _whole(seconds: float) -> float:
    """Standard data and devices count lifetimes in whole seconds."""
    if seconds != int(seconds):
        raise ValueError(
            f"{plain(seconds)} s is not a whole number of seconds; write '{seconds:.0f} s'"
        )
    return seconds


def parse_day(value: Any) -> date:
    """`2026-12-31` to a day. Raises ValueError."""
    if isinstance(value, date):
        return value
    try:
        return date.fromisoformat(value if isinstance(value, str) else "")
    except ValueError:
        raise ValueError(f"{value!r} is not a day; write for example '2026-12-31'") from None


def format_duration(seconds: float) -> str:
    """Seconds as text that `parse_duration` reads back, in the largest unit of which it is a whole
    number and that a person would choose for it."""
    value = Decimal(exact(seconds))
    for unit, least in _LEAST_SHOWN.items():
        if value >= least and value % _SECONDS[unit] == 0:
            return f"{exact(float(value / _SECONDS[unit]))} {unit}"
    return f"{exact(seconds)} s"


def _rate(value: Any) -> float:
    match = _RATE.match(value) if isinstance(value, str) else None
    if match is None:
        raise ValueError(f"{value!r} is not a rate; write for example '500 Mbit/s'")
    return float(Decimal(match[1]) * _MEGABITS[match[2]])


def format_rate(megabits: float) -> str:
    """Mbit/s as text that a design reads back; in another unit where that takes fewer digits than
    can be read."""
    for unit, factor in _MEGABITS.items():
        text = f"{Decimal(exact(megabits)) / factor:f} {unit}"
        match = _RATE.match(text)
        if match is not None and float(Decimal(match[1]) * factor) == megabits:
            return text
    return f"{exact(megabits)} Mbit/s"


def _text_schema(pattern: str, description: str, example: str) -> WithJsonSchema:
    return WithJsonSchema(
        {"type": "string", "pattern": pattern, "description": description, "examples": [example]}
    )


_TEXT = PlainSerializer(str, return_type=str)
Ipv4PrefixText = Annotated[
    Prefix,
    BeforeValidator(_ipv4_prefix),
    _TEXT,
    _text_schema(r"^[0-9.]+/[0-9]+$", "IPv4 prefix", "10.20.0.0/22"),
]
Ipv6PrefixText = Annotated[
    Prefix,
    BeforeValidator(_ipv6_prefix),
    _TEXT,
    _text_schema(r"^[0-9a-fA-F:.]+/[0-9]+$", "IPv6 prefix", "2001:db8:20::/48"),
]
PrefixText = Annotated[
    Prefix,
    BeforeValidator(_prefix),
    _TEXT,
    _text_schema(r"^[0-9a-fA-F:.]+/[0-9]+$", "IPv4 or IPv6 prefix", "10.20.0.0/22"),
]


def _several(pattern: str, example: str) -> WithJsonSchema:
    one = {"type": "string", "pattern": pattern, "examples": [example]}
    return WithJsonSchema({"anyOf": [one, {"type": "array", "items": one, "minItems": 1}]})


_TEXTS = PlainSerializer(lambda found: [str(p) for p in found], return_type=list[str])
PrefixesText = Annotated[
    tuple[Prefix, ...],
    BeforeValidator(_prefixes),
    _TEXTS,
    _several(r"^[0-9a-fA-F:.]+/[0-9]+$", "10.64.0.0/12"),
]
EitherPrefixesText = Annotated[
    tuple[Prefix, ...],
    BeforeValidator(_either_prefixes),
    _TEXTS,
    _several(r"^[0-9a-fA-F:.]+/[0-9]+$", "10.20.0.0/21"),
]
"""Prefixes of both families, side by side."""
Ipv4PrefixesText = Annotated[
    tuple[Prefix, ...],
    BeforeValidator(_prefixes_ipv4),
    _TEXTS,
    _several(r"^[0-9.]+/[0-9]+$", "10.20.0.0/21"),
]
Ipv6PrefixesText = Annotated[
    tuple[Prefix, ...],
    BeforeValidator(_prefixes_ipv6),
    _TEXTS,
    _several(r"^[0-9a-fA-F:.]+/[0-9]+$", "2001:db8:20::/60"),
]
AUTO: Literal["auto"] = "auto"


def _summaries(value: Any) -> tuple[Prefix, ...] | Literal["auto"]:
    if value == AUTO:
        return AUTO
    if isinstance(value, str) and "/" not in value:
        raise ValueError(f"{value!r} is not a prefix; write for example '10.20.0.0/21', or 'auto'")
    return _either_prefixes(value)


SummariesText = Annotated[
    tuple[Prefix, ...] | Literal["auto"],
    PlainValidator(_summaries),
    PlainSerializer(lambda found: found if found == AUTO else [str(p) for p in found]),
    _several(r"^([0-9a-fA-F:.]+/[0-9]+|auto)$", "10.20.0.0/21"),
]
"""Prefixes of both families, or AUTO."""


def written_out(found: tuple[Prefix, ...] | Literal["auto"]) -> tuple[Prefix, ...]:
    """Summaries that the design gives; none where they are left to Obrin."""
    return () if found == AUTO else found


Growth = Annotated[
    float,
    BeforeValidator(parse_growth),
    PlainSerializer(format_growth, return_type=str),
    _text_schema(r"^[0-9.]+ ?(%|doublings?)$", "growth, in percent or doublings", "50 %"),
]
AsRange = Annotated[
    range,
    BeforeValidator(_as_range),
    PlainSerializer(lambda r: f"{r.start}-{r.stop - 1}", return_type=str),
    WithJsonSchema(
        {
            "anyOf": [
                {"type": "string", "pattern": r"^[0-9]+(-[0-9]+)?$", "examples": ["64512-64999"]},
                {"type": "integer"},
            ]
        }
    ),
]
AddressText = Annotated[
    str,
    BeforeValidator(_address),
    _text_schema(r"^[0-9a-fA-F:.]+$", "IPv4 or IPv6 address", "192.0.2.10"),
]
Ipv6Text = Annotated[
    str, BeforeValidator(_ipv6), _text_schema(r"^[0-9a-fA-F:.]+$", "IPv6 address", "2001:db8::10")
]
Ipv4Text = Annotated[
    str, BeforeValidator(_ipv4), _text_schema(r"^[0-9.]+$", "IPv4 address", "192.0.2.10")
]
Seconds = Annotated[
    float,
    BeforeValidator(parse_duration),
    PlainSerializer(format_duration, return_type=str),
    _text_schema(r"^[0-9.]+ ?(ms|s|min|h|d)$", "a time with its unit", "8 h"),
]
WholeSeconds = Annotated[
    float,
    BeforeValidator(parse_duration),
    AfterValidator(_whole),
    PlainSerializer(format_duration, return_type=str),
    _text_schema(r"^[0-9.]+ ?(ms|s|min|h|d)$", "a time with its unit, in whole seconds", "8 h"),
]
Day = Annotated[
    date,
    BeforeValidator(parse_day),
    PlainSerializer(lambda day: day.isoformat(), return_type=str),
    _text_schema(r"^[0-9]{4}-[0-9]{2}-[0-9]{2}$", "a day", "2026-12-31"),
]
Megabits = Annotated[
    float,
    BeforeValidator(_rate),
    PlainSerializer(format_rate, return_type=str),
    _text_schema(r"^[0-9.]+ ?(k|M|G)bit/s$", "a rate with its unit", "500 Mbit/s"),
]

PROTOCOLS = {"icmp": 1, "tcp": 6, "udp": 17}
_ICMPS = (1, 58)
"""ICMP, and ICMPv6 (RFC 4443): one thing in a design."""


@dataclass(frozen=True, slots=True)
class Flow:
    """A protocol (None is any) and destination ports, inclusive."""

    protocol: int | None
    first_port: int = 0
    last_port: int = 65535

    def __str__(self) -> str:
        if self.protocol is None:
            return "any"
        name = next(n for n, number in PROTOCOLS.items() if number == self.protocol)
        if name == "icmp":
            return name
        if (self.first_port, self.last_port) == (0, 65535):
            return f"{name}/0-65535"
        span = "" if self.first_port == self.last_port else f"-{self.last_port}"
        return f"{name}/{self.first_port}{span}"

    def lets(self, protocol: int, port: int) -> bool:
        """Whether a first packet to a port belongs to it; ports count for TCP and UDP only."""
        if self.protocol is None:
            return True
        if protocol in _ICMPS:
            return self.protocol in _ICMPS
        return self.protocol == protocol and self.first_port <= port <= self.last_port

    def overlaps(self, other: Flow) -> bool:
        """Whether some packet belongs to both."""
        if self.protocol is None or other.protocol is None:
            return True
        ports = max(self.first_port, other.first_port) <= min(self.last_port, other.last_port)
        return self.protocol == other.protocol and ports


def parse_flow(value: Any) -> Flow:
    """`tcp/443`, `udp/5000-5010`, `icmp` or `any`. Raises ValueError."""
    if isinstance(value, Flow):
        return value
    if value == "any":
        return Flow(None)
    if value == "icmp":
        return Flow(PROTOCOLS["icmp"])
    match = _FLOW.match(value) if isinstance(value, str) else None
    if match is None:
        raise ValueError(
            f"{value!r} is not a flow; write for example 'tcp/443', 'udp/5000-5010', 'icmp', 'any'"
        )
    first, last = int(match[2]), int(match[3] or match[2])
    if not first <= last <= 65535:
        raise ValueError(f"{value!r} has ports that do not rise or exceed 65535")
    return Flow(PROTOCOLS[match[1]], first, last)


FlowText = Annotated[
    Flow,
    BeforeValidator(parse_flow),
    _TEXT,
    _text_schema(
        r"^(any|icmp|(tcp|udp)/[0-9]+(-[0-9]+)?)$", "protocol and destination ports", "tcp/443"
    ),
]
