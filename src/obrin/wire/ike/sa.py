"""One IKE SA: its SPIs, keys, ciphers, and the window of one request each way.

RFC 7296 section 2.3: with a window of one, each end has at most one request of its own without
an answer, and keeps its last answer for the case that the peer repeats the request.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field

from obrin.core.ipsec.liveness import Liveness
from obrin.core.ipsec.proposal import Proposal
from obrin.core.ipsec.registry import Algorithm, Kind
from obrin.wire.ike.codec.errors import IkeNotAuthentic
from obrin.wire.ike.codec.fragments import SMALLEST, USUAL, Assembly, Message, encode_message
from obrin.wire.ike.codec.message import Header, MessageCipher, make_cipher, open_protected
from obrin.wire.ike.codec.numbers import FLAG_INITIATOR, FLAG_RESPONSE, PayloadType
from obrin.wire.ike.codec.payloads import Payload
from obrin.wire.ike.crypto.keys import IkeKeys
from obrin.wire.ike.path import Path
from obrin.wire.ike.transitions import State, Step, advance

WHOLE_TRIES = 2
"""Sends of a message before it is cut into the smallest fragments."""
ResponseHandler = Callable[[list[Payload], float], None]


@dataclass(slots=True, kw_only=True)
class Outstanding:
    """A request of ours that waits for its answer."""

    message_id: int
    exchange: int
    message: Message
    payloads: list[Payload]
    handler: ResponseHandler
    sends: int
    next_at: float


@dataclass(slots=True)
class Queued:
    exchange: int
    payloads: list[Payload]
    handler: ResponseHandler


@dataclass(slots=True, eq=False, kw_only=True)
class IkeSa:
    """`initiator` tells whether this end made the SA; it never changes during its life.

    `also_answered` are IKE_SA_INIT answers that give the same keys as `init_response` and are not
    the same: one of all of them is what the peer signs. `fragments` is whether both ends take
    messages in fragments, `limit` the largest IP packet that one of ours makes, and `pieces` what
    has come of a request (False) or an answer (True), with its message ID. `arrived` are the
    datagrams of the request that is coming, `repeats` how often the last one came again.
    """

    initiator: bool
    spi_i: bytes
    spi_r: bytes
    liveness: Liveness
    rng: Callable[[int], bytes] = field(repr=False)
    path: Path
    state: State = State.IDLE
    chosen: Proposal | None = None
    keys: IkeKeys | None = field(default=None, repr=False)
    nonce_i: bytes = field(default=b"", repr=False)
    nonce_r: bytes = field(default=b"", repr=False)
    init_request: bytes = field(default=b"", repr=False)
    init_response: bytes = field(default=b"", repr=False)
    also_answered: list[bytes] = field(default_factory=list, repr=False)
    peer_hashes: tuple[int, ...] = ()
    rekey_at: float = float("inf")
    expires_at: float = float("inf")
    next_id: int = 0
    expected_id: int = 0
    last_request: Message = field(default=(), repr=False)
    last_response: Message = field(default=(), repr=False)
    arrived: list[bytes] = field(default_factory=list, repr=False)
    repeats: int = 0
    last_answer: tuple[int, int, list[Payload]] = field(default=(0, 0, []), repr=False)
    fragments: bool = False
    limit: int = USUAL
    pieces: dict[bool, tuple[int, Assembly]] = field(default_factory=dict, repr=False)
    outstanding: Outstanding | None = None
    rekeying: bool = False
    queue: deque[Queued] = field(default_factory=deque)
    send_cipher: MessageCipher | None = field(default=None, repr=False)
    receive_cipher: MessageCipher | None = field(default=None, repr=False)

    @property
    def local_spi(self) -> bytes:
        return self.spi_i if self.initiator else self.spi_r

    @property
    def peer_spi(self) -> bytes:
        return self.spi_r if self.initiator else self.spi_i

    def step(self, step: Step) -> None:
        self.state = advance(self.state, step)

    def algorithm(self, kind: Kind) -> Algorithm:
        """The agreed algorithm of a kind that every IKE SA has."""
        found = self.chosen.one(kind) if self.chosen else None
        if found is None:
            raise AssertionError(f"an IKE SA without {kind.name.lower()}")
        return found

    @property
    def integrity(self) -> Algorithm | None:
        """The agreed integrity algorithm; None with a combined-mode cipher."""
        return self.chosen.one(Kind.INTEGRITY) if self.chosen else None

    def install(self, keys: IkeKeys) -> None:
        """Take the derived keys and set up both ciphers."""
        self.keys = keys
        encryption = self.algorithm(Kind.ENCRYPTION)
        first = make_cipher(encryption, self.integrity, keys.ei, keys.ai, self.rng)
        second = make_cipher(encryption, self.integrity, keys.er, keys.ar, self.rng)
        self.send_cipher, self.receive_cipher = (
            (first, second) if self.initiator else (second, first)
        )

    def request(
        self, exchange: int, payloads: list[Payload], handler: ResponseHandler, now: float
    ) -> Message:
        """Send a request now, or queue it behind the one that waits. The datagrams, if sent."""
        if self.outstanding is not None:
            self.queue.append(Queued(exchange, payloads, handler))
            return ()
        message = self._protect(exchange, self.next_id, payloads, response=False)
        self.track(exchange, message, payloads, handler, now)
        return message

    def track(
        self,
        exchange: int,
        message: Message,
        payloads: list[Payload],
        handler: ResponseHandler,
        now: float,
    ) -> None:
        """Remember a request just sent, under the next message ID."""
        self.outstanding = Outstanding(
            message_id=self.next_id,
            exchange=exchange,
            message=message,
            payloads=payloads,
            handler=handler,
            sends=1,
            next_at=now + self.liveness.wait_after(1),
        )
        self.next_id += 1

    def cut_smaller(self) -> None:
        """The request that waits may be too large for its path: into the smallest fragments, where
        it can be cut (RFC 7383 section 2.5.2)."""
        waiting = self.outstanding
        if waiting is None or not self.fragments or self.limit <= SMALLEST:
            return
        self.limit = SMALLEST
        waiting.message = self._protect(
            waiting.exchange, waiting.message_id, waiting.payloads, response=False
        )

    def respond(self, exchange: int, message_id: int, payloads: list[Payload]) -> Message:
        """The answer to a request, kept for repeats."""
        self.last_answer = exchange, message_id, payloads
        self.last_response = self._protect(exchange, message_id, payloads, response=True)
        return self.last_response

    def respond_again(self, limit: int = USUAL) -> Message:
        """The same answer; smaller where the peer cuts its requests so, or asks too often."""
        self.repeats += 1
        limit = SMALLEST if self.repeats > WHOLE_TRIES else max(limit, SMALLEST)
        if self.fragments and limit < self.limit:
            self.limit = limit
            self.last_response = self._protect(*self.last_answer, response=True)
        return self.last_response

    def assemble(self, datagram: bytes, header: Header) -> tuple[int, bytes] | None:
        """Open it as `open_protected` does; None while fragments are missing.

        Raises IkeFormatError only, and nothing about the message is authentic then.
        """
        if self.receive_cipher is None:
            raise IkeNotAuthentic("a protected message before there are keys")
        if header.next_payload != PayloadType.SKF:
            return open_protected(self.receive_cipher, datagram, header)
        if not self.fragments:
            raise IkeNotAuthentic("a fragment, and fragments were not agreed")
        message_id, found = self.pieces.get(header.response, (-1, Assembly()))
        if message_id != header.message_id:
            found = Assembly()
        found.take(self.receive_cipher, datagram, header)
        self.pieces[header.response] = header.message_id, found
        if not found.whole:
            return None
        del self.pieces[header.response]
        self.limit = max(SMALLEST, min(self.limit, found.largest))
        return found.first, found.plain()

    def next_queued(self, now: float) -> Message:
        if self.outstanding is None and self.queue:
            queued = self.queue.popleft()
            return self.request(queued.exchange, queued.payloads, queued.handler, now)
        return ()

    def _protect(
        self, exchange: int, message_id: int, payloads: list[Payload], *, response: bool
    ) -> Message:
        if self.send_cipher is None:
            raise AssertionError("a protected message before there are keys")
        flags = (FLAG_INITIATOR if self.initiator else 0) | (FLAG_RESPONSE if response else 0)
        limit = self.limit if self.fragments else None
        return encode_message(
            self.send_cipher, self.spi_i, self.spi_r, exchange, flags, message_id, payloads, limit
        )
