"""Find the circles of routers that learn routes from each other: strongly connected components.

The problem. Routers that pass routes on can be solved one after the other, except where they hear
of each other in a circle. These have to be solved together (`stable.py`).

The idea. Kosaraju's algorithm in two searches, written without recursion, since a chain may be
thousands long: one search notes the order in which routers are finished, the second goes backwards
along the sessions in the reverse of that order; what it reaches is one circle.

The invariant. The circles stand in an order in which each learns only from itself and from those
before it. `even` are those in which every member has one preference for all its sessions and no MED
is sent: there the shortest AS path decides, and no circle of preferences is possible.

The cost. Each router and each session twice.

Proven with what stands on it: `tests/core/test_stable.py`. Source: Sharir, "A strong-connectivity
algorithm and its applications in data flow analysis" (1981).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from obrin.core.routing.session import Session

Passing = Mapping[str, Sequence[Session]]
"""Sessions on which the sender passes on what it learned from others, by receiver."""


class Circles:
    """`members` are the routers of each, by number, and `of` is the number of each router's."""

    def __init__(
        self, sessions: Sequence[Session], routers: Sequence[str], passing: Passing
    ) -> None:
        self.members = _members(_finished(routers, passing), passing)
        self.of = {router: n for n, members in enumerate(self.members) for router in members}
        self.inner: dict[str, list[Session]] = {}
        """What routers advertise to others of their circle."""
        for session in sessions:
            if self.of[session.sender] == self.of[session.receiver]:
                self.inner.setdefault(session.sender, []).append(session)
        self.entries: list[set[str]] = [set() for _ in self.members]
        """For each circle, its members that learn routes from routers outside it."""
        for router, found in passing.items():
            if any(self.of[session.sender] != self.of[router] for session in found):
                self.entries[self.of[router]].add(router)
        self.even = self._even(sessions)
        """Circles in which nobody prefers one way to another, and no MED is sent."""

    def _even(self, sessions: Sequence[Session]) -> set[int]:
        learned = [(self.of[s.receiver], s) for s in sessions if not s.static]
        first = {number: s.accept.local_pref for number, s in learned}
        return first.keys() - {
            number
            for number, s in learned
            if s.accept.local_pref != first[number] or s.export.med is not None
        }


def _finished(routers: Sequence[str], passing: Passing) -> list[str]:
    """List them in the order in which a search in depth along what is passed on is done with
    them: the first half of Kosaraju's algorithm."""
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
    return order


def _members(order: Sequence[str], passing: Passing) -> list[list[str]]:
    """The other half: from the last to the first, backwards."""
    circles: list[list[str]] = []
    placed: set[str] = set()
    for root in reversed(order):
        if root in placed:
            continue
        placed.add(root)
        members, waiting = [], [root]
        while waiting:
            router = waiting.pop()
            members.append(router)
            for session in passing.get(router, ()):
                if session.sender not in placed:
                    placed.add(session.sender)
                    waiting.append(session.sender)
        circles.append(members)
    return circles
