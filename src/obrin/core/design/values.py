"""The small texts of a design: names, prefixes, durations, rates, flows. Units are written out."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Annotated, Any

from pydantic import BeforeValidator, PlainSerializer, StringConstraints, WithJsonSchema

from obrin.core.address.prefix import Prefix, parse_ipv4, parse_prefix

Name = Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9-]{0,62}$")]

_DURATION = re.compile(r"([0-9]+(?:\.[0-9]+)?)\s*(ms|s|min|h|d)\Z")
_SECONDS = {"ms": 0.001, "s": 1.0, "min": 60.0, "h": 3600.0, "d": 86400.0}
_RATE = re.compile(r"([0-9]+(?:\.[0-9]+)?)\s*(kbit/s|Mbit/s|Gbit/s)\Z")
_MEGABITS = {"kbit/s": 0.001, "Mbit/s": 1.0, "Gbit/s": 1000.0}
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
        raise ValueError(f"{prefix} is IPv6, which tunnels do not carry yet; give an IPv4 prefix")
    return prefix


def _ipv4(value: Any) -> str:
    if not isinstance(value, str):
        raise ValueError(f"{value!r} is not an address; write for example 192.0.2.10")
    parse_ipv4(value)
    return value


def parse_duration(value: Any) -> float:
    """`8 h` to seconds. A bare number is refused: one screen's minutes are another's seconds."""
    if isinstance(value, int | float) and not isinstance(value, bool):
        raise ValueError(f"{value} has no unit; write '{value} s' or '{value} min'")
    match = _DURATION.match(value) if isinstance(value, str) else None
    if match is None:
        raise ValueError(f"{value!r} is not a time; write for example '3600 s', '60 min' or '8 h'")
    return float(match[1]) * _SECONDS[match[2]]


def format_duration(seconds: float) -> str:
    """Seconds as text that `parse_duration` reads back."""
    return f"{seconds:g} s"


def _rate(value: Any) -> float:
    match = _RATE.match(value) if isinstance(value, str) else None
    if match is None:
        raise ValueError(f"{value!r} is not a rate; write for example '500 Mbit/s'")
    return float(match[1]) * _MEGABITS[match[2]]


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
Ipv4Text = Annotated[
    str, BeforeValidator(_ipv4), _text_schema(r"^[0-9.]+$", "IPv4 address", "192.0.2.10")
]
Seconds = Annotated[
    float,
    BeforeValidator(parse_duration),
    PlainSerializer(format_duration, return_type=str),
    _text_schema(r"^[0-9.]+ ?(ms|s|min|h|d)$", "a time with its unit", "8 h"),
]
Megabits = Annotated[
    float,
    BeforeValidator(_rate),
    PlainSerializer(lambda rate: f"{rate:g} Mbit/s", return_type=str),
    _text_schema(r"^[0-9.]+ ?(k|M|G)bit/s$", "a rate with its unit", "500 Mbit/s"),
]

PROTOCOLS = {"icmp": 1, "tcp": 6, "udp": 17}


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
