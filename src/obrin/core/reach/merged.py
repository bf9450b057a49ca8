"""Judge together what hosts at several places saw, and name the cause of what is not as wished.

The problem. One host sees that nothing answers. That may be a filter of one direction, a prefix
that one end lacks, a size, a tunnel that slept, or a host that is not there.

The idea. Each cause leaves another pattern in what *others* saw: the same flow from the other side,
other protocols between the same two, another host of the network, the far end's address inside the
tunnel, the hops on the way. The patterns are asked one after the other, the most specific first.

The invariant. A cause is named only where something seen speaks for it; silence alone names none,
and silence alone does not prove that a flow which must not work is kept out. What is seen and
speaks against a cause is named beside it, and what would settle it.

The cost. Each flow against those that share its two places.

Proven with observations of which the cause is known, from packets of the practice world:
`tests/core/test_merged.py`, `tests/live/test_probe_here.py`.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from obrin.core.known import NotKnown, Verdict


@dataclass(frozen=True, slots=True, kw_only=True)
class Seen:
    """A flow as a host at `source` tried it: one entry of `answers` for each question, in order.
    `sizes` are whole packets that may not be cut, in bytes, and whether they were answered.
    `waited` are the seconds from the first question to the first answer, `path` the routers that
    answered on the way. `unreachable` is who says by ICMP that it is, and why; `prohibited` whether
    by that a filter forbids it. `problem` is why it could not be tried."""

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
    unreachable: str = ""
    prohibited: bool = False
    problem: str = ""

    @property
    def answered(self) -> bool:
        return any(self.answers)

    @property
    def hanging(self) -> bool:
        """Small packets are answered and larger ones are not."""
        return any(there for _, there in self.sizes) and not all(there for _, there in self.sizes)

    @property
    def slept(self) -> bool:
        """The first question was lost and all after the first answer were not."""
        return self.answered and not self.answers[0] and all(self.answers[self._first :])

    @property
    def _first(self) -> int:
        return self.answers.index(True)

    @property
    def lost(self) -> int:
        """Questions without an answer, of a flow of which others were answered."""
        return sum(not a for a in self.answers) if self.answered and not self.slept else 0

    @property
    def words(self) -> str:
        return f"{self.source} > {self.destination} {self.flow}"


@dataclass(frozen=True, slots=True)
class InsideSeen:
    """Whether the far end's address inside a tunnel answered to a host at a place."""

    place: str
    tunnel: str
    answered: bool


@dataclass(frozen=True, slots=True)
class Cause:
    """What fits, in words, with what was seen that speaks for it and against it, and what would
    settle it."""

    text: str
    speaks_for: tuple[str, ...] = ()
    against: tuple[str, ...] = ()
    settles: str = ""


@dataclass(frozen=True, slots=True)
class Judged:
    """`cause` is None where all is as wished; `note` is what is worth knowing all the same."""

    seen: Seen
    met: Verdict
    cause: Cause | None = None
    note: str = ""


def verdicts(seen: Sequence[Seen], inside: Iterable[InsideSeen]) -> list[Judged]:
    """Judge what was observed, in the order given."""
    all_inside = list(inside)
    found = []
    for one in seen:
        met = _met(one, seen)
        cause = _cause(one, seen, all_inside) if met is False else None
        found.append(Judged(one, met, cause, _note(one)))
    return found


def _met(one: Seen, seen: Sequence[Seen]) -> Verdict:
    if one.problem:
        return NotKnown(one.problem)
    if one.must != "not":
        return one.answered and not one.hanging
    if one.answered:
        return False
    if one.prohibited:
        return True
    if one.refused:
        return NotKnown(
            "it is refused: by the host itself, which it reaches, or by a filter that refuses in "
            "its name. Ask a port there on which something listens"
        )
    control = next((o for o in seen if o is not one and _same(o, one) and o.answered), None)
    if control is None:
        return NotKnown(
            f"nothing came back, and nothing shows that packets cross from {one.source} to "
            f"{one.destination} at all"
        )
    if one.flow.startswith("udp"):
        return NotKnown(
            f"nothing came back, and {control.flow} is answered; but a UDP service may be silent"
        )
    return True


def _note(one: Seen) -> str:
    if one.must != "work":
        return ""
    if one.slept:
        lost = one.answers.index(True)
        return (
            f"the first {lost} of {len(one.answers)} questions were lost: the tunnel slept, and "
            f"traffic woke it; the first answer came {one.waited:.1f} s after the first question"
        )
    if one.lost:
        return (
            f"{one.lost} of {len(one.answers)} questions were lost: packets are lost on the way. "
            "'obrin status' has the tunnel, the direction and how many"
        )
    return ""


