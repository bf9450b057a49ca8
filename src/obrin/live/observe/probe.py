"""Expectations tried on the live link, both kinds; what dropped a packet is asked of both ends, and
the tunnels are read before and after, so that what they lost meanwhile is counted."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import replace

from obrin.core.address.prefix import Address
from obrin.core.design.values import PROTOCOLS
from obrin.core.errors import OutsideError
from obrin.core.known import NotKnown
from obrin.core.reach.model import ReachModel
from obrin.core.reach.trace import far_key, probe_key
from obrin.core.routing.packet import TCP, UDP
from obrin.core.settled.expected import Expected
from obrin.core.settled.model import Settled
from obrin.live.drivers.asking import side_by_side
from obrin.live.drivers.observations import Answer, Dropped, Question
from obrin.live.drivers.protocol import Ends
from obrin.live.observe.must_not import judged
from obrin.live.observe.outcome import ANSWERED, NO_ANSWER, NOT_TRIED, REFUSED, Outcome
from obrin.live.observe.status import ask_once
from obrin.live.observe.tunnel import TunnelStatus

TIMEOUT = 3.0
TIMEOUT_NOT = 0.6
MOST_NAMED = 3


def probe_all(settled: Settled, ends: Ends) -> list[Outcome]:
    """Try all expectations but those of the internet, side by side, in the order of the design.
    Where one that must work is not answered, with what the tunnels between its places lost."""
    before = {status.tunnel: status for status in ask_once(settled, ends)}
    wishes = settled.own_expectations()
    found = side_by_side(lambda wish: probe_one(settled, ends, wish), wishes)
    after = ask_once(settled, ends)
    odd = {s.tunnel: words for s in after if (words := _meanwhile(before[s.tunnel], s))}
    return [
        replace(one, tunnels=_between(settled, one.expectation, odd))
        for one in judged(ReachModel(settled), found)
    ]


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
    """Ask once from the source's side, as its first packet would; what must not work is not
    judged."""
    question, key = question_of(settled, expectation), probe_key(settled, expectation)
    try:
        answer = ask_from(settled, ends, expectation.source.place, question)
    except OutsideError as error:
        return Outcome(expectation, NOT_TRIED, 0.0, problem=str(error))
    if answer.answered:
        return Outcome(expectation, ANSWERED, answer.seconds)
    seen = REFUSED if answer.refused else NO_ANSWER
    beyond = far_key(settled, expectation)
    pairs = {(key.source, key.destination), (beyond.source, beyond.destination)}
    drops, unasked = _all_drops(settled, ends)
    why = _who_dropped(drops, pairs, key.protocol, answer.source_port)
    silent = f"{', '.join(unasked)} cannot be asked what they dropped" if unasked else ""
    return Outcome(expectation, seen, answer.seconds, why, unasked=silent)


def _who_dropped(
    drops: Sequence[Dropped], pairs: set[tuple[Address, Address]], protocol: int, port: int
) -> str:
    """The first device that says it dropped the packet or its answer; empty where none does."""
    ports = {port} if protocol in (TCP, UDP) else {0}
    for drop in drops:
        if drop.protocol != protocol:
            continue
        pair = drop.source, drop.destination
        if pair in pairs and drop.source_port in ports:
            return f"{drop.place}: {drop.reason}"
        if pair[::-1] in pairs and drop.destination_port in ports:
            return f"{drop.place}: {drop.reason} (the answer)"
    return ""


def _all_drops(settled: Settled, ends: Ends) -> tuple[list[Dropped], list[str]]:
    """What each device dropped, the newest of each first, and those that cannot be asked."""
    found: list[Dropped] = []
    unasked: list[str] = []
    for name, gateway in ends.gateways.items():
        try:
            found += reversed(gateway.drops())
        except OutsideError:
            unasked.append(name)
    for cloud in {t.cloud: None for t in settled.tunnels()}:
        try:
            found += reversed(ends.clouds[cloud].drops(cloud))
        except OutsideError:
            unasked.append(cloud)
    return found, unasked


# What the tunnels did meanwhile


def _meanwhile(before: TunnelStatus, after: TunnelStatus) -> list[str]:
    """What is wrong with a tunnel now, and what it lost between two readings of both ends."""
    return [*_state(after), *_lost(before, after), *after.disagreements, *after.notes]


def _state(after: TunnelStatus) -> Iterator[str]:
    if after.as_wished is False:
        yield f"it is DOWN: {'; '.join(after.rests_on())}"


def _lost(before: TunnelStatus, after: TunnelStatus) -> Iterator[str]:
    """Packets that left one end and did not come out of the other. Counters that begin anew, with
    another IKE SA, count nothing."""
    ends = ("site", "cloud"), ("cloud", "site")
    for sender, receiver in ends:
        left = _grown(getattr(before, sender).packets_out, getattr(after, sender).packets_out)
        came = _grown(getattr(before, receiver).packets_in, getattr(after, receiver).packets_in)
        if left and came is not None and came < left - left // 50:
            yield f"of {left} packets of the {sender}, {left - came} did not come to the {receiver}"


def _grown(before: int | NotKnown, after: int | NotKnown) -> int | None:
    if isinstance(before, NotKnown) or isinstance(after, NotKnown) or after < before:
        return None
    return after - before


def _between(settled: Settled, wish: Expected, odd: dict[str, list[str]]) -> tuple[str, ...]:
    """What is odd about tunnels that a flow may take: those of its site, and all where it goes
    from cloud to cloud."""
    places = {wish.source.place, wish.destination.place}
    mine = [
        leg.label
        for leg in settled.legs()
        if leg.label in odd and _concerns(settled, leg.gateway, leg.cloud, places)
    ]
    return tuple(f"{label}: {text}" for label in mine for text in odd[label][:MOST_NAMED])


def _concerns(settled: Settled, gateway: str, cloud: str, places: Collection[str]) -> bool:
    site = settled.gateways[gateway].site
    return site in places or (cloud in places and all(place in settled.clouds for place in places))
