"""Troubles of uplinks, on purpose: packets lost, doubled, late, out of order, one way only, or on a
port that somebody blocks; and a translator that forgets its mappings.

They hold for what leaves by an uplink and for what arrives by it. Where packets wait a varying time
they overtake each other.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import NamedTuple

from obrin.core.address.prefix import parse_address
from obrin.core.design.values import parse_duration
from obrin.core.quantity import plain
from obrin.live.practice.internet.internet import Internet
from obrin.wire.errors import PacketError
from obrin.wire.packet import ESP, UDP, Packet, decode_packet

OUT, IN = "out", "in"
FORGET, LARGE, ADDRESS = "forget", "large", "address"
KINDS = ("loss", "double", "delay", "jitter", "one-way", "block", LARGE, ADDRESS, FORGET)
_SHARE = re.compile(r"(\d+(?:\.\d+)?) ?%")
_PORT = re.compile(r"udp/(\d{1,5})")
_LONGEST = 10.0
"""Seconds that a packet may be held."""


class Arrival(NamedTuple):
    """A packet for a cable, and when it gets there."""

    at: float
    cable: str
    packet: bytes


@dataclass(frozen=True, slots=True)
class Trouble:
    """Trouble of one uplink: shares from 0 to 1, seconds, the only direction that passes, and
    what is blocked: UDP ports, or `esp`."""

    loss: float = 0.0
    double: float = 0.0
    delay: float = 0.0
    jitter: float = 0.0
    passes: str = ""
    blocked: frozenset[str] = frozenset()

    def words(self) -> Iterator[str]:
        for name in ("loss", "double"):
            share = getattr(self, name)
            if share:
                yield f"{name} {plain(share * 100)} %"
        for name in ("delay", "jitter"):
            if getattr(self, name):
                yield f"{name} {plain(getattr(self, name) * 1000)} ms"
        if self.passes:
            yield f"one-way {self.passes}"
        yield from (f"block {what}" for what in sorted(self.blocked))


def with_more(trouble: Trouble, kind: str, value: str) -> Trouble:
    """The same with another trouble. Raises ValueError for a value that its kind cannot have."""
    if kind == "loss":
        return replace(trouble, loss=_share(value))
    if kind == "double":
        return replace(trouble, double=_share(value))
    if kind == "delay":
        return replace(trouble, delay=_seconds(value))
    if kind == "jitter":
        return replace(trouble, jitter=_seconds(value))
    if kind == "block":
        return replace(trouble, blocked=trouble.blocked | {_service(value)})
    if kind == "one-way":
        if value not in (OUT, IN):
            raise ValueError(f"'{value}' is not a direction; write 'out' or 'in'")
        return replace(trouble, passes=value)
    if kind != FORGET:
        raise ValueError(f"there is no trouble '{kind}'; there are: {', '.join(KINDS)}")
    if value:
        raise ValueError("'forget' has no value")
    return trouble


def narrowing(value: str) -> bool:
    """Whether the sender of a large packet gets an ICMP error. Raises ValueError."""
    if value not in ("", "silent", "icmp"):
        raise ValueError(f"'{value}' is neither 'silent' nor 'icmp'")
    return value == "icmp"


class Weather:
    """`draw` gives numbers from 0 to 1, at random."""

    def __init__(self, internet: Internet, draw: Callable[[], float]) -> None:
        self._internet, self._draw = internet, draw
        self.troubles: dict[str, Trouble] = {}

    def set(self, line: str, kind: str, value: str) -> None:
        """Raises ValueError or AddressError for a value that a kind cannot have, KeyError for no
        such uplink."""
        changed = self._internet.lines[line]
        if kind == LARGE:
            self._internet.narrow_lines[line] = narrowing(value)
            return
        if kind == ADDRESS:
            self._internet.readdress(line, parse_address(value))
            return
        trouble = with_more(self.troubles.get(line) or Trouble(), kind, value)
        if kind == FORGET:
            changed.outward.clear()
            changed.inward.clear()
        else:
            self.troubles[line] = trouble

    def words(self) -> list[str]:
        """All that is on."""
        moved = [f"address {now} at {line}" for line, now in self._internet.moved.items()]
        held = self.troubles.items()
        return [*moved, *(f"{words} at {line}" for line, t in held for words in t.words())]

    def heal(self) -> None:
        self.troubles.clear()

    def carry(self, cable: str, data: bytes, now: float) -> list[Arrival]:
        """What becomes of a packet: nothing, one arrival or two."""
        if self._stopped(cable, OUT, data):
            return []
        onward = self._internet.carry(cable, data)
        if onward is None:
            return []
        target, packet = onward
        if self._stopped(target, IN, packet):
            return []
        found = [Arrival(now + self._wait(cable, target), target, packet)]
        for name in (cable, target):
            trouble = self.troubles.get(name)
            if trouble is not None and trouble.double and self._draw() < trouble.double:
                found.append(Arrival(now + self._wait(cable, target), target, packet))
        return found

    def _stopped(self, line: str, direction: str, data: bytes) -> bool:
        trouble = self.troubles.get(line)
        if trouble is None:
            return False
        reason = ""
        if trouble.passes and trouble.passes != direction:
            reason = "only one direction passes"
        elif trouble.blocked and _is_blocked(trouble.blocked, data):
            reason = "a port is blocked"
        elif trouble.loss and self._draw() < trouble.loss:
            reason = "lost by chance"
        if reason:
            self._internet.lose(f"{reason} at {line}")
        return bool(reason)

    def _wait(self, *lines: str) -> float:
        held = [self.troubles[line] for line in lines if line in self.troubles]
        return sum(t.delay + (self._draw() * t.jitter if t.jitter else 0.0) for t in held)


def _is_blocked(blocked: frozenset[str], data: bytes) -> bool:
    try:
        packet = decode_packet(data)
    except PacketError:
        return False
    return not blocked.isdisjoint(_services(packet))


def _services(packet: Packet) -> set[str]:
    if packet.protocol == ESP:
        return {"esp"}
    return {f"udp/{port}" for port in packet.ports} if packet.protocol == UDP else set()


def _share(value: str) -> float:
    match = _SHARE.fullmatch(value)
    if match is None or float(match[1]) > 100:
        raise ValueError(f"'{value}' is not a share; write for example '5 %'")
    return float(match[1]) / 100


def _seconds(value: str) -> float:
    seconds = parse_duration(value)
    if seconds > _LONGEST:
        raise ValueError(f"'{value}' is too long; at most {plain(_LONGEST)} s")
    return seconds


def _service(value: str) -> str:
    match = _PORT.fullmatch(value)
    if value != "esp" and (match is None or not 0 < int(match[1]) < 65536):
        raise ValueError(f"'{value}' is nothing to block; write for example 'udp/4500', or 'esp'")
    return value
