"""BFD sessions of a practice router: one for each tunnel or line that wants one, over UDP in it.

It runs between the addresses inside (RFC 5881), or between those of a BGP session that ends beyond
the tunnel (RFC 5883): then on another port.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping

from obrin.core.address.prefix import Address
from obrin.device.changes import same_bfd
from obrin.device.config import RouterWay
from obrin.wire.bfd import MULTIHOP_PORT, PORT, TTL, BfdSession, BfdState
from obrin.wire.errors import PacketError
from obrin.wire.packet import UDP, Packet, Udp, decode_udp

FIRST_PORT, PORTS = 49152, 16384
"""Where packets come from (RFC 5881 section 4): a port of the dynamic range for each session."""


class BfdSessions:
    """`dead` are ways whose session was up and is not any more."""

    def __init__(self, configs: Mapping[str, RouterWay], rng: Callable[[int], bytes]) -> None:
        self._rng = rng
        self._number = 0
        self._configs: dict[str, RouterWay] = {}
        self.sessions: dict[str, BfdSession] = {}
        self._sources: dict[str, int] = {}
        self.dead: set[str] = set()
        self._was_up: set[str] = set()
        self.take(configs, (), 0.0)

    def take(self, configs: Mapping[str, RouterWay], up: Collection[str], now: float) -> None:
        """Other ways to watch; a session that can go on does. `up` are those that carry."""
        before, self._configs = self._configs, dict(configs)
        for name in list(self.sessions):
            if name not in configs or not same_bfd(before.get(name), configs[name]):
                self.tunnel_down(name, now)
                del self.sessions[name], self._sources[name]
        for name, config in configs.items():
            if config.bfd is not None and name not in self.sessions:
                self._number += 1
                self.sessions[name] = BfdSession(
                    self._number, config.bfd.interval, config.bfd.multiplier, self._rng
                )
                self._sources[name] = self._free_port()
                if name in up:
                    self.tunnel_up(name, now)

    def _free_port(self) -> int:
        """The next one that no session has; with more sessions than ports they are shared."""
        taken, begin = set(self._sources.values()), self._number - 1
        ports = (FIRST_PORT + (begin + n) % PORTS for n in range(PORTS))
        return next((port for port in ports if port not in taken), FIRST_PORT + begin % PORTS)

    def tunnel_up(self, name: str, now: float) -> None:
        """The tunnel can carry packets again: begin."""
        if name in self.sessions:
            self.tunnel_down(name, now)
            self.sessions[name].start(now)

    def tunnel_down(self, name: str, now: float) -> None:
        """Forget what has no tunnel any more."""
        if name in self.sessions:
            self.sessions[name].stop(now)
            self.sessions[name].packets()
            self.dead.discard(name)
            self._was_up.discard(name)

    def receive(self, name: str | None, packet: Packet, now: float) -> None:
        """A UDP packet for this router from the peer in a tunnel. Raises PacketError and BfdError
        for what is dropped."""
        session = self.sessions.get(name) if name is not None else None
        udp = decode_udp(packet)
        if name is None or session is None or udp.destination_port != self._port(name):
            raise PacketError("UDP that nobody here waits for")
        if (packet.destination, packet.source) != self._ends(name):
            raise PacketError("BFD between other addresses than its endpoints")
        session.receive(udp.data, now)

    def changes(self) -> list[tuple[str, bool]]:
        """(tunnel, whether it is alive) for every session that came up or died."""
        found = []
        for name, session in self.sessions.items():
            for state in session.events():
                if state is BfdState.UP:
                    self._was_up.add(name)
                    self.dead.discard(name)
                    found.append((name, True))
                elif name in self._was_up:
                    self.dead.add(name)
                    found.append((name, False))
        return found

    def packets(self) -> list[tuple[str, Packet]]:
        """What is to be sent, each through its tunnel: not by the table, which may have taken the
        tunnel for dead."""
        out = []
        for name, session in self.sessions.items():
            for data in session.packets():
                ends = self._ends(name)
                segment = Udp(self._sources[name], self._port(name), data).encode(*ends)
                out.append((name, Packet(*ends, UDP, segment, ttl=TTL)))
        return out

    def _ends(self, name: str) -> tuple[Address, Address]:
        """The local address and the peer's."""
        config = self._configs[name]
        return config.bfd_endpoints or (config.inside[0].local, config.inside[0].remote)

    def _port(self, name: str) -> int:
        return PORT if self._configs[name].bfd_endpoints is None else MULTIHOP_PORT

    def next_timer(self) -> float:
        return min((s.next_timer() for s in self.sessions.values()), default=float("inf"))

    def handle_timer(self, now: float) -> None:
        for session in self.sessions.values():
            if session.next_timer() <= now:
                session.handle_timer(now)
