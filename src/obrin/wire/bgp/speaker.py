"""A BGP speaker: its sessions, what each peer told it, and what it chose.

It announces its own prefixes and nothing that it learned: a site or a cloud gateway is not a
transit between its peers unless a design says so.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from obrin.core.address.prefix import Prefix
from obrin.core.routing.decision import Decision, decide
from obrin.core.routing.path import Candidate, Path, Peer
from obrin.core.routing.policy import SessionPolicy, export_path, import_path
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
    """A session with its policy and its tables: what it told, what of it was taken."""

    session: BgpSession
    policy: SessionPolicy
    announce: tuple[Prefix, ...]
    told: dict[Prefix, Path] = field(default_factory=dict)
    received: dict[Prefix, Path] = field(default_factory=dict)
    rejected: dict[Prefix, str] = field(default_factory=dict)
    announced: tuple[Prefix, ...] = ()
    router_id: int = 0


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
        before = neighbour.announced
        neighbour.policy, neighbour.announce = policy, announce
        if neighbour.session.established:
            self._announce(neighbour)
            gone = [prefix for prefix in before if prefix not in neighbour.announced]
            neighbour.session.withdraw(gone)
        self._touched |= neighbour.received.keys() | neighbour.told.keys()
        neighbour.received.clear()
        neighbour.rejected.clear()
        for prefix, path in neighbour.told.items():
            self._judge(neighbour, prefix, path)

    def update(self, now: float) -> bool:
        """Take what the sessions report; True when the choice of routes may have changed."""
        touched, self._touched = self._touched, set()
        for name, neighbour in self.neighbours.items():
            for event in neighbour.session.events():
                if isinstance(event, SessionUp):
                    neighbour.router_id = event.peer_router_id
                    self._announce(neighbour)
                    self.log.append((now, name, "BGP established"))
                elif isinstance(event, RefreshWanted):
                    self._announce(neighbour)
                    self.log.append((now, name, "told everything again, as the peer wished"))
                elif isinstance(event, SessionDown):
                    touched |= neighbour.received.keys()
                    neighbour.told.clear()
                    neighbour.received.clear()
                    neighbour.rejected.clear()
                    neighbour.announced = ()
                    self.log.append((now, name, f"BGP down: {event.reason}"))
                else:
                    self.log += [(now, name, f"UPDATE with a fault: {f}") for f in event.faults]
                    touched |= self._take(neighbour, event)
                    touched |= self._limit(neighbour, now)
        del self.log[:-200]
        for prefix in touched:
            self._decide(prefix)
        return bool(touched)

    def _announce(self, neighbour: Neighbour) -> None:
        config = neighbour.session.config
        by_path = dict[tuple[int, Path], list[Prefix]]()
        agreed = neighbour.session.families
        for prefix in neighbour.announce:
            hop = config.hop(prefix.bits)
            if hop is None or prefix.bits not in agreed:
                continue
            path = export_path(neighbour.policy, prefix, Path(hop.value), hop.value)
            if isinstance(path, Path):
                by_path.setdefault((prefix.bits, path), []).append(prefix)
        for (_, path), prefixes in by_path.items():
            neighbour.session.announce(path, prefixes)
        neighbour.announced = tuple(p for prefixes in by_path.values() for p in prefixes)

    @staticmethod
    def _take(neighbour: Neighbour, event: RoutesChanged) -> set[Prefix]:
        touched = set(event.withdrawn) & neighbour.received.keys()
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
            Candidate(
                prefix,
                neighbour.received[prefix],
                Peer(
                    name,
                    neighbour.policy.peer_as,
                    neighbour.session.config.peer_address,
                    neighbour.router_id,
                    neighbour.policy.external,
                ),
            )
            for name, neighbour in self.neighbours.items()
            if prefix in neighbour.received
        ]
        if candidates:
            self.decisions[prefix] = decide(candidates)
        else:
            self.decisions.pop(prefix, None)
