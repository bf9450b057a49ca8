"""The largest packets that cross the live link, held against what the sheets say."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from obrin.core.errors import OutsideError
from obrin.core.ipsec.overhead import IPV4_HEADER, IPV6_HEADER, LEAST_IPV6_MTU, TCP_HEADER
from obrin.core.json_text import Json
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
    """`largest` is in bytes, 0 when not even a small packet is answered; `expected` is what is on
    the sheets. `beyond` says what becomes of a larger one."""

    expectation: Expected
    largest: int
    expected: int
    beyond: str = ""
    problem: str = ""

    @property
    def met(self) -> bool:
        return not self.problem and self.largest == self.expected

    def as_json(self) -> Json:
        return {
            "from": str(self.expectation.source),
            "to": str(self.expectation.destination),
            "flow": str(self.expectation.flow),
            "family": self.expectation.family.lower(),
            "largest": self.largest,
            "expected": self.expected,
            "met": self.met,
            "beyond": self.beyond,
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
            problem = "not even a small packet is answered"
            return SizeOutcome(expectation=wish, largest=0, expected=expected, problem=problem)
        if question.protocol == "tcp":
            head = IPV4_HEADER if wish.bits == 32 else IPV6_HEADER
            largest = first.mss + head + TCP_HEADER
            beyond = f"TCP agrees on an MSS of {first.mss}"
        else:
            largest, beyond = _search(ask, expected, SMALL[wish.bits])
            if wish.bits == 32 and largest < LARGE and ask(LARGE, fragmentable=True).answered:
                beyond += f"; {LARGE} cross in fragments, where that is not forbidden"
    except OutsideError as error:
        return SizeOutcome(expectation=wish, largest=0, expected=expected, problem=str(error))
    return SizeOutcome(expectation=wish, largest=largest, expected=expected, beyond=beyond)


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
