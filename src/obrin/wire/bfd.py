"""Bidirectional Forwarding Detection, asynchronous mode (RFC 5880), one session, without I/O.

    | version 1 (3 bits), diagnostic (5) | state (2 bits), P F C A D M | multiplier | length 24 |
    | my discriminator (4) | your discriminator (4) |
    | desired min TX (4) | required min RX (4) | required min echo RX (4) |    microseconds

Three inputs with `now` in seconds: `start` and `stop`, `receive`, `handle_timer`. Two pulls:
`packets` and `events`. Authentication, echo and demand mode are not spoken; packets that want them
are dropped (sections 6.7, 6.8.6).
"""

from __future__ import annotations

import enum
from collections.abc import Callable
from dataclasses import dataclass, field
from struct import Struct
from typing import NamedTuple

from obrin.wire.errors import WireError

PORT, TTL = 3784, 255
"""RFC 5881: sections 4 and 5. Only packets that no router touched have this time to live."""
MULTIHOP_PORT = 4784
"""RFC 5883 section 5."""
SLOW = 1.0
"""Section 6.8.3: not more often than once a second while not up."""
_HEAD = Struct(">BBBBIIIII")
_POLL, _FINAL, _AUTH, _DEMAND, _MULTIPOINT = 0x20, 0x10, 0x04, 0x02, 0x01


class BfdError(WireError):
    """A control packet that section 6.8.6 says to drop."""


class BfdState(enum.IntEnum):
    ADMIN_DOWN = 0
    DOWN = 1
    INIT = 2
    UP = 3


class Diagnostic(enum.IntEnum):
    """Why the session last changed (section 4.1)."""

    NONE = 0
    TIME_EXPIRED = 1
    NEIGHBOR_DOWN = 3
    ADMIN_DOWN = 7


class Control(NamedTuple):
    """A control packet; times in microseconds."""

    state: int
    diagnostic: int
    poll: bool
    final: bool
    multiplier: int
    mine: int
    yours: int
    desired_tx: int
    required_rx: int

    def encode(self) -> bytes:
        flags = self.state << 6 | (_POLL if self.poll else 0) | (_FINAL if self.final else 0)
        return _HEAD.pack(
            1 << 5 | self.diagnostic,
            flags,
            self.multiplier,
            24,
            self.mine,
            self.yours,
            self.desired_tx,
            self.required_rx,
            0,
        )


def decode_control(data: bytes) -> Control:
    """Raises BfdError for everything that section 6.8.6 discards without a session."""
    if len(data) < 24:
        raise BfdError(f"a BFD packet of {len(data)} bytes; 24 are the least")
    first, flags, multiplier, length, mine, yours, tx, rx, _ = _HEAD.unpack_from(data)
    if first >> 5 != 1:
        raise BfdError(f"BFD version {first >> 5} is not spoken here")
    if not 24 <= length <= len(data):
        raise BfdError(f"the BFD header claims {length} bytes, {len(data)} came")
    if flags & (_AUTH | _DEMAND | _MULTIPOINT):
        raise BfdError("authentication, demand mode and multipoint are not spoken here")
    if not multiplier or not mine:
        raise BfdError("a BFD packet without a multiplier or a discriminator")
    state = flags >> 6
    if not yours and state not in (BfdState.DOWN, BfdState.ADMIN_DOWN):
        raise BfdError("a BFD packet that knows no peer and is not down")
    return Control(
        state,
        first & 0x1F,
        bool(flags & _POLL),
        bool(flags & _FINAL),
        multiplier,
        mine,
        yours,
        tx,
        rx,
    )


