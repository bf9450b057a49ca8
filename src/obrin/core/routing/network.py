"""Routers, what they advertise to each other and over what: everything that the stable state
follows from.

Prefixes that are announced on the same sessions and let in by the same lists are treated alike
everywhere. They are one class, and whatever is found out for one of them holds for all.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from obrin.core.address.prefix import Prefix
from obrin.core.address.table import PrefixTable
from obrin.core.routing.circles import Circles
from obrin.core.routing.forwarding import Route
from obrin.core.routing.policy import PrefixList
from obrin.core.routing.session import Session


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class PrefixClass:
    """Prefixes treated alike. `announced` are the numbers of the lists of announcements that hold
    them, `lists` those of the lists of what is accepted that let them in, `summaries` what some
    session advertises instead of them."""

    number: int
    bits: int
    announced: frozenset[int]
    lists: frozenset[int]
    summaries: frozenset[Prefix]
    prefixes: list[Prefix] = field(default_factory=list)


class Network:
    """Sessions made ready to be asked. `fixed` are the routes of each router that nobody
    advertises to it: connected ones, and host routes to peers; `shared` the ways at each router
    that carry equal routes together."""

    def __init__(
        self,
        sessions: Iterable[Session],
        fixed: Mapping[str, Collection[Route]],
        shared: Mapping[str, frozenset[str]] | None = None,
    ) -> None:
        self.sessions = tuple(sessions)
        self.shared = shared or {}
        self.into: dict[str, list[Session]] = {}
        self._numbers: dict[PrefixList, int] = {}
        self._tellers: dict[tuple[int, str], list[Session]] = {}
        self._owned: dict[str, set[int]] = {}
        self._inside: dict[Prefix, list[PrefixClass]] = {}
        self._in_list: dict[int, list[PrefixClass]] = {}
        for session in self.sessions:
            self.into.setdefault(session.receiver, []).append(session)
            if session.announces:
                number = self._number(session.announces)
                self._tellers.setdefault((number, session.receiver), []).append(session)
                if not session.static:
                    self._owned.setdefault(session.sender, set()).add(number)
        senders = (session.sender for session in self.sessions)
        self.routers = list(dict.fromkeys([*fixed, *self.into, *senders]))
        self.passing = {
            r: [s for s in found if s.export.passes_on and not s.static]
            for r, found in self.into.items()
        }
        self.fixed: dict[str, dict[Prefix, list[Route]]] = {}
        for router, routes in fixed.items():
            here = self.fixed[router] = {}
            for route in routes:
                here.setdefault(route.prefix, []).append(route)
        self.classes: list[PrefixClass] = []
        self.known: PrefixTable[PrefixClass | None] = PrefixTable()
        self._classify()
        self.circles = Circles(self.sessions, self.routers, self.passing)

        self.passers = {s.sender for found in self.passing.values() for s in found}
        self.upstream = {
            r: tuple(dict.fromkeys(s.sender for s in found)) for r, found in self.passing.items()
        }
        self.summed = {
            r: frozenset(summary for s in found for summary in s.export.summaries)
            for r, found in self.into.items()
        }
        self.ways = {r: frozenset(s.via for s in found) for r, found in self.into.items()}
        self.asn_of = {s.receiver: s.accept.local_as for s in self.sessions}
        self.delicate = {s.receiver for s in self.sessions if s.delicate}
        self.advertised_to = _numbers_at(self._tellers)
        self.receivers: dict[int, list[str]] = {}
        """The routers that learn the prefixes of a list from their owners."""
        for number, router in self._tellers:
            self.receivers.setdefault(number, []).append(router)
        self.lets_in = {
            r: frozenset(
                self._numbers[s.accept.accept] for s in found if s.accept.accept is not None
            )
            for r, found in self.into.items()
        }

    def _number(self, listed: PrefixList) -> int:
        """Equal lists have the same number."""
        return self._numbers.setdefault(listed, len(self._numbers))

    def tellers(self, kind: PrefixClass, receiver: str) -> Iterator[Session]:
        """The sessions on which a router learns these prefixes from their owners."""
        for number in kind.announced:
            yield from self._tellers.get((number, receiver), ())

    def near(self, router: str) -> Iterable[Prefix]:
        """All prefixes that a router can have or hear something of, and for one that hears what
        others pass on, simply all."""
        if self.passing.get(router):
            return [prefix for prefix, _ in self.known.items()]
        found = dict.fromkeys(self.fixed.get(router, ()))
        for number in self.advertised_to.get(router, ()):
            for kind in self.classes_in(number):
                found |= dict.fromkeys(kind.prefixes)
        return found

    def owns(self, router: str, kind: PrefixClass) -> bool:
        """Whether a router announces these prefixes as its own."""
        numbers = self._owned.get(router)
        return numbers is not None and not kind.announced.isdisjoint(numbers)

    def owned_by(self, router: str) -> set[int]:
        """The numbers of the lists that a router announces as its own."""
        return self._owned.get(router, set())

    def classes_in(self, number: int) -> Sequence[PrefixClass]:
        """The classes in a list of announcements."""
        return self._in_list.get(number, ())

    def _classify(self) -> None:
        announced: dict[Prefix, list[int]] = {}
        for listed, number in list(self._numbers.items()):
            for prefix in listed:
                announced.setdefault(prefix, []).append(number)
        accepting: PrefixTable[list[int]] = PrefixTable()
        for listed in {s.accept.accept: None for s in self.sessions if s.accept.accept is not None}:
            number = self._number(listed)
            for prefix in listed:
                have = accepting.get(prefix)
                if have is None:
                    accepting[prefix] = [number]
                else:
                    have.append(number)
        summaries: PrefixTable[Prefix] = PrefixTable()
        for session in self.sessions:
            for summary in session.export.summaries:
                summaries[summary] = summary
        made: dict[tuple[object, ...], PrefixClass] = {}
        for routes in self.fixed.values():
            for prefix in routes:
                self.known[prefix] = None
        for prefix, numbers in announced.items():
            lists = frozenset(
                number
                for cover, found in accepting.matches(prefix.address_at(0))
                if cover.length <= prefix.length
                for number in found
            )
            inside = frozenset(
                cover
                for cover, _ in summaries.matches(prefix.address_at(0))
                if cover.length <= prefix.length
            )
            own = frozenset(numbers)
            key = (prefix.bits, own, lists, inside, prefix in inside)
            entry = made.get(key)
            if entry is None:
                entry = made[key] = PrefixClass(
                    number=len(made), bits=prefix.bits, announced=own, lists=lists, summaries=inside
                )
                self.classes.append(entry)
                for number in own:
                    self._in_list.setdefault(number, []).append(entry)
            entry.prefixes.append(prefix)
            self.known[prefix] = entry

    def inside(self, summary: Prefix) -> list[PrefixClass]:
        """The classes whose prefixes lie inside a summary, but for its own."""
        if summary not in self._inside:
            self._inside[summary] = [
                c
                for c in self.classes
                if summary.covers(c.prefixes[0]) and c.prefixes[0] != summary
            ]
        return self._inside[summary]


def _numbers_at(tellers: Iterable[tuple[int, str]]) -> dict[str, frozenset[int]]:
    found: dict[str, set[int]] = {}
    for number, router in tellers:
        found.setdefault(router, set()).add(number)
    return {router: frozenset(numbers) for router, numbers in found.items()}
