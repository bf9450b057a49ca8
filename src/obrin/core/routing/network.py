"""Routers, what they tell each other and over what: everything that the stable state follows from.

A session is one direction: what `sender` tells `receiver`. Packets go the other way round. A static
link is told in the same shape: its prefixes are known at the receiver because somebody wrote them
down there.

Prefixes that are announced on the same sessions and let in by the same lists are treated alike
everywhere. They are one class, and whatever is found out for one of them holds for all.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from obrin.core.address.dual import Dual
from obrin.core.address.prefix import Address, Prefix
from obrin.core.address.table import PrefixTable
from obrin.core.routing.forwarding import Route
from obrin.core.routing.path import Peer
from obrin.core.routing.policy import PrefixList, SessionPolicy

NOTHING = PrefixList(())


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class Session:
    """What `sender` tells `receiver`, over what they call `via`: a tunnel, a circuit, a hub's
    attachment, the neighbour on the same LAN.

    `peer` is the sender as the receiver knows it; `next_hop` are the sender's addresses on the way.
    `announces` are the sender's own
    prefixes. With a `metric` the session is none: those prefixes are static routes at the receiver.
    `far_peers` are the addresses of both ends where they are not on the way itself: each end needs
    a route to the other's before they can speak (receiver's first). `distance` is how far the way
    comes after the first one of its session, where that has several.
    """

    via: str
    sender: str
    receiver: str
    export: SessionPolicy
    accept: SessionPolicy
    peer: Peer
    next_hop: Dual[int]
    announces: PrefixList = NOTHING
    metric: int | None = None
    far_peers: tuple[Address, Address] | None = None
    distance: int = 0

    @property
    def static(self) -> bool:
        return self.metric is not None

    @property
    def delicate(self) -> bool:
        """Whether losing even what was not chosen may matter: with discriminators, summaries, peers
        and next hops beyond the way."""
        return (
            self.export.med is not None
            or bool(self.export.summaries)
            or self.far_peers is not None
            or (self.accept.internal and not self.static and not self.export.next_hop_self)
        )


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class PrefixClass:
    """Prefixes treated alike. `announced` are the numbers of the lists of announcements that hold
    them, `lists` those of the lists of what is accepted that let them in, `summaries` what some
    session tells instead of them."""

    number: int
    bits: int
    announced: frozenset[int]
    lists: frozenset[int]
    summaries: frozenset[Prefix]
    prefixes: list[Prefix] = field(default_factory=list)


class Network:
    """Sessions made ready to be asked. `fixed` are the routes of each router that nobody tells it:
    connected ones, and host routes to peers; `shared` the ways at each router that carry equal
    routes together."""

    def __init__(
        self,
        sessions: Iterable[Session],
        fixed: Mapping[str, Collection[Route]],
        shared: Mapping[str, frozenset[str]] | None = None,
    ) -> None:
        self.sessions = tuple(sessions)
        self.shared = shared or {}
        self.into: dict[str, list[Session]] = {}
        self.out: dict[str, list[Session]] = {}
        self._numbers: dict[PrefixList, int] = {}
        self._tellers: dict[tuple[int, str], list[Session]] = {}
        self._owned: dict[str, set[int]] = {}
        self._inside: dict[Prefix, list[PrefixClass]] = {}
        self._in_list: dict[int, list[PrefixClass]] = {}
        for session in self.sessions:
            self.into.setdefault(session.receiver, []).append(session)
            self.out.setdefault(session.sender, []).append(session)
            if session.announces:
                number = self._number(session.announces)
                self._tellers.setdefault((number, session.receiver), []).append(session)
                if not session.static:
                    self._owned.setdefault(session.sender, set()).add(number)
        self.routers = list(dict.fromkeys([*fixed, *self.into, *self.out]))
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
        self.component_of, self.components = _components(self.routers, self.passing)

        self.passers = {s.sender for found in self.passing.values() for s in found}
        self.upstream = {
            r: tuple(dict.fromkeys(s.sender for s in found)) for r, found in self.passing.items()
        }
        circle = self.component_of
        self.inner = {
            r: [s for s in found if circle[s.receiver] == circle[r]]
            for r, found in self.out.items()
        }
        """What routers tell others of their circle."""
        self.entries = {
            r for r, above in self.upstream.items() if any(circle[s] != circle[r] for s in above)
        }
        """Those that hear what others than those of their circle pass on."""
        told = [(circle[s.receiver], s) for s in self.sessions if not s.static]
        first = {number: s.accept.local_pref for number, s in told}
        self.even = first.keys() - {
            number
            for number, s in told
            if s.accept.local_pref != first[number] or s.export.med is not None
        }
        """Circles in which nobody prefers one way to another, and no discriminator is told."""
        self.summed = {
            r: frozenset(summary for s in found for summary in s.export.summaries)
            for r, found in self.into.items()
        }
        self.ways = {r: frozenset(s.via for s in found) for r, found in self.into.items()}
        self.asn_of = {s.receiver: s.accept.local_as for s in self.sessions}
        self.delicate = {s.receiver for s in self.sessions if s.delicate}
        self.told_to = _numbers_at(self._tellers)
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
        """The sessions on which a router is told these prefixes by those whose own they are."""
        for number in kind.announced:
            yield from self._tellers.get((number, receiver), ())

    def near(self, router: str) -> Iterable[Prefix]:
        """All prefixes that a router can have or hear something of, and for one that hears what
        others pass on, simply all."""
        if self.passing.get(router):
            return [prefix for prefix, _ in self.known.items()]
        found = dict.fromkeys(self.fixed.get(router, ()))
        for number in self.told_to.get(router, ()):
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


def _components(
    routers: list[str], passing: Mapping[str, list[Session]]
) -> tuple[dict[str, int], list[list[str]]]:
    """Routers that hear, in a circle, of what each other passes on (strongly connected ones).

    Kosaraju: the order of finishing, then the circles from the last to the first, backwards.
    """
    onward: dict[str, list[str]] = {}
    for receiver, sessions in passing.items():
        for session in sessions:
            onward.setdefault(session.sender, []).append(receiver)
    order: list[str] = []
    seen: set[str] = set()
    for root in routers:
        if root in seen:
            continue
        seen.add(root)
        stack = [(root, iter(onward.get(root, ())))]
        while stack:
            router, rest = stack[-1]
            following = next((n for n in rest if n not in seen), None)
            if following is None:
                order.append(router)
                stack.pop()
            else:
                seen.add(following)
                stack.append((following, iter(onward.get(following, ()))))
    component_of: dict[str, int] = {}
    components: list[list[str]] = []
    for root in reversed(order):
        if root in component_of:
            continue
        members, waiting = [], [root]
        component_of[root] = len(components)
        while waiting:
            router = waiting.pop()
            members.append(router)
            for session in passing.get(router, ()):
                if session.sender not in component_of:
                    component_of[session.sender] = len(components)
                    waiting.append(session.sender)
        components.append(members)
    return component_of, components
