"""Compute the stable state of a network: what every router holds once all have advertised.

The problem. Thousands of routers, tens of thousands of prefixes, and every command asks again with
something failed. Message by message, as a network does it, that is too slow.

The idea. Three things are shared. Prefixes that are announced, listed and summarised alike are one
class, and a class is solved once (`network.py`). Routers are solved upstream first, in the order of
the circles (`circles.py`): one that nobody learns from in return needs its senders only. A router
that passes nothing on matters to nobody else, so it is worked out only when somebody asks, and once
for all classes that look alike from it (`alike.py`). Inside a circle the members exchange routes
until nothing changes; where AS paths alone decide, the shorter are taken first, as in Dijkstra's
algorithm, so each member chooses once.

A failure stands on the state without it. Each solution keeps its trail, the ways that it depends
on; if nothing on the trail is lost, the solution is the same object. Routers whose choice may hang
on more than that (`delicate`) are always worked out again.

The invariant. What is held here is what a simulation that sends every message ends in, whatever
its order. Where that depends on the order, there is no stable state: UnstableError names who.

The cost. For one class: the sessions of the routers that pass on, and a logarithm inside circles;
for a failure: what its trails touch.

Proven against a plain simulation in drawn networks (`tests/core/test_stable.py`) and against the
BGP engines' own tables (`tests/live/test_world_and_model.py`). The choice itself is RFC 4271
section 9.1; that such circles may never settle is shown in RFC 4264.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Collection, Iterator, Mapping
from heapq import heappop, heappush

from obrin.core.address.prefix import Address, Prefix
from obrin.core.routing.alike import View, look_of, make_view, particular
from obrin.core.routing.decision import decide
from obrin.core.routing.forwarding import Route, sharing, together
from obrin.core.routing.held import Heard, Held, Offer, UnstableError
from obrin.core.routing.network import Network, PrefixClass
from obrin.core.routing.next_hops import NextHops
from obrin.core.routing.path import Candidate, Origin, Path, has_as
from obrin.core.routing.policy import export_path, import_path
from obrin.core.routing.session import Session

ANY_LOSS = "*"
"""Entry of a trail that means: look again, whatever is lost."""
_MED_RULE = "lower multi-exit discriminator"


Ask = Callable[[str, PrefixClass], Held | None]
_Solved = Mapping[str, Held]


class Stable:
    """`lost` are ways that failed; `whole` is the state in which they are up."""

    def __init__(
        self, network: Network, lost: Collection[str] = (), whole: Stable | None = None
    ) -> None:
        self.network = network
        self.lost = frozenset(lost)
        self._whole = whole
        self._solved: dict[tuple[int, int], _Solved] = {}
        self._trails: dict[tuple[int, int], frozenset[str]] = {}
        self._alike: dict[str, dict[object, Held | None]] = {}
        self._has: dict[tuple[str, Prefix], bool] = {}
        self._views: dict[tuple[str, ...], View] = {}
        self._hops = NextHops(network, self.lost, self._offers)
        self._over: frozenset[Session] = frozenset() if whole is None else whole._over
        if whole is None:
            self._over = frozenset(self._over_limit())

    # Asking

    def match(self, router: str, address: Address) -> tuple[Prefix, Route] | None:
        """The longest prefix that the router has a route for, with it."""
        for prefix, kind in self.network.known.matches(address):
            route = self._route(router, prefix, kind)
            if route is not None:
                return prefix, route
        return None

    def route(self, router: str, prefix: Prefix) -> Route | None:
        """The route for just this prefix."""
        return self._route(router, prefix, self.network.known.get(prefix))

    def table(self, router: str) -> Iterator[tuple[Prefix, Route]]:
        """All routes of a router, by prefix."""
        known = self.network.known
        for prefix in sorted(self.network.near(router)):
            route = self._route(router, prefix, known.get(prefix))
            if route is not None:
                yield prefix, route

    def groups(self, router: str) -> Iterator[tuple[list[PrefixClass], Held]]:
        """The same without the connected ones, in groups of classes that go alike from here."""
        alone: Collection[PrefixClass] = self.network.classes
        if self._quiet(router):
            view = self._view(self.network.upstream.get(router, ()))
            own = particular(self.network, view, router)
            for kinds in view.groups.values():
                rest = [k for k in kinds if k.number not in own] if own else kinds
                held = self._quietly_held(router, rest[0]) if rest else None
                if held is not None:
                    yield rest, held
            alone = own.values()
        for kind in alone:
            held = self.held(router, kind)
            if held is not None:
                yield [kind], held

    def _view(self, above: tuple[str, ...]) -> View:
        if above not in self._views:
            self._views[above] = make_view(self.network, above, self._held_by)
        return self._views[above]

    def heard(self, router: str, prefix: Prefix) -> Heard:
        """All that a router hears of a prefix, and what it makes of it."""
        kind = self.network.known.get(prefix)
        if kind is None:
            return Heard((), None, ())
        good: list[Offer] = []
        refused: list[tuple[Session, str]] = []
        for session, path in self._all_offers(router, kind):
            if isinstance(path, str):
                refused.append((session, path))
            else:
                good.append((session, path))
        static = sorted((s for s, _ in good if s.static), key=lambda s: s.metric or 0)
        candidates = self._candidates(router, prefix, good)
        return Heard(tuple(static), decide(candidates) if candidates else None, tuple(refused))

    def advertised(self, session: Session) -> Iterator[tuple[PrefixClass, str]]:
        """The classes that cross a session, each with why the receiver refuses it, if so."""
        for kind in self.network.classes:
            sent = self._sent(session, kind, self._held_by)
            if not isinstance(sent, Path):
                continue
            taken = import_path(session.accept, kind.prefixes[0], sent)
            yield kind, taken if isinstance(taken, str) else ""

    def over_limit(self) -> Collection[Session]:
        """Sessions that end because the sender advertises more prefixes than the receiver
        accepts."""
        return self._over

    # What a router has

    def held(self, router: str, kind: PrefixClass) -> Held | None:
        """What a router has for a class from others, or None."""
        if self._quiet(router):
            return self._quietly_held(router, kind)
        return self._held_by(router, kind)

    def _held_by(self, router: str, kind: PrefixClass) -> Held | None:
        return self._circle(self.network.circles.of[router], kind).get(router)

    def _route(self, router: str, prefix: Prefix, kind: PrefixClass | None) -> Route | None:
        fixed = self.network.fixed.get(router, {}).get(prefix, ())
        up = [route for route in fixed if route.via not in self.lost]
        if up:
            return up[0] if len(up) == 1 else together(up)
        if kind is None:
            return None
        held = self.held(router, kind)
        return None if held is None else held.route(prefix)

    def _quiet(self, router: str) -> bool:
        """Whether a router passes nothing on."""
        return router not in self.network.passers

    def _quietly_held(self, router: str, kind: PrefixClass) -> Held | None:
        """Once for all classes that look alike from this router."""
        network = self.network
        if network.owns(router, kind):
            return None
        if self._whole is not None and not self._touched(self._whole, router, kind):
            return self._whole._quietly_held(router, kind)
        looks: list[object] = [
            kind.announced & network.advertised_to.get(router, _NONE),
            kind.lists & network.lets_in.get(router, _NONE),
            kind.summaries & network.summed.get(router, _NO_PREFIXES),
            kind.bits,
        ]
        ways, asn = network.ways.get(router, _NO_WAYS), network.asn_of.get(router, 0)
        for sender in network.upstream.get(router, ()):
            held = self._held_by(sender, kind)
            if held is None:
                looks.append(None)
                continue
            if held.via in ways or has_as(held.path.as_path, asn):
                return self._choose(router, kind, self._offers(router, kind))
            looks.append(look_of(held))
        key = tuple(looks)
        alike = self._alike.setdefault(router, {})
        if key not in alike:
            alike[key] = self._choose(router, kind, self._offers(router, kind))
        return alike[key]

    def _touched(self, whole: Stable, router: str, kind: PrefixClass) -> bool:
        """Whether a loss can matter to what a quiet router has for a class."""
        network = self.network
        if router in network.delicate:
            return True
        for sender in network.upstream.get(router, ()):
            if self._is_on(whole._trail(network.circles.of[sender], kind)):
                return True
        held = whole._quietly_held(router, kind)
        if held is None:
            return False
        return held.via in self.lost or not self.lost.isdisjoint(held.others)

    def _is_on(self, trail: frozenset[str]) -> bool:
        """Whether something lost is on a trail."""
        return ANY_LOSS in trail or not trail.isdisjoint(self.lost)

    # Circles

    def _circle(self, number: int, kind: PrefixClass) -> _Solved:
        key = number, kind.number
        found = self._solved.get(key)
        if found is None:
            whole = self._whole
            if whole is not None and not self._is_on(whole._trail(number, kind)):
                return whole._circle(number, kind)
            found = self._solved[key] = self._solve(number, kind)
        return found

    def _trail(self, number: int, kind: PrefixClass) -> frozenset[str]:
        """The ways that a solution depends on."""
        key = number, kind.number
        if key not in self._trails:
            solved, network = self._circle(number, kind), self.network
            ways: set[str] = set()
            for held in solved.values():
                ways |= {held.via, *held.others}
            for router in network.circles.members[number]:
                for sender in network.upstream.get(router, ()):
                    if network.circles.of[sender] != number:
                        ways |= self._trail(network.circles.of[sender], kind)
                if router in network.delicate:
                    ways.add(ANY_LOSS)
            self._trails[key] = frozenset(ways)
        return self._trails[key]

    def _solve(self, number: int, kind: PrefixClass) -> _Solved:
        network = self.network
        members = network.circles.members[number]
        state: dict[str, Held] = {}
        if len(members) == 1:
            held = self._choose(members[0], kind, self._offers(members[0], kind))
            return {} if held is None else {members[0]: held}

        def inside(router: str, kind: PrefixClass) -> Held | None:
            if network.circles.of[router] == number:
                return state.get(router)
            return self._held_by(router, kind)

        # What is chosen by the length of AS paths is chosen once, with the short ones first.
        count = itertools.count()
        queued = self._beginners(number, kind)
        waiting = [(0, next(count), router) for router in members if router in queued]
        steps = 64 * len(members) * len(members)
        while waiting:
            steps -= 1
            if steps < 0:
                raise UnstableError(
                    f"the routes for {kind.prefixes[0]} never settle: {', '.join(sorted(queued))} "
                    "each prefer what another advertises. Give them one order of preference"
                )
            router = heappop(waiting)[2]
            queued.discard(router)
            before = state.get(router)
            held = self._choose(router, kind, self._offers(router, kind, inside))
            if held == before:
                continue
            if held is None:
                del state[router]
            else:
                state[router] = held
            length = len(held.path.as_path) if held and number in network.circles.even else 0
            ways = {h.via for h in (held, before) if h is not None}
            back = ways.pop() if len(ways) == 1 else None
            for session in network.circles.inner.get(router, ()):
                if session.receiver in queued or session.via == back:
                    continue  # nothing is advertised back to where it came from
                queued.add(session.receiver)
                heappush(waiting, (length, next(count), session.receiver))
        return state

    def _beginners(self, number: int, kind: PrefixClass) -> set[str]:
        """Routers that may learn a class of prefixes before others of their circle do."""
        circles, receivers = self.network.circles, self.network.receivers
        return circles.entries[number].union(
            router
            for listed in kind.announced
            for router in receivers.get(listed, ())
            if circles.of[router] == number
        )

    # One router

    def _sessions(self, router: str, kind: PrefixClass) -> Iterator[Session]:
        """Sessions on which a class of prefixes may be learned."""
        own = list(self.network.tellers(kind, router))
        yield from own
        for session in self.network.passing.get(router, ()):
            if session not in own:
                yield session

    def _all_offers(
        self, router: str, kind: PrefixClass, ask: Ask | None = None
    ) -> Iterator[tuple[Session, Path | str]]:
        """What is advertised, accepted or refused. A router ignores routes to its own prefixes."""
        if self.network.owns(router, kind):
            return
        ask = ask or self._held_by
        for session in self._sessions(router, kind):
            sent = self._sent(session, kind, ask)
            if isinstance(sent, str):
                yield session, sent
            elif sent is not None:
                yield session, self._taken(session, kind, sent)

    def _taken(self, session: Session, kind: PrefixClass, sent: Path) -> Path | str:
        if session.static:
            return sent
        return import_path(session.accept, kind.prefixes[0], sent)

    def _offers(self, router: str, kind: PrefixClass, ask: Ask | None = None) -> list[Offer]:
        return [
            (session, path)
            for session, path in self._all_offers(router, kind, ask)
            if not isinstance(path, str)
        ]

    def _sent(self, session: Session, kind: PrefixClass, ask: Ask) -> Path | str | None:
        """What a session says of a class; a text when it keeps it back, None when it has nothing,
        or when the session is down."""
        if session.via in self.lost or session in self._over:
            return None
        hop = session.next_hop.of(kind.bits)
        if hop is None or (session.far_peers is not None and not self._hops.speak(session)):
            return None
        prefix, internal = kind.prefixes[0], False
        if prefix in session.announces:
            if session.static:
                return Path(hop, (), Origin.INCOMPLETE)
            if prefix in session.export.summaries and not self._has_inside(session.sender, prefix):
                return None
            path = Path(hop)
        elif session.static or not session.export.passes_on:
            return None
        else:
            held = ask(session.sender, kind)
            if held is None or held.via == session.via:
                return None
            if held.metric is not None and session.export.internal:
                return None  # gateways pass on what they learned, and nobody advertised that
            path, internal = held.path, held.internal
        return export_path(session.export, prefix, path, hop, internal=internal)

    def _has_inside(self, sender: str, summary: Prefix) -> bool:
        """Whether the sender has something that the summary stands for."""
        key = sender, summary
        if key not in self._has:
            fixed = self.network.fixed.get(sender, {})
            self._has[key] = any(summary.covers(p) and p != summary for p in fixed) or any(
                self.network.owns(sender, c) or self._held_by(sender, c) is not None
                for c in self.network.inside(summary)
            )
        return self._has[key]

    def _candidates(self, router: str, prefix: Prefix, offers: list[Offer]) -> list[Candidate]:
        found = []
        for session, path in offers:
            if session.static:
                continue
            cost = self._hops.cost(router, session, path, prefix.bits)
            if cost is not None:
                found.append(Candidate(prefix, path, session.peer, cost))
        return found

    def _choose(self, router: str, kind: PrefixClass, offers: list[Offer]) -> Held | None:
        static = [(s, p) for s, p in offers if s.metric is not None]
        if static:
            best, path = min(static, key=lambda offer: offer[0].metric or 0)
            others = tuple(s.via for s, _ in static if s.metric == best.metric and s is not best)
            return Held(path, best.via, others, best.metric)
        candidates = self._candidates(router, kind.prefixes[0], offers)
        if not candidates:
            return None
        decision = decide(candidates)
        via = decision.winner.peer.name
        shared = self.network.shared.get(router, _NO_WAYS)
        learned_inside = not decision.winner.peer.external
        others = sharing(decision, shared)
        return Held(decision.winner.path, via, others, internal=learned_inside)

    def _over_limit(self) -> Iterator[Session]:
        limited = [s for s in self.network.sessions if s.accept.limit is not None]
        for session in limited:
            count = sum(len(kind.prefixes) for kind, why in self.advertised(session) if not why)
            if count > (session.accept.limit or 0):
                yield session
        if limited:
            self._solved.clear()
            self._trails.clear()
            self._alike.clear()
            self._has.clear()
            self._views.clear()


_NONE: frozenset[int] = frozenset()
_NO_WAYS: frozenset[str] = frozenset()
_NO_PREFIXES: frozenset[Prefix] = frozenset()
