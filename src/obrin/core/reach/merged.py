"""Judge together what hosts at several places saw, and name the cause of what is not as wished.

The problem. One host sees that nothing answers. That may be a filter of one direction, a prefix
that one end lacks, a size, a tunnel that slept, or a host that is not there.

The idea. Each cause leaves another pattern in what *others* saw: the same flow from the other side,
other protocols between the same two, another host of the network, the far end's address inside the
tunnel, the hops on the way. The patterns are asked one after the other, the most specific first.

The invariant. A cause is named only where something seen speaks for it; silence alone names none.

The cost. Each flow against those that share its two places.

Proven with observations of which the cause is known, from packets of the practice world:
`tests/core/test_merged.py`, `tests/live/test_observed.py`.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Seen:
    """A flow as a host at `source` tried it: one entry of `answers` for each question, in order.
    `sizes` are whole packets that may not be cut, in bytes, and whether they were answered.
    `waited` are the seconds from the first question to the first answer, `path` the routers that
    answered on the way. `problem` is why it could not be tried."""

    source: str
    destination: str
    flow: str
    family: str
    must: str
    answers: tuple[bool, ...]
    refused: bool = False
    seconds: float = 0.0
    waited: float = 0.0
    path: tuple[str, ...] = ()
    sizes: tuple[tuple[int, bool], ...] = ()
    problem: str = ""

    @property
    def answered(self) -> bool:
        return any(self.answers)

    @property
    def met(self) -> bool:
        """Whether the outcome is as wished, with nothing odd about it."""
        if self.problem:
            return False
        if self.must == "not":
            return not self.answered
        return self.answered and not self.hanging

    @property
    def hanging(self) -> bool:
        """Small packets are answered and larger ones are not."""
        return any(there for _, there in self.sizes) and not all(there for _, there in self.sizes)

    @property
    def slept(self) -> bool:
        """The first question was lost and a later one was not."""
        return self.answered and not self.answers[0]


@dataclass(frozen=True, slots=True)
class InsideSeen:
    """Whether the far end's address inside a tunnel answered to a host at a place."""

    place: str
    tunnel: str
    answered: bool


@dataclass(frozen=True, slots=True)
class Verdict:
    """`cause` is empty where all is as wished; `note` is what is worth knowing all the same."""

    seen: Seen
    cause: str = ""
    note: str = ""


def verdicts(seen: Sequence[Seen], inside: Iterable[InsideSeen]) -> list[Verdict]:
    """Judge what was observed, in the order given."""
    all_inside = list(inside)
    return [
        Verdict(one, "" if one.met else _cause(one, seen, all_inside), _note(one)) for one in seen
    ]


def _note(one: Seen) -> str:
    if one.slept and one.must == "work":
        lost = one.answers.index(True)
        return (
            f"the first {lost} of {len(one.answers)} questions were lost: the tunnel slept, and "
            f"traffic woke it; the first answer came {one.waited:.1f} s after the first question"
        )
    return ""


def _cause(one: Seen, seen: Sequence[Seen], inside: Sequence[InsideSeen]) -> str:
    if one.problem:
        return one.problem
    if one.must == "not":
        return "it answers, and nobody may: more is let in than was asked"
    if one.hanging:
        most = max(size for size, there in one.sizes if there)
        least = min(size for size, there in one.sizes if not there)
        return (
            f"small ones pass and large ones hang: {most} bytes are answered, {least} are not. The "
            "MTU or MSS of a tunnel is not what the sheet says, or an ICMP message is dropped"
        )
    if one.refused:
        return (
            "the host itself refuses: packets get there and back, and nothing listens, or its own "
            "firewall says no"
        )
    return _silent(one, seen, inside)


def _silent(one: Seen, seen: Sequence[Seen], inside: Sequence[InsideSeen]) -> str:
    """Nothing came back. What else did decides."""
    here, there = one.source.partition("/")[0], one.destination.partition("/")[0]
    same = [
        o
        for o in seen
        if o is not one and (o.source, o.destination) == (one.source, one.destination)
    ]
    if any(o.answered for o in same):
        return (
            f"the hosts reach each other, and {one.flow} does not get there: a filter rule or the "
            "host's firewall lacks it"
        )
    back = [o for o in seen if (o.source, o.destination) == (one.destination, one.source)]
    if any(o.answered for o in back):
        return (
            f"works one way: asked from {one.destination} it is answered, asked from {one.source} "
            "not. A filter lets one direction begin only, or the host drops what comes in"
        )
    to_place = [o for o in seen if o is not one and _between(o, here, there)]
    if any(o.answered and o.source == one.source for o in to_place):
        return (
            f"other networks of {there} answer: {one.destination} alone is missing at an end, in "
            "its routes, its traffic selectors, or what it accepts"
        )
    if any(o.answered and o.destination == one.destination for o in to_place):
        return (
            f"{one.destination} answers to other networks of {here}: the way back to {one.source} "
            "alone is missing at an end"
        )
    if one.path and one.path[-1].startswith(f"{there} at "):
        return (
            f"packets cross: {one.path[-1]} answers, and its answer comes back. Beyond it a "
            "filter or a route is missing, or the host is down"
        )
    mine = [i for i in inside if i.place == here]
    if any(i.answered for i in mine):
        return (
            "only the tunnel's own addresses answer: the tunnel is up, and the networks are not "
            "routed into it, at this end or back from the other" + _farthest(one)
        )
    if any(o.answered and here in (_place(o.source), _place(o.destination)) for o in seen):
        return (
            f"nothing of {there} answers to {here}, and others do: this tunnel, or its way back"
            + _farthest(one)
        )
    return (
        f"nothing answers to {here} at all: its tunnels are down, or no route leads into them"
        + _farthest(one)
    )


def _farthest(one: Seen) -> str:
    return f". The last that answers is {one.path[-1]}" if one.path else ""


def _between(one: Seen, here: str, there: str) -> bool:
    return (_place(one.source), _place(one.destination)) == (here, there)


def _place(network: str) -> str:
    return network.partition("/")[0]
