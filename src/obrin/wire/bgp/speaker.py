"""A BGP speaker: its sessions, what each peer told it, and what it chose.

It announces its own prefixes, and what it learned only on sessions whose policy passes that on: a
site or a cloud gateway is not a transit between its peers unless a design says so. What is passed
on is what this speaker chose, or what its owner gives (`pass_on`), where that has tables of its
own.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field

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


@dataclass(slots=True, eq=False)
class Neighbour:
    """A session with its policy and its tables: what it told, what of it was taken, what it was
    told. `stale` is kept from before a restart of the peer, until a time at most. `given` is what
    is passed on to it, where that is not what this speaker chose."""

    session: BgpSession
    policy: SessionPolicy
    announce: tuple[Prefix, ...]
    told: dict[Prefix, Path] = field(default_factory=dict)
    received: dict[Prefix, Path] = field(default_factory=dict)
    rejected: dict[Prefix, str] = field(default_factory=dict)
    announced: dict[Prefix, Path] = field(default_factory=dict)
    given: Mapping[Prefix, Candidate] | None = None
    router_id: int = 0
    stale: set[Prefix] = field(default_factory=set)
    stale_until: float = float("inf")

    @property
    def peer(self) -> Peer:
        """As the decision process knows it."""
        config, policy = self.session.config, self.policy
        address = config.peer_address
        return Peer(config.name, policy.peer_as, address, self.router_id, policy.external)

    def candidates(self) -> Iterator[Candidate]:
        """All that was taken of what it told."""
        for prefix, path in self.received.items():
            yield Candidate(prefix, path, self.peer)


class Speaker:
    """Feed it sessions' events with `update`; read `decisions`."""

    def __init__(self) -> None:
        self.neighbours: dict[str, Neighbour] = {}
        self.decisions: dict[Prefix, Decision] = {}
        self.log: list[tuple[float, str, str]] = []
        self._touched: set[Prefix] = set()

    def add(
        self, config: SessionConfig, policy: SessionPolicy, announce: tuple[Prefix, ...]
    ) -> BgpSession:
        session = BgpSession(config)
        self.neighbours[config.name] = Neighbour(session, policy, announce)
        return session

    def remove(self, name: str, now: float) -> None:
        """Forget a session that is over."""
        neighbour = self.neighbours.pop(name)
        self._touched |= neighbour.received.keys()
        self.log.append((now, name, "not configured any more"))

    def change(self, name: str, policy: SessionPolicy, announce: tuple[Prefix, ...]) -> None:
        """Tell and take by another policy; the session goes on.

        What is no longer announced is withdrawn, and what the peer told before is judged anew.
        """
        neighbour = self.neighbours[name]
        neighbour.policy, neighbour.announce = policy, announce
        if neighbour.session.established:
            self._tell(neighbour)
        self._touched |= neighbour.received.keys() | neighbour.told.keys()
        neighbour.received.clear()
        neighbour.rejected.clear()
        for prefix, path in neighbour.told.items():
            self._judge(neighbour, prefix, path)

    def pass_on(self, name: str, given: Mapping[Prefix, Candidate]) -> bool:
        """Tell a neighbour of these, besides what is the speaker's own; whether that is news."""
        neighbour = self.neighbours[name]
        neighbour.given = given
        return neighbour.session.established and self._tell(neighbour)

    def update(self, now: float) -> bool:
        """Take what the sessions report; True when the choice of routes may have changed."""
        touched, self._touched = self._touched, set()
        for name, neighbour in self.neighbours.items():
            if not neighbour.session.has_events:
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
                    neighbour.session.told_all()
                    self.log.append((now, name, "BGP established"))
                elif isinstance(event, RefreshWanted):
                    neighbour.announced = {}
                    self._tell(neighbour)
                    self.log.append((now, name, "told everything again, as the peer wished"))
                elif isinstance(event, SessionDown):
                    touched |= self._lose(neighbour, event, now)
                    self.log.append((now, name, f"BGP down: {event.reason}"))
                else:
                    self.log += [(now, name, f"UPDATE with a fault: {f}") for f in event.faults]
                    touched |= self._take(neighbour, event)
                    touched |= self._limit(neighbour, now)
        del self.log[:-200]
        for prefix in touched:
            self._decide(prefix)
        for neighbour in self.neighbours.values() if touched else ():
            if neighbour.policy.passes_on and neighbour.session.established:
                self._tell(neighbour)
        return bool(touched)

    def _tell(self, neighbour: Neighbour) -> bool:
        """Bring a peer up to date; whether there was anything to say."""
        wanted = dict(self._wanted(neighbour))
        by_path = dict[tuple[int, Path], list[Prefix]]()
        for prefix, path in wanted.items():
            if neighbour.announced.get(prefix) != path:
                by_path.setdefault((prefix.bits, path), []).append(prefix)
        for (_, path), prefixes in by_path.items():
            neighbour.session.announce(path, prefixes)
        gone = [prefix for prefix in neighbour.announced if prefix not in wanted]
        neighbour.session.withdraw(gone)
        neighbour.announced = wanted
        return bool(by_path or gone)

    def _wanted(self, neighbour: Neighbour) -> Iterator[tuple[Prefix, Path]]:
        """All that a peer is to be told. Nobody is told what came from itself, nor a summary of
        nothing."""
        config, policy, own = neighbour.session.config, neighbour.policy, set(neighbour.announce)
        agreed = neighbour.session.families
        others = self._to_pass_on(neighbour)
        told = [(prefix, None) for prefix in neighbour.announce]
        for prefix, found in (*told, *((p, c) for p, c in others.items() if p not in own)):
            hop = config.hop(prefix.bits)
            if hop is None or prefix.bits not in agreed:
                continue
            summary = found is None and policy.passes_on and prefix in policy.summaries
            if summary and not any(p != prefix and prefix.covers(p) for p in others):
                continue
            path, internal = Path(hop.value), False
            if found is not None:
                path, internal = found.path, not found.peer.external
            made = export_path(policy, prefix, path, hop.value, internal=internal)
            if isinstance(made, Path):
                yield prefix, made

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
        for table in (neighbour.told, neighbour.received):
            for prefix in table.keys() - neighbour.stale:
                del table[prefix]
        return gone

    @staticmethod
    def _let_go(neighbour: Neighbour, families: Collection[int]) -> set[Prefix]:
        """What is still stale of some families."""
        gone = {prefix for prefix in neighbour.stale if prefix.bits in families}
        neighbour.stale -= gone
        if not neighbour.stale:
            neighbour.stale_until = float("inf")
        for prefix in gone:
            neighbour.told.pop(prefix, None)
            neighbour.received.pop(prefix, None)
        return gone

    def next_timer(self) -> float:
        return min((n.stale_until for n in self.neighbours.values()), default=float("inf"))

    def handle_timer(self, now: float) -> None:
        """Routes of a peer that did not come back in time go with the next `update`."""
        for neighbour in self.neighbours.values():
            if now >= neighbour.stale_until:
                self._touched |= self._let_go(neighbour, (32, 128))

    @staticmethod
    def _take(neighbour: Neighbour, event: RoutesChanged) -> set[Prefix]:
        touched = set(event.withdrawn) & neighbour.received.keys()
        neighbour.stale -= {*event.withdrawn, *(p for _, told in event.announced for p in told)}
        if event.ends:
            touched |= Speaker._let_go(neighbour, {event.ends})
        for prefix in event.withdrawn:
            neighbour.told.pop(prefix, None)
            neighbour.received.pop(prefix, None)
            neighbour.rejected.pop(prefix, None)
        for attributes, prefixes in event.announced:
            for prefix in prefixes:
                neighbour.told[prefix] = attributes.path
                if Speaker._judge(neighbour, prefix, attributes.path):
                    touched.add(prefix)
        return touched

    @staticmethod
    def _judge(neighbour: Neighbour, prefix: Prefix, path: Path) -> bool:
        """Take or reject what was told; whether the table is another now."""
        taken = import_path(neighbour.policy, prefix, path)
        if isinstance(taken, str):
            neighbour.rejected[prefix] = taken
            return neighbour.received.pop(prefix, None) is not None
        neighbour.rejected.pop(prefix, None)
        neighbour.received[prefix] = taken
        return True

    @staticmethod
    def _limit(neighbour: Neighbour, now: float) -> set[Prefix]:
        """More prefixes than agreed end the session (RFC 4486, subcode 1)."""
        limit, count = neighbour.policy.limit, len(neighbour.received)
        if limit is None or count <= limit:
            return set()
        touched = set(neighbour.received)
        neighbour.received.clear()
        neighbour.told.clear()
        neighbour.session.cease(1, f"it told {count} prefixes, {limit} are allowed", now)
        return touched

    def _decide(self, prefix: Prefix) -> None:
        candidates = [
            Candidate(prefix, neighbour.received[prefix], neighbour.peer)
            for neighbour in self.neighbours.values()
            if prefix in neighbour.received
        ]
        if candidates:
            self.decisions[prefix] = decide(candidates)
        else:
            self.decisions.pop(prefix, None)
