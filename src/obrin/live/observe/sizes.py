"""The largest packets that cross the live link, held against what the sheets say."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from obrin.core.errors import OutsideError
from obrin.core.ipsec.overhead import IPV4_HEADER, IPV6_HEADER, LEAST_IPV6_MTU, TCP_HEADER
from obrin.core.json_text import Json
from obrin.core.known import NotKnown, Verdict, known
from obrin.core.reach.model import ReachModel
from obrin.core.reach.paths import path_there_and_back
from obrin.core.settled.expected import Expected
from obrin.core.settled.model import Settled
from obrin.live.drivers.asking import side_by_side
from obrin.live.drivers.observations import Answer
from obrin.live.drivers.protocol import Ends
from obrin.live.observe.probe import ask_from, question_of

SMALL, LARGE = {32: 68, 128: LEAST_IPV6_MTU}, 1500
"""What every path of a family passes (RFC 791, RFC 8200), and what the hosts' own networks do."""
TIMEOUT = 0.6


@dataclass(frozen=True, slots=True, kw_only=True)
class SizeOutcome:
    """`largest` is in bytes, 0 where it is not known; `expected` is what is on the sheets. `beyond`
    says what becomes of a larger one, `lost` that packets no larger than that are lost, `problem`
    why nothing is known."""

    expectation: Expected
    largest: int
    expected: int
    beyond: str = ""
    problem: str = ""
    lost: str = ""

    @property
    def verdict(self) -> Verdict:
        """Whether the path carries just what the sheets say."""
        if self.problem:
            return NotKnown(self.problem)
        return not self.lost and self.largest == self.expected

    @property
    def met(self) -> bool:
        """Whether it does for certain."""
        return self.verdict is True

    def as_json(self) -> Json:
        return {
            "from": str(self.expectation.source),
            "to": str(self.expectation.destination),
            "flow": str(self.expectation.flow),
            "family": self.expectation.family.lower(),
            "largest": self.largest,
            "expected": self.expected,
            "met": known(self.verdict, None),
            "beyond": self.lost or self.beyond,
            "problem": self.problem,
        }


def sizes_all(settled: Settled, ends: Ends) -> list[SizeOutcome]:
    """Try every flow that must work and crosses a tunnel, side by side, in the order of the
    design."""
    model, asked = ReachModel(settled), []
    for wish in settled.own_expectations():
        if wish.must == "work":
            hosts = (wish.source, None), (wish.destination, None)
            size = path_there_and_back(model, *hosts, wish.flow).mtu
            if size:
                asked.append((wish, size))
    return side_by_side(lambda pair: _size_of(settled, ends, *pair), asked)


def _size_of(settled: Settled, ends: Ends, wish: Expected, expected: int) -> SizeOutcome:
    question = replace(question_of(settled, wish), timeout=2 * TIMEOUT)

    def ask(size: int, *, fragmentable: bool = False) -> Answer:
        what = replace(question, size=size, fragmentable=fragmentable)
        return ask_from(settled, ends, wish.source.place, what)

    try:
        first = ask(0)
        if not first.answered:
            lost = "not even a small packet is answered"
            return SizeOutcome(expectation=wish, largest=0, expected=expected, lost=lost)
        if question.protocol == "tcp":
            return _of_segments(wish, expected, ask(LARGE))
        largest, beyond = _search(ask, expected, SMALL[wish.bits])
        if wish.bits == 32 and largest < LARGE and ask(LARGE, fragmentable=True).answered:
            beyond += f"; {LARGE} cross in fragments, where that is not forbidden"
    except OutsideError as error:
        return SizeOutcome(expectation=wish, largest=0, expected=expected, problem=str(error))
    return SizeOutcome(expectation=wish, largest=largest, expected=expected, beyond=beyond)


def _of_segments(wish: Expected, expected: int, answer: Answer) -> SizeOutcome:
    """What TCP carries: the size that its ends agree on, if segments of it cross both ways."""
    head = IPV4_HEADER if wish.bits == 32 else IPV6_HEADER
    crossing = {"there": answer.sent_whole, "back": answer.received_whole}
    lost = [way for way, crossed in crossing.items() if crossed is False]
    agreed = f"TCP agrees on an MSS of {answer.mss}"
    found = SizeOutcome(expectation=wish, largest=0, expected=expected)
    if not answer.answered:
        return replace(found, problem="it was answered once, and not again")
    if lost:
        does = f"segments of that size are lost on the way {' and '.join(lost)}"
        return replace(found, lost=f"{agreed}, and {does}")
    if None in crossing.values():
        why = f"{agreed}; whether segments of that size cross is not reported"
        return replace(found, problem=why)
    largest = answer.mss + head + TCP_HEADER
    return replace(found, largest=largest, beyond=f"{agreed}, and such segments cross both ways")


def _search(ask: Callable[[int], Answer], expected: int, small: int) -> tuple[int, str]:
    """The largest size that is answered, and what the next one meets; the expected one first, as
    it is most often right."""
    passes, fails = small, LARGE + 1
    beyond = "nothing larger was tried"
    following = [expected, expected + 1]
    while passes + 1 < fails:
        size = following.pop(0) if following else (passes + fails) // 2
        if not passes < size < fails:
            continue
        answer = ask(size)
        if answer.answered:
            passes = size
            continue
        fails = size
        beyond = (
            f"the answer was that {answer.too_big} would pass"
            if answer.too_big
            else "lost in silence"
        )
    return passes, beyond
