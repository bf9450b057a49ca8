"""One BGP session without I/O: bytes and timers in, bytes and events out.

The owner keeps the TCP connection. It asks `wants_connection`, tells `connected`, `closed` and
`receive`, sends what `output` gives, and closes the connection when `hang_up` is set.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

from obrin.core.address.dual import Dual
from obrin.core.address.prefix import Address, Prefix
from obrin.core.routing.path import Path
from obrin.core.settled.sessions import REOPENS
from obrin.wire.agenda import nobody
from obrin.wire.bgp.attributes import Attributes
from obrin.wire.bgp.errors import (
    CEASE,
    CODE_NAMES,
    FSM_ERROR,
    HOLD_EXPIRED,
    OPEN_ERROR,
    BgpError,
    error_name,
)
from obrin.wire.bgp.fsm import BgpInput, BgpState, advance
from obrin.wire.bgp.messages import (
    NOTIFICATION,
    Keepalive,
    Message,
    MessageReader,
    Notification,
    Open,
    RouteRefresh,
    Update,
    decode_message,
)
from obrin.wire.bgp.multiprotocol import AFI, Reach
from obrin.wire.bgp.restart import Restart
from obrin.wire.tcp_protection import TCP_MD5

_ROUTES_PER_UPDATE = {32: 500, 128: 200}
"""So that a message stays below its 4,096 bytes."""


def _in_parts(prefixes: list[Prefix]) -> Iterator[tuple[Prefix, ...]]:
    """Split prefixes into parts that fit one UPDATE; each part has one family."""
    for bits, most in _ROUTES_PER_UPDATE.items():
        some = [prefix for prefix in prefixes if prefix.bits == bits]
        for start in range(0, len(some), most):
            yield tuple(some[start : start + most])


OPEN_HOLD = 240.0  # section 8: "a large value", while an OPEN is awaited
RETRY_EVERY = REOPENS


NO_HOPS: Dual[Address] = Dual(None)


@dataclass(frozen=True, slots=True, kw_only=True)
class SessionConfig:
    """`hold` in seconds, 0 or at least 3; keepalives go out every third of what is agreed. With a
    `password`, the owner has TCP signed, as `signature` says. With `multihop`, the peer is beyond
    the link. `next_hops` are one's own in each family that is to be carried; where there is none,
    the session's address and family."""

    name: str
    local_as: int
    peer_as: int
    router_id: int
    local_address: Address
    peer_address: Address
    next_hops: Dual[Address] = NO_HOPS
    hold: int = 90
    passive: bool = False
    password: bytes = field(default=b"", repr=False)
    signature: str = TCP_MD5
    multihop: bool = False

    def hop(self, bits: int) -> Address | None:
        """The own next hop in a family; None where it is not carried."""
        hops = self.next_hops
        if hops.ipv4 is not None or hops.ipv6 is not None:
            return hops.of(bits)
        return self.local_address if self.local_address.bits == bits else None

    @property
    def families(self) -> tuple[int, ...]:
        """Address lengths in bits: 32, 128."""
        return tuple(bits for bits in AFI if self.hop(bits) is not None)


@dataclass(frozen=True, slots=True)
class SessionUp:
    """`restart` is what the peer says of restarts, None for nothing."""

    peer_router_id: int
    hold: int
    restart: Restart | None = None


@dataclass(frozen=True, slots=True)
class SessionDown:
    """`restart` where only the connection ended, and the peer said that it comes back."""

    reason: str
    restart: Restart | None = None


@dataclass(frozen=True, slots=True)
class RoutesChanged:
    """`announced` stand with their attributes, one entry for each family; `ends` is a family of
    which all has been sent now, in bits. `faults`: what the
    message had wrong, and what that cost (RFC 7606)."""

    withdrawn: tuple[Prefix, ...]
    announced: tuple[tuple[Attributes, tuple[Prefix, ...]], ...]
    faults: tuple[str, ...] = ()
    ends: int = 0


@dataclass(frozen=True, slots=True)
class RefreshWanted:
    """The peer asks for all routes again (RFC 2918)."""


BgpEvent = SessionUp | SessionDown | RoutesChanged | RefreshWanted


