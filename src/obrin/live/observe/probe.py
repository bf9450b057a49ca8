"""Expectations tried on the live link, both kinds; what dropped a packet is asked of both ends."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from obrin.core.address.prefix import Address
from obrin.core.design.values import PROTOCOLS
from obrin.core.errors import OutsideError
from obrin.core.json_text import Json
from obrin.core.reach.trace import far_key, probe_key
from obrin.core.routing.packet import TCP, UDP
from obrin.core.settled.expected import Expected
from obrin.core.settled.model import Settled
from obrin.live.drivers.asking import side_by_side
from obrin.live.drivers.observations import Answer, Dropped, Question
from obrin.live.drivers.protocol import Ends

TIMEOUT = 3.0
TIMEOUT_NOT = 0.6


@dataclass(frozen=True, slots=True)
class Outcome:
    """`seen` is answered, refused or no answer; `dropped` names the place and reason."""

    expectation: Expected
    seen: str
    seconds: float
    dropped: str = ""
    problem: str = ""

    @property
    def met(self) -> bool:
        if self.problem:
            return False
        return (self.seen == "answered") == (self.expectation.must == "work")

    def as_json(self) -> Json:
        return {
            "from": str(self.expectation.source),
            "to": str(self.expectation.destination),
            "flow": str(self.expectation.flow),
            "family": self.expectation.family.lower(),
            "must": self.expectation.must,
            "seen": self.seen,
            "met": self.met,
            "seconds": self.seconds,
            "dropped": self.dropped,
            "problem": self.problem,
        }


def probe_all(settled: Settled, ends: Ends) -> list[Outcome]:
    """All expectations but those of the internet, side by side, in the order of the design."""
    return side_by_side(lambda wish: probe_one(settled, ends, wish), settled.own_expectations())


def question_of(settled: Settled, expectation: Expected) -> Question:
    """What the first packet of a flow asks."""
    protocol = next((n for n, p in PROTOCOLS.items() if p == expectation.flow.protocol), "icmp")
    key = probe_key(settled, expectation)
    return Question(
        source=key.source,
        destination=key.destination,
        protocol=protocol,
        port=expectation.flow.first_port,
        timeout=TIMEOUT if expectation.must == "work" else TIMEOUT_NOT,
    )


def ask_from(settled: Settled, ends: Ends, place: str, question: Question) -> Answer:
    """A question from a host at a place. Raises OutsideError."""
    if place in settled.clouds:
        return ends.clouds[place].probe(question)
    name = next(g.name for g in settled.gateways.values() if g.site == place)
    if name not in ends.gateways:
        raise OutsideError(f"{name} has no endpoint")
    return ends.gateways[name].probe(question)


def probe_one(settled: Settled, ends: Ends, expectation: Expected) -> Outcome:
    """One question from the source's side, asked as its first packet would be."""
    question, key = question_of(settled, expectation), probe_key(settled, expectation)
    try:
        answer = ask_from(settled, ends, expectation.source.place, question)
    except OutsideError as error:
        return Outcome(expectation, "not tried", 0.0, problem=str(error))
    if answer.answered:
        return Outcome(expectation, "answered", answer.seconds)
    seen = "refused" if answer.refused else "no answer"
    beyond = far_key(settled, expectation)
    pairs = {(key.source, key.destination), (beyond.source, beyond.destination)}
    why = _who_dropped(settled, ends, pairs, key.protocol, answer.source_port)
    return Outcome(expectation, seen, answer.seconds, why)


def _who_dropped(
    settled: Settled, ends: Ends, pairs: set[tuple[Address, Address]], protocol: int, port: int
) -> str:
    """The first device that says it dropped the packet or its answer."""
    ports = {port} if protocol in (TCP, UDP) else {0}
    for drop in _all_drops(settled, ends):
        if drop.protocol != protocol:
            continue
        pair = drop.source, drop.destination
        if pair in pairs and drop.source_port in ports:
            return f"{drop.place}: {drop.reason}"
        if pair[::-1] in pairs and drop.destination_port in ports:
            return f"{drop.place}: {drop.reason} (the answer)"
    return "no device says that it dropped it: lost on the way, or the host did not answer"


def _all_drops(settled: Settled, ends: Ends) -> Iterable[Dropped]:
    """The newest of each device first."""
    try:
        for gateway in ends.gateways.values():
            yield from reversed(gateway.drops())
        for cloud in {t.cloud: None for t in settled.tunnels()}:
            yield from reversed(ends.clouds[cloud].drops(cloud))
    except OutsideError:
        return
