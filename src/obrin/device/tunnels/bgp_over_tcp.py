"""BGP sessions over the small TCP, inside the tunnels."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

from obrin.device.config import RouterNeighbour
from obrin.wire.agenda import Agenda
from obrin.wire.bgp.fsm import BgpState
from obrin.wire.bgp.session import BgpSession
from obrin.wire.bgp.speaker import Speaker
from obrin.wire.tcp import Connection, Ends, TcpStack, TcpState
from obrin.wire.tcp_protection import protection

PORT = 179


class BgpOverTcp:
    """Opens, accepts and closes the connections that the sessions ask for."""

    def __init__(self, neighbours: Mapping[str, RouterNeighbour], tcp: TcpStack) -> None:
        self.speaker = Speaker()
        self._tcp = tcp
        tcp.refused = self._refused
        self._connections: dict[str, Connection] = {}
        self._opened: set[str] = set()
        self._alive: set[str] = set()
        self._ways: dict[str, tuple[str, ...]] = {}
        self._by_way: dict[str, dict[str, None]] = {}
        self._by_ends: dict[Ends, dict[str, None]] = {}
        self._agenda: Agenda[str] = Agenda(self._timer_of)
        for neighbour in neighbours.values():
            self.add(neighbour)

    def add(self, neighbour: RouterNeighbour) -> BgpSession:
        """One session more; it has to be started."""
        config = neighbour.session
        self._tcp.listen(config.local_address, PORT, self._accept)
        self._ways[config.name] = neighbour.ways
        ends = config.local_address, config.peer_address
        for way in neighbour.ways:
            self._by_way.setdefault(way, {})[config.name] = None
        self._by_ends.setdefault(ends, {})[config.name] = None
        if config.password:
            self._tcp.protections[ends] = protection(config.signature, config.password)
        else:
            self._tcp.protections.pop(ends, None)
        return self.speaker.add(neighbour.session, neighbour.policy, neighbour.announce)

    def remove(self, name: str, now: float) -> None:
        """Tell the peer that the session is over (RFC 4486, subcode 3), and forget it."""
        session = self._session(name)
        if name in self._opened:
            session.cease(3, "not configured any more", now)
            self._pump_one(name, session, now)
        connection = self._connections.pop(name, None)
        self._opened.discard(name)
        if connection is not None:
            connection.abort("not configured any more")
        self.speaker.remove(name, now)
        self._agenda.forget(name)
        for way in self._ways.pop(name):
            del self._by_way[way][name]
        del self._by_ends[session.config.local_address, session.config.peer_address][name]

    def _session(self, name: str) -> BgpSession:
        return self.speaker.neighbours[name].session

    @property
    def sessions(self) -> dict[str, BgpSession]:
        return {name: n.session for name, n in self.speaker.neighbours.items()}

    def _accept(self, connection: Connection) -> None:
        for name in self._by_ends.get((connection.local[0], connection.remote[0]), ()):
            session = self._session(name)
            waiting = session.state in (BgpState.ACTIVE, BgpState.CONNECT)
            if session.config.passive and waiting and name not in self._opened:
                if name in self._connections:
                    self._connections[name].abort("the peer called again")
                self._carry(name, connection)
                return
        connection.abort("not a configured peer, or not now")

    def _carry(self, name: str, connection: Connection) -> None:
        self._connections[name] = connection
        connection.owner = partial(self.speaker.stirred.setdefault, name)
        connection.owner()

    def _refused(self, ends: Ends, reason: str, now: float) -> None:
        for name in self._by_ends.get(ends, ()):
            self._session(name).refused(reason, now)

    def start(self, now: float) -> None:
        for session in self.sessions.values():
            session.start(now)

    def stop(self, now: float) -> None:
        for session in self.sessions.values():
            session.stop(now)
        self.pump(now)

    def tunnel_up(self, tunnel: str, now: float) -> None:
        self._alive.add(tunnel)
        self.speaker.stirred.update(self._by_way.get(tunnel, {}))

    def tunnel_down(self, tunnel: str, now: float) -> None:
        """The last link under a session is gone: do not wait for the hold timer."""
        self._alive.discard(tunnel)
        for name in self._by_way.get(tunnel, ()):
            if self._alive.isdisjoint(self._ways[name]):
                self._abort(name, now)

    def _abort(self, name: str, now: float) -> None:
        connection = self._connections.pop(name, None)
        self._opened.discard(name)
        if connection is not None:
            connection.abort("the tunnel went down")
            self._session(name).closed("the tunnel went down", now, for_good=True)

    def next_timer(self) -> float:
        for name in self.speaker.stirred:
            self._agenda.stir(name)
        return min(self._agenda.next(), self.speaker.next_timer())

    def _timer_of(self, name: str) -> float | None:
        neighbour = self.speaker.neighbours.get(name)
        return None if neighbour is None else neighbour.session.next_timer()

    def handle_timer(self, now: float) -> None:
        self.next_timer()
        for name in self._agenda.due(now):
            self._session(name).handle_timer(now)
        self.speaker.handle_timer(now)

    def pump(self, now: float) -> bool:
        """Move bytes between sessions and connections; True when the routes changed."""
        stirred = list(self.speaker.stirred)
        self.speaker.stirred.clear()
        for name in stirred:
            neighbour = self.speaker.neighbours.get(name)
            if neighbour is not None:
                self._pump_one(name, neighbour.session, now)
                self._agenda.stir(name)
        return self.speaker.update(now)

    def _pump_one(self, name: str, session: BgpSession, now: float) -> None:
        connection = self._connections.get(name)
        carried = not self._alive.isdisjoint(self._ways[name])
        if connection is None and session.wants_connection and carried:
            session.wants_connection = False
            config = session.config
            connection = self._tcp.connect(config.local_address, config.peer_address, PORT, now)
            self._carry(name, connection)
        if connection is None:
            return
        if connection.open and name not in self._opened:
            self._opened.add(name)
            session.connected(now)
        if name in self._opened:
            data = connection.take()
            if data:
                session.receive(data, now)
            connection.send(session.output())
        if session.hang_up:
            connection.send(session.output())
            connection.flush(now)
            connection.close()
            self._forget(name)
            session.hang_up = False
        elif connection.state is TcpState.CLOSED or connection.peer_closed:
            reason = connection.reason or "closed by the peer"
            connection.close()
            self._forget(name)
            session.closed(reason, now)

    def _forget(self, name: str) -> None:
        self._connections.pop(name, None)
        self._opened.discard(name)