@dataclass(slots=True, eq=False)
class BgpSession:
    config: SessionConfig
    state: BgpState = BgpState.IDLE
    hold: int = 0
    peer: Open | None = None
    last_error: str = ""
    last_error_at: float | None = None
    hang_up: bool = False
    wants_connection: bool = False
    _reader: MessageReader = field(default_factory=MessageReader)
    _output: bytearray = field(default_factory=bytearray)
    _events: list[BgpEvent] = field(default_factory=list)
    _hold_at: float = float("inf")
    _keepalive_at: float = float("inf")
    _retry_at: float = float("inf")
    _up: bool = False
    stir: Callable[[], None] = nobody

    # Calls

    def start(self, now: float) -> None:
        """Begin to connect, or to listen."""
        if self.config.passive:
            self._advance(BgpInput.START_PASSIVE)
        else:
            self._advance(BgpInput.START_ACTIVE)
            self.wants_connection = True

    def stop(self, now: float, words: str = "stopped by its owner") -> None:
        """Cease, administrative shutdown (RFC 4486), with words for the peer's owner."""
        if self.state in (BgpState.OPEN_SENT, BgpState.OPEN_CONFIRM, BgpState.ESTABLISHED):
            self._send(Notification.farewell(2, words))
        self._fail("stopped here", now)
        self._retry_at = float("inf")

    def cease(self, subcode: int, reason: str, now: float) -> None:
        """End the session for good with a Cease (RFC 4486)."""
        self._send(Notification(CEASE, subcode))
        self._fail(reason, now)
        self._retry_at = float("inf")

    def announce(self, path: Path, prefixes: list[Prefix]) -> None:
        """Send routes of one family with one set of attributes; only when established."""
        attributes, bits = Attributes(path), prefixes[0].bits
        hop = self.config.hop(bits)
        for some in _in_parts(prefixes):
            if hop is None or (bits, hop.bits) == (32, 32):
                self._send(Update((), attributes, some))
            else:
                self._send(Update((), attributes, reach=Reach(hop, some)))

    def withdraw(self, prefixes: list[Prefix]) -> None:
        for some in _in_parts(prefixes):
            self._send(Update(some))

    def end_of_rib(self) -> None:
        """Send an End-of-RIB marker in each family, to a peer that waits for it (RFC 4724 section
        4.1)."""
        restart = None if self.peer is None else self.peer.restart
        for bits in self.families if restart is not None and restart.families else ():
            self._send(Update(ends=bits))

    @property
    def families(self) -> tuple[int, ...]:
        """Families that both ends carry, in bits; none before the peer's OPEN."""
        theirs = () if self.peer is None else self.peer.families
        return tuple(bits for bits in self.config.families if bits in theirs)

    # Transport

    def connected(self, now: float) -> None:
        """The TCP connection is up: send OPEN."""
        self._advance(BgpInput.CONNECTED)
        self.wants_connection = False
        self.hang_up = False
        self._retry_at = float("inf")
        self._reader = MessageReader()
        self._hold_at = now + OPEN_HOLD
        self._send(
            Open(
                asn=self.config.local_as,
                hold=self.config.hold,
                router_id=self.config.router_id,
                families=self.config.families,
                restart=Restart(),
                other_hops=self.config.families[:1] == (32,) and self._hop_of_other(),
            )
        )

    def _hop_of_other(self) -> bool:
        """Whether IPv4 goes by an IPv6 next hop (RFC 8950)."""
        hop = self.config.hop(32)
        return hop is not None and hop.bits == 128

    def refused(self, reason: str, now: float) -> None:
        """The peer was not let in. What stands does not fall by it: anybody can try."""
        if self.state is not BgpState.ESTABLISHED:
            self.last_error, self.last_error_at = reason, now

    def closed(self, reason: str, now: float, *, for_good: bool = False) -> None:
        """The TCP connection failed or ended; `for_good` where the way itself is dead, so that
        nothing can be kept for a peer that comes back."""
        self._advance(BgpInput.CONNECTION_FAILED)
        self.hang_up = False  # there is nothing left to hang up: the next one is another
        restart = None if self.peer is None or for_good else self.peer.restart
        self._down(f"the TCP connection ended: {reason}", now, restart)

    def receive(self, data: bytes, now: float) -> None:
        """Bytes from the network; never raises for what they hold."""
        self._reader.feed(data)
        kind = 0
        try:
            while self.state is not BgpState.IDLE:
                kind = self._reader.kind()
                raw = self._reader.next()
                if raw is None:
                    return
                four = self.peer is not None and self.peer.four_octets
                self._take(
                    decode_message(
                        raw, four_octets=four, internal=self._internal, families=self.families
                    ),
                    now,
                )
        except BgpError as error:
            if kind != NOTIFICATION:  # section 6.4: a faulty one is not answered with another
                self._send(Notification(error.code, error.subcode, error.data))
            self._fail(f"{CODE_NAMES.get(error.code, 'error')}: {error}", now)

    # Timers

    def next_timer(self) -> float:
        return min(self._hold_at, self._keepalive_at, self._retry_at)

    def handle_timer(self, now: float) -> None:
        if now >= self._hold_at:
            self._send(Notification(HOLD_EXPIRED))
            self._fail("hold timer expired", now)
            return
        if now >= self._keepalive_at:
            self._send(Keepalive())
            self._keepalive_at = now + self.hold / 3
        if now >= self._retry_at:
            self._retry_at = float("inf")
            if self.state is BgpState.IDLE:
                self.start(now)
            elif self.state in (BgpState.CONNECT, BgpState.ACTIVE) and not self.config.passive:
                self._advance(BgpInput.RETRY)
                self.wants_connection = True

    # Pulls

    def output(self) -> bytes:
        out = bytes(self._output)
        self._output.clear()
        return out

    def events(self) -> list[BgpEvent]:
        out, self._events = self._events, []
        return out

    @property
    def quiet(self) -> bool:
        """Whether it wants nothing of its connection."""
        return not (self._output or self.hang_up or self.wants_connection)

    @property
    def has_events(self) -> bool:
        return bool(self._events)

    @property
    def established(self) -> bool:
        return self._up

    # Inside

    @property
    def _internal(self) -> bool:
        return self.config.local_as == self.config.peer_as

    def _advance(self, event: BgpInput) -> None:
        following = advance(self.state, event)
        if following is None:
            raise BgpError(
                FSM_ERROR, 0, f"{event.name.lower()} does not belong in state {self.state.value}"
            )
        self.state = following
        self.stir()

    def _send(self, message: Message) -> None:
        if isinstance(message, Update):
            four = self.peer is not None and self.peer.four_octets
            self._output += message.encode(four_octets=four, internal=self._internal)
        else:
            self._output += message.encode()
        self.stir()

    def _take(self, message: Message, now: float) -> None:
        if isinstance(message, Notification):
            name = error_name(message.code, message.subcode)
            said = f': "{message.words}"' if message.words else ""
            self._fail(f"the peer sent NOTIFICATION: {name}{said}", now)
            return
        if isinstance(message, Open):
            self._advance(BgpInput.OPEN)
            self._take_open(message, now)
            return
        if isinstance(message, RouteRefresh):
            self._advance(BgpInput.UPDATE)
            if message.bits in self.families:
                self._events.append(RefreshWanted())
            return
        self._advance(BgpInput.KEEPALIVE if isinstance(message, Keepalive) else BgpInput.UPDATE)
        self._hold_at = now + self.hold if self.hold else float("inf")
        if isinstance(message, Update):
            self._events.append(self._routes(message))
        elif self.peer is not None and not self._up:
            self._events.append(SessionUp(self.peer.router_id, self.hold, self.peer.restart))
            self._up = True

    def _routes(self, message: Update) -> RoutesChanged:
        """What a message says; IPv4 stands outside of what families are agreed on for."""
        carried = tuple(message.routes)
        known = tuple((a, prefixes) for a, prefixes in carried if prefixes[0].bits in self.families)
        faults = message.faults
        if len(known) < len(carried):
            faults = (*faults, "routes of a family that was not agreed on")
        return RoutesChanged(message.withdrawn, known, faults, message.ends)

    def _take_open(self, message: Open, now: float) -> None:
        """Section 6.2: the AS must be the configured one, the identifier not our own."""
        if message.asn != self.config.peer_as:
            raise BgpError(
                OPEN_ERROR,
                2,
                f"Bad Peer AS: {self.config.peer_address} says {message.asn}, "
                f"expected {self.config.peer_as}",
            )
        if message.router_id == self.config.router_id:
            raise BgpError(OPEN_ERROR, 3, "both ends have the same router identifier")
        if not set(message.families) & set(self.config.families):
            said = " and ".join(f"IPv{4 if b == 32 else 6}" for b in self.config.families)
            raise BgpError(OPEN_ERROR, 7, f"the peer does not carry {said} unicast")
        self.peer = message
        self.hold = min(self.config.hold, message.hold)
        self._send(Keepalive())
        self._hold_at = now + self.hold if self.hold else float("inf")
        self._keepalive_at = now + self.hold / 3 if self.hold else float("inf")

    def _fail(self, reason: str, now: float) -> None:
        self._advance(BgpInput.FAILED)
        self.hang_up = True
        self._down(reason, now)

    def _down(self, reason: str, now: float, restart: Restart | None = None) -> None:
        self.last_error, self.last_error_at = reason, now
        self.wants_connection = False
        self._hold_at = self._keepalive_at = float("inf")
        self._retry_at = now + RETRY_EVERY
        self.peer = None
        self.stir()
        if self._up:
            self._up = False
            self._events.append(SessionDown(reason, restart))