@dataclass(slots=True, eq=False)
class BfdSession:
    """`interval` in seconds for sending and receiving; `rng` is for jitter and nothing else."""

    discriminator: int
    interval: float
    multiplier: int
    rng: Callable[[int], bytes] = field(repr=False)
    state: BfdState = BfdState.ADMIN_DOWN
    diagnostic: Diagnostic = Diagnostic.NONE
    _yours: int = 0
    _their_tx: float = 0.0
    _their_rx: float = SLOW
    _their_multiplier: int = 3
    _polls: bool = False
    _send_at: float = float("inf")
    _dead_at: float = float("inf")
    _output: list[bytes] = field(default_factory=list)
    _events: list[BfdState] = field(default_factory=list)

    def start(self, now: float) -> None:
        """Start the session from nothing; also after a stop."""
        self.state, self.diagnostic = BfdState.DOWN, Diagnostic.NONE
        self._forget()
        self._send(now)

    def stop(self, now: float) -> None:
        """Tell the peer that we mean it."""
        if self.state is not BfdState.ADMIN_DOWN:
            self.state, self.diagnostic = BfdState.ADMIN_DOWN, Diagnostic.ADMIN_DOWN
            self._send(now)
        self._send_at = self._dead_at = float("inf")

    def receive(self, data: bytes, now: float) -> None:
        """A control packet that came with a time to live of 255. Raises BfdError."""
        packet = decode_control(data)
        if packet.yours and packet.yours != self.discriminator:
            raise BfdError("a BFD packet for another session")
        if self.state is BfdState.ADMIN_DOWN:
            return
        self._yours = packet.mine
        self._their_tx = packet.desired_tx / 1e6
        if not packet.required_rx:
            self._send_at = float("inf")  # section 6.8.7
        elif not self._their_rx:
            self._send_at = now  # it wants to hear from us again
        self._their_rx = packet.required_rx / 1e6
        self._their_multiplier = packet.multiplier
        if packet.final:
            self._polls = False
        before = self.state
        self._step(BfdState(packet.state))
        if self.state is not before:
            self._changed(now)
        # Section 6.8.4: their multiplier times the slower of what they send and we want.
        every = max(self.interval, self._their_tx)
        self._dead_at = now + self._their_multiplier * every
        if packet.poll:
            self._send(now, final=True)

    def _step(self, theirs: BfdState) -> None:
        """The state machine of section 6.8.6."""
        mine = self.state
        if theirs is BfdState.ADMIN_DOWN:
            if mine is not BfdState.DOWN:
                self.state, self.diagnostic = BfdState.DOWN, Diagnostic.NEIGHBOR_DOWN
        elif mine is BfdState.DOWN:
            if theirs is BfdState.DOWN:
                self.state = BfdState.INIT
            elif theirs is BfdState.INIT:
                self.state = BfdState.UP
        elif mine is BfdState.INIT:
            if theirs in (BfdState.INIT, BfdState.UP):
                self.state = BfdState.UP
        elif theirs is BfdState.DOWN:
            self.state, self.diagnostic = BfdState.DOWN, Diagnostic.NEIGHBOR_DOWN

    def _changed(self, now: float) -> None:
        """Tell at once; from now on as fast as agreed, by a poll (section 6.8.3)."""
        if self.state is BfdState.UP:
            self.diagnostic, self._polls = Diagnostic.NONE, True
        if self.state in (BfdState.UP, BfdState.DOWN):
            self._events.append(self.state)
        self._send(now)

    def next_timer(self) -> float:
        return min(self._send_at, self._dead_at)

    def handle_timer(self, now: float) -> None:
        if now >= self._dead_at:
            self._dead_at = float("inf")
            if self.state in (BfdState.INIT, BfdState.UP):
                self.state, self.diagnostic = BfdState.DOWN, Diagnostic.TIME_EXPIRED
                self._yours = 0
                self._changed(now)
        if now >= self._send_at:
            self._send(now)

    def packets(self) -> list[bytes]:
        """Control packets to send; the list is handed over."""
        out, self._output = self._output, []
        return out

    def events(self) -> list[BfdState]:
        """Up and down since the last call; the list is handed over."""
        out, self._events = self._events, []
        return out

    def _forget(self) -> None:
        self._yours, self._their_tx, self._their_rx, self._polls = 0, 0.0, SLOW, False
        self._dead_at = float("inf")

    def _send(self, now: float, *, final: bool = False) -> None:
        mine = self.interval if self.state is BfdState.UP else max(self.interval, SLOW)
        packet = Control(
            self.state,
            self.diagnostic,
            self._polls and not final,
            final,
            self.multiplier,
            self.discriminator,
            self._yours,
            round(mine * 1e6),
            round(self.interval * 1e6),
        )
        self._output.append(packet.encode())
        if final:
            return
        if not self._their_rx:
            # Section 6.8.7: a peer that requires nothing gets nothing but answers to its polls.
            self._send_at = float("inf")
            return
        # Section 6.8.7: earlier by up to a quarter, and at least a tenth with a multiplier of one.
        least = 0.10 if self.multiplier == 1 else 0.0
        jitter = least + self.rng(1)[0] / 255 * (0.25 - least)
        self._send_at = now + max(mine, self._their_rx) * (1 - jitter)
