"""What the tests of drivers have in common."""

from __future__ import annotations

import sys
import threading
from collections.abc import Callable, Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

from obrin.core.address.prefix import Address
from obrin.core.errors import OutsideError
from obrin.core.known import NotKnown
from obrin.live.drivers.observations import (
    BGP_STATES,
    CHILD_STATES,
    IKE_STATES,
    EndStatus,
    Question,
)
from obrin.live.drivers.protocol import CloudStep, Progress

T = TypeVar("T")
NOWHERE = Question(
    source=Address(32, 1), destination=Address(32, 2), protocol="icmp", port=0, timeout=0.2
)
MANY = 8
"""Threads that do the same at once."""


def ignore(_progress: Progress) -> None:
    """A report that nobody reads."""


class Reports:
    """Keeps what a driver reports."""

    def __init__(self) -> None:
        self.given: list[Progress] = []

    def __call__(self, progress: Progress) -> None:
        self.given.append(progress)


def in_order(steps: Iterable[CloudStep]) -> list[CloudStep]:
    """The steps, each after those that it needs. Fails where that cannot be."""
    left, done = list(steps), dict[str, CloudStep]()
    while left:
        ready = [step for step in left if step.needs <= done.keys()]
        assert ready, f"these wait for each other: {[step.name for step in left]}"
        done |= {step.name: step for step in ready}
        left = [step for step in left if step.name not in done]
    return list(done.values())


def raises(do: Callable[[], object]) -> OutsideError | None:
    """The OutsideError that it raises, None where it raises none."""
    try:
        do()
    except OutsideError as error:
        return error
    return None


def said(ask: Callable[[], object]) -> str:
    """What it answers, or the error with which it says that it does not report that."""
    try:
        return repr(ask())
    except OutsideError as error:
        return str(error)


def is_listed(ask: Callable[[], object]) -> bool:
    """Whether it answers with a list, or says with an OutsideError that it does not report that."""
    try:
        return isinstance(ask(), list)
    except OutsideError as error:
        return bool(str(error).strip())


def at_once(do: Callable[[], T]) -> list[T]:
    """What it gives to MANY threads that begin together; they are switched as often as can be."""
    gate, usual = threading.Barrier(MANY), sys.getswitchinterval()

    def one(_number: int) -> T:
        gate.wait(10)
        return do()

    sys.setswitchinterval(1e-6)
    try:
        with ThreadPoolExecutor(MANY) as pool:
            return list(pool.map(one, range(MANY)))
    finally:
        sys.setswitchinterval(usual)


def need_none_up(ends: Mapping[str, EndStatus]) -> None:
    """No end may say that it carries, that its IKE SA or its BGP session is established."""
    for label, end in ends.items():
        assert end.child != "up", f"{label} is up, and nothing can be"
        assert end.ike != "established", f"{label} has an IKE SA, and nothing can have"
        assert end.bgp != "established", f"{label} has a BGP session, and nothing can have"


def need_known_words(ends: Mapping[str, EndStatus]) -> None:
    """Every value is of its kind, in the words of `observations`."""
    for label, end in ends.items():
        for name, words in (("ike", IKE_STATES), ("child", CHILD_STATES), ("bgp", BGP_STATES)):
            value = getattr(end, name)
            assert isinstance(value, NotKnown) or value in words, (
                f"{label}: {name} is {value!r}; the words are {', '.join(words)}"
            )
        for name in ("packets_in", "packets_out"):
            count = getattr(end, name)
            assert isinstance(count, NotKnown) or count >= 0, f"{label}: {name} is {count!r}"
        assert all(why.strip() for why in end.not_known.values()), f"{label} does not say why"
