"""A BGP speaker: its sessions, what it learned from each peer, and what it chose.

It announces its own prefixes, and what it learned only on sessions whose policy passes that on: a
site or a cloud gateway is not a transit between its peers unless a design says so. What is passed
on is what this speaker chose, or what its owner gives (`pass_on`), where that has tables of its
own.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field
from functools import partial

from obrin.core.address.prefix import Prefix
from obrin.core.routing.decision import Decision, decide
from obrin.core.routing.path import Candidate, Path, Peer
from obrin.core.routing.policy import SessionPolicy, export_path, import_path
from obrin.wire.bgp.restart import WAIT
from obrin.wire.bgp.session import (
    BgpSession,
    RefreshWanted,
    RoutesChanged,
    SessionConfig,
    SessionDown,
    SessionUp,
)


class Taken(dict[Prefix, Path]):
    """What was accepted from one peer, with an index over those of all peers:
    who has a prefix."""

    def __init__(self, name: str, holders: dict[Prefix, dict[str, None]]) -> None:
        super().__init__()
        self._name, self._holders = name, holders

    def take(self, prefix: Prefix, path: Path) -> None:
        if prefix not in self:
            self._holders.setdefault(prefix, {})[self._name] = None
        self[prefix] = path

    def let_go(self, prefix: Prefix) -> bool:
        """Whether it was there."""
        if self.pop(prefix, None) is None:
            return False
        left = self._holders[prefix]
        del left[self._name]
        if not left:
            del self._holders[prefix]
        return True

    def let_all_go(self) -> set[Prefix]:
        """What was there."""
        gone = set(self)
        for prefix in gone:
            self.let_go(prefix)
        return gone


@dataclass(slots=True, eq=False)
class Neighbour:
    """A session with its policy and its tables: what it advertised (`adj_rib_in`), what of it
    was accepted, what it was sent. `stale` is kept from before a restart of the peer, until a
    time at most. `given` is what is passed on to it, where that is not what this speaker chose."""

    session: BgpSession
    policy: SessionPolicy
    announce: tuple[Prefix, ...]
    received: Taken
    adj_rib_in: dict[Prefix, Path] = field(default_factory=dict)
    rejected: dict[Prefix, str] = field(default_factory=dict)
    announced: dict[Prefix, Path] = field(default_factory=dict)
    given: Mapping[Prefix, Candidate] | None = None
    router_id: int = 0
    stale: set[Prefix] = field(default_factory=set)
    stale_until: float = float("inf")
    _peer: tuple[SessionPolicy, int, Peer] | None = None

    @property
    def peer(self) -> Peer:
        """The peer as the decision process knows it; one object for all of its routes."""
        policy, known = self.policy, self._peer
        if known is None or known[0] is not policy or known[1] != self.router_id:
            name, address = self.session.config.name, self.session.config.peer_address
            peer = Peer(name, policy.peer_as, address, self.router_id, policy.external)
            known = self._peer = policy, self.router_id, peer
        return known[2]

    def candidates(self) -> Iterator[Candidate]:
        """All that was accepted from it."""
        peer = self.peer
        for prefix, path in self.received.items():
            yield Candidate(prefix, path, peer)


class Speaker:
    """Feed it sessions' events with `update`; read `decisions`. `stirred` are sessions with which
    something happened, for who carries their bytes; `changed` are prefixes whose decision may be
    another, for who uses them. Both take what they have seen out."""

    def __init__(self) -> None:
        self.neighbours: dict[str, Neighbour] = {}
        self.decisions: dict[Prefix, Decision] = {}
        self.log: list[tuple[float, str, str]] = []
        self.stirred: dict[str, None] = {}
        self.changed: set[Prefix] = set()
        self._touched: set[Prefix] = set()
        self._reporting: dict[str, None] = {}
        self._holders: dict[Prefix, dict[str, None]] = {}
        self._waiting: set[str] = set()

    def add(
        self, config: SessionConfig, policy: SessionPolicy, announce: tuple[Prefix, ...]
    ) -> BgpSession:
        session = BgpSession(config)
        session.stir = partial(self._stir, config.name)
        taken = Taken(config.name, self._holders)
        self.neighbours[config.name] = Neighbour(session, policy, announce, taken)
        return session

    def _stir(self, name: str) -> None:
        self.stirred[name] = None
        self._reporting[name] = None

    def remove(self, name: str, now: float) -> None:
        """Forget a session that is over."""
        neighbour = self.neighbours.pop(name)
        self._waiting.discard(name)
        self._touched |= neighbour.received.let_all_go()
        self.log.append((now, name, "not configured any more"))

    def change(self, name: str, policy: SessionPolicy, announce: tuple[Prefix, ...]) -> None:
        """Tell and take by another policy; the session goes on.

        What is no longer announced is withdrawn, and what the peer advertised before is judged
        anew.
        """
        neighbour = self.neighbours[name]
        neighbour.policy, neighbour.announce = policy, announce
        if neighbour.session.established:
            self._tell(neighbour)
        self._touched |= neighbour.received.let_all_go() | neighbour.adj_rib_in.keys()
        neighbour.rejected.clear()
        for prefix, path in neighbour.adj_rib_in.items():
            self._judge(neighbour, prefix, path)

    def pass_on(self, name: str, given: Mapping[Prefix, Candidate]) -> bool:
        """Tell a neighbour of these, besides what is the speaker's own; whether that is news."""
        neighbour = self.neighbours[name]
        neighbour.given = given
        return neighbour.session.established and self._tell(neighbour)

    def update(self, now: float) -> bool:
        """Take what the sessions report; True when the choice of routes may have changed."""
        touched, self._touched = self._touched, set()
        reporting, self._reporting = self._reporting, {}
        for name in reporting:
            neighbour = self.neighbours.get(name)
            if neighbour is None or not neighbour.session.has_events:
                continue
            for event in neighbour.session.events():
                if isinstance(event, SessionUp):
                    neighbour.router_id = event.peer_router_id
                    kept = frozenset() if event.restart is None else event.restart.forwarded
                    touched |= self._let_go(neighbour, {32, 128} - kept)
                    if neighbour.stale:
                        neighbour.stale_until = now + WAIT
                    neighbour.announced = {}
                    self._tell(neighbour)
                    neighbour.session.end_of_rib()
                    self.log.append((now, name, "BGP established"))
                elif isinstance(event, RefreshWanted):
                    neighbour.announced = {}
                    self._tell(neighbour)
                    self.log.append((now, name, "advertised everything again, as the peer asked"))
                elif isinstance(event, SessionDown):
                    touched |= self._lose(neighbour, event, now)
                    self.log.append((now, name, f"BGP down: {event.reason}"))
                else:
                    self.log += [(now, name, f"UPDATE with a fault: {f}") for f in event.faults]
                    touched |= self._take(neighbour, event)
                    touched |= self._limit(neighbour, now)
            self._wait_for(name, neighbour)
        del self.log[:-200]
        for prefix in touched:
            self._decide(prefix)
        for neighbour in self.neighbours.values() if touched else ():
            if neighbour.policy.passes_on and neighbour.session.established:
                self._tell_more(neighbour, touched)
        self.changed |= touched
        return bool(touched)

    def _wait_for(self, name: str, neighbour: Neighbour) -> None:
        """Wait until routes that a peer's restart left stale are replaced or removed."""
        if neighbour.stale_until == float("inf"):
            self._waiting.discard(name)
        else:
            self._waiting.add(name)

    def _tell_more(self, neighbour: Neighbour, touched: Collection[Prefix]) -> None:
        """Bring a peer up to date with these; all has to be looked at where summaries stand for
        others, or where what is passed on is given."""
        if neighbour.policy.summaries or neighbour.given is not None:
            self._tell(neighbour)
            return
        name, own = neighbour.session.config.name, set(neighbour.announce)
        wanted: dict[Prefix, Path] = {}
        for prefix in touched:
            decision = self.decisions.get(prefix)
            if prefix in own or decision is None or decision.winner.peer.name == name:
                continue
            path = self._path_for(neighbour, prefix, decision.winner)
            if path is not None:
                wanted[prefix] = path
        held = neighbour.announced
        gone = [p for p in touched if p in held and p not in wanted and p not in own]
        self._say(neighbour, wanted, gone)
        for prefix in gone:
            del held[prefix]
        held.update(wanted)

    def _tell(self, neighbour: Neighbour) -> bool:
        """Bring a peer up to date; whether there was anything to say."""
        wanted = dict(self._wanted(neighbour))
        gone = [prefix for prefix in neighbour.announced if prefix not in wanted]
        said = self._say(neighbour, wanted, gone)
        neighbour.announced = wanted
        return said

    @staticmethod
    def _say(neighbour: Neighbour, wanted: Mapping[Prefix, Path], gone: list[Prefix]) -> bool:
        """What of the wanted is news, and what is gone."""
        by_path = dict[tuple[int, Path], list[Prefix]]()
        for prefix, path in wanted.items():
            if neighbour.announced.get(prefix) != path:
                by_path.setdefault((prefix.bits, path), []).append(prefix)
        for (_, path), prefixes in by_path.items():
            neighbour.session.announce(path, prefixes)
        neighbour.session.withdraw(gone)
        return bool(by_path or gone)

    def _wanted(self, neighbour: Neighbour) -> Iterator[tuple[Prefix, Path]]:
        """All that is to be advertised to a peer. Never what came from itself, nor a summary of
        nothing."""
        policy, own = neighbour.policy, set(neighbour.announce)
        others = self._to_pass_on(neighbour)
        adj_rib_in = [(prefix, None) for prefix in neighbour.announce]
        for prefix, found in (*adj_rib_in, *((p, c) for p, c in others.items() if p not in own)):
            summary = found is None and policy.passes_on and prefix in policy.summaries
            if summary and not any(p != prefix and prefix.covers(p) for p in others):
                continue
            made = self._path_for(neighbour, prefix, found)
            if made is not None:
                yield prefix, made

    @staticmethod
    def _path_for(neighbour: Neighbour, prefix: Prefix, found: Candidate | None) -> Path | None:
        """What is advertised to a peer for a prefix, the speaker's own where nothing was
        `found`; None where nothing is."""
        hop = neighbour.session.config.hop(prefix.bits)
        if hop is None or prefix.bits not in neighbour.session.families:
            return None
        path, internal = Path(hop.value), False
        if found is not None:
            path, internal = found.path, not found.peer.external
        made = export_path(neighbour.policy, prefix, path, hop.value, internal=internal)
        return made if isinstance(made, Path) else None

    def _to_pass_on(self, neighbour: Neighbour) -> dict[Prefix, Candidate]:
        if not neighbour.policy.passes_on:
            return {}
        given = neighbour.given
        if given is None:
            given = {prefix: decision.winner for prefix, decision in self.decisions.items()}
        name = neighbour.session.config.name
        return {prefix: found for prefix, found in given.items() if found.peer.name != name}

    @staticmethod
    def _lose(neighbour: Neighbour, event: SessionDown, now: float) -> set[Prefix]:
        """What a session brought, but for what its peer asked to keep (RFC 4724 section 4.2)."""
        families = frozenset() if event.restart is None else event.restart.families
        neighbour.announced = {}
        neighbour.rejected.clear()
        neighbour.stale = {p for p in neighbour.received if p.bits in families}
        if event.restart is not None and neighbour.stale:
            neighbour.stale_until = now + event.restart.seconds
        gone = neighbour.received.keys() - neighbour.stale
        for prefix in gone:
            neighbour.received.let_go(prefix)
        for prefix in neighbour.adj_rib_in.keys() - neighbour.stale:
            del neighbour.adj_rib_in[prefix]
        return gone

    @staticmethod
    def _let_go(neighbour: Neighbour, families: Collection[int]) -> set[Prefix]:
        """What is still stale of some families."""
        gone = {prefix for prefix in neighbour.stale if prefix.bits in families}
        neighbour.stale -= gone
        if not neighbour.stale:
            neighbour.stale_until = float("inf")
        for prefix in gone:
            neighbour.adj_rib_in.pop(prefix, None)
            neighbour.received.let_go(prefix)
        return gone

    def next_timer(self) -> float:
        waiting = (self.neighbours[name].stale_until for name in self._waiting)
        return min(waiting, default=float("inf"))

    def handle_timer(self, now: float) -> None:
        """Routes of a peer that did not come back in time go with the next `update`."""
        for name in list(self._waiting):
            neighbour = self.neighbours[name]
            if now >= neighbour.stale_until:
                self._touched |= self._let_go(neighbour, (32, 128))
                self._wait_for(name, neighbour)

    @staticmethod
    def _take(neighbour: Neighbour, event: RoutesChanged) -> set[Prefix]:
        touched = set(event.withdrawn) & neighbour.received.keys()
        neighbour.stale -= {
            *event.withdrawn,
            *(p for _, adj_rib_in in event.announced for p in adj_rib_in),
        }
        if event.ends:
            touched |= Speaker._let_go(neighbour, {event.ends})
        for prefix in event.withdrawn:
            neighbour.adj_rib_in.pop(prefix, None)
            neighbour.received.let_go(prefix)
            neighbour.rejected.pop(prefix, None)
        for attributes, prefixes in event.announced:
            for prefix in prefixes:
                neighbour.adj_rib_in[prefix] = attributes.path
                if Speaker._judge(neighbour, prefix, attributes.path):
                    touched.add(prefix)
        return touched

    @staticmethod
    def _judge(neighbour: Neighbour, prefix: Prefix, path: Path) -> bool:
        """Accept or reject what was advertised; whether the table is another now."""
        taken = import_path(neighbour.policy, prefix, path)
        if isinstance(taken, str):
            neighbour.rejected[prefix] = taken
            return neighbour.received.let_go(prefix)
        neighbour.rejected.pop(prefix, None)
        neighbour.received.take(prefix, taken)
        return True

    @staticmethod
    def _limit(neighbour: Neighbour, now: float) -> set[Prefix]:
        """More prefixes than agreed end the session (RFC 4486, subcode 1)."""
        limit, count = neighbour.policy.limit, len(neighbour.received)
        if limit is None or count <= limit:
            return set()
        touched = neighbour.received.let_all_go()
        neighbour.adj_rib_in.clear()
        neighbour.session.cease(1, f"it advertised {count} prefixes, {limit} are allowed", now)
        return touched

    def _decide(self, prefix: Prefix) -> None:
        candidates = [
            Candidate(prefix, neighbour.received[prefix], neighbour.peer)
            for neighbour in map(self.neighbours.__getitem__, self._holders.get(prefix, ()))
        ]
        if candidates:
            self.decisions[prefix] = decide(candidates)
        else:
            self.decisions.pop(prefix, None)