def _cause(one: Seen, seen: Sequence[Seen], inside: Sequence[InsideSeen]) -> Cause:
    if one.must == "not":
        return Cause(
            "it answers, and nobody may: more is let in than was asked",
            (f"{sum(one.answers)} of {len(one.answers)} questions were answered",),
            settles="hold the filters at both ends against the sheets ('obrin compare')",
        )
    if one.hanging:
        most = max(size for size, there in one.sizes if there)
        least = min(size for size, there in one.sizes if not there)
        return Cause(
            f"small ones pass and large ones hang: {most} bytes are answered, {least} are not. The "
            "MTU or MSS of a tunnel is not what the sheet says, or an ICMP message is dropped",
            (f"{most} bytes are answered",),
            settles="try the sizes between ('obrin probe --sizes')",
        )
    if one.refused:
        return Cause(
            "the host itself refuses: packets get there and back, and nothing listens, or its own "
            "firewall says no",
            ("the refusal came back",),
            settles="ask the same port from a host beside it",
        )
    if one.unreachable:
        return Cause(
            f"{one.unreachable}: packets get as far as there, and no further",
            ("that message came back",),
            settles="look at its routes and filters",
        )
    return _silent(one, seen, inside)


def _silent(one: Seen, seen: Sequence[Seen], inside: Sequence[InsideSeen]) -> Cause:
    """Nothing came back. What else did decides."""
    here, there = _place(one.source), _place(one.destination)
    others = [o for o in seen if o is not one]
    same = [o for o in others if _same(o, one)]
    back = [o for o in others if (o.source, o.destination) == (one.destination, one.source)]
    between = [o for o in others if (_place(o.source), _place(o.destination)) == (here, there)]
    sources = [o for o in between if o.source == one.source]
    targets = [o for o in between if o.destination == one.destination]
    mine = [i for i in inside if i.place == here]
    reached = [o for o in others if here in (_place(o.source), _place(o.destination))]
    if _answered(same):
        return Cause(
            f"the hosts reach each other, and {one.flow} does not get there: a filter rule or the "
            "host's firewall lacks it",
            _answered(same),
            _silent_ones(same),
            f"ask {one.flow} of {one.destination} from a host beside it: answered, it is the "
            "filter; silent, the host",
        )
    if _answered(back):
        return Cause(
            f"works one way: asked from {one.destination} it is answered, asked from {one.source} "
            "not. A filter lets one direction begin only, or the host drops what comes in",
            _answered(back),
            settles=f"look at the filters that meet packets from {one.source}",
        )
    if _answered(sources):
        return Cause(
            f"other networks of {there} answer: {one.destination} alone is missing at an end, in "
            "its routes, its traffic selectors, or what it accepts",
            _answered(sources),
            _answered(targets),
            f"look for {one.destination} in the tables of both ends ('obrin routes --seen')",
        )
    if _answered(targets):
        return Cause(
            f"{one.destination} answers to other networks of {here}: the way back to {one.source} "
            "alone is missing at an end",
            _answered(targets),
            settles=f"look for {one.source} in the tables of {there}",
        )
    if one.path and one.path[-1].startswith(f"{there} at "):
        return Cause(
            f"packets cross: {one.path[-1]} answers, and its answer comes back. Beyond it a "
            "filter or a route is missing, or the host is down",
            (f"{one.path[-1]} answers",),
            settles=f"ask {one.destination} from a host beside it",
        )
    up = tuple(f"the far end inside {i.tunnel} answers" for i in mine if i.answered)
    if up:
        return Cause(
            "only the tunnel's own addresses answer: the tunnel is up, and the networks are not "
            "routed into it, at this end or back from the other" + _farthest(one),
            up,
            settles="hold the routes of both ends against the model ('obrin routes --seen')",
        )
    down = tuple(f"the far end inside {i.tunnel} does not answer" for i in mine)
    if _answered(reached):
        return Cause(
            f"nothing of {there} answers to {here}, and others do: this tunnel, or its way back"
            + _farthest(one),
            _answered(reached) + down,
            settles=f"ask from a host of {there} as well, and put both together (--merge)",
        )
    hop = (f"{one.path[-1]} answers, and nothing beyond it",) if one.path else ()
    silent = down + _silent_ones(reached) + hop
    if not silent:
        return Cause(
            "the cause is not known: nothing else was tried that this host could reach",
            settles="look at the tunnels from both ends ('obrin status'), and try more flows",
        )
    return Cause(
        f"nothing answers to {here} at all: its tunnels are down, or no route leads into them"
        + _farthest(one),
        silent,
        settles="look at the tunnels from both ends ('obrin status')",
    )


def _same(one: Seen, other: Seen) -> bool:
    return (one.source, one.destination) == (other.source, other.destination)


def _answered(found: Iterable[Seen]) -> tuple[str, ...]:
    return tuple(f"{one.words} is answered" for one in found if one.answered)


def _silent_ones(found: Iterable[Seen]) -> tuple[str, ...]:
    wanted = (one for one in found if one.must == "work" and not one.answered and not one.problem)
    return tuple(f"{one.words} is not answered" for one in wanted)


def _farthest(one: Seen) -> str:
    return f". The last that answers is {one.path[-1]}" if one.path else ""


def _place(network: str) -> str:
    return network.partition("/")[0]
