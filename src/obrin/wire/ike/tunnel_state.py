"""What a tunnel remembers, and the few things that every exchange does to it.

The exchange modules act on this; `tunnel.py` builds on it and calls them.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field, replace

from cryptography.x509 import Certificate

from obrin.core.address.prefix import Address as Ip
from obrin.core.ipsec.proposal import Proposal
from obrin.core.ipsec.selectors import Scope
from obrin.wire.agenda import nobody
from obrin.wire.ike.child import ChildSa
from obrin.wire.ike.codec.errors import IkeFormatError, IkeRefusal
from obrin.wire.ike.codec.fragments import Message
from obrin.wire.ike.codec.numbers import NAT_PORT, NON_ESP_MARKER, PORT, Exchange, notify_name
from obrin.wire.ike.codec.payloads import Payload
from obrin.wire.ike.config import PeerConfig
from obrin.wire.ike.crypto.dh import KeyPair
from obrin.wire.ike.crypto.keys import padded_key
from obrin.wire.ike.directory import SaDirectory
from obrin.wire.ike.events import ChildDown, Discarded, Event, IkeDown, Refused
from obrin.wire.ike.exchanges.scope import next_scope
from obrin.wire.ike.path import Address, Path
from obrin.wire.ike.sa import IkeSa, ResponseHandler
from obrin.wire.ike.transitions import State, Step

KEEPALIVE_EVERY = 20.0  # RFC 3948 section 4
DISCARDED_KEPT = 256


RETRY_AFTER = 2.0
OVERLAP = 30.0
"""Seconds for which a replaced SA may linger when the peer's delete does not come."""
_REPLACED_STATES = (State.ESTABLISHED, State.DELETING)


@dataclass(frozen=True, slots=True)
class Datagram:
    """A UDP datagram to send; at port 4500 the endpoint has put the marker in front."""

    source: Address
    destination: Address
    data: bytes


@dataclass(slots=True)
class Attempt:
    """What an initiator remembers between asking and being answered.

    `sa` is the one that asks, `requests` what it asked last in each group. Nothing that comes back
    is authentic before IKE_AUTH: `refusal` is remembered, not believed. `met` are the wishes that
    were met at once; it is `stale` when one came since.
    """

    sa: IkeSa
    offers: tuple[Proposal, ...]
    group: int
    key_pairs: dict[int, KeyPair] = field(default_factory=dict)
    requests: dict[int, bytes] = field(default_factory=dict)
    cookie: bytes = b""
    met: set[int] = field(default_factory=set)
    stale: bool = False
    answers: int = 0
    refusal: str = ""


@dataclass(slots=True)
class Rekey:
    """Our own rekey of a child while it waits; `rival` is one the peer began meanwhile."""

    sa: IkeSa
    rival: ChildSa | None = None


@dataclass(slots=True, eq=False)
class TunnelState:
    """`rng(n)` gives n random bytes; nothing else here is random and nothing reads a clock.

    `wanted_groups` are those that the peer asked for in rekeys, by protocol (section 1.3).
    `outbounds` are the child SAs that are sent by, each for its scope; at `create_at` another one
    is asked for, by the IKE SA `creating` while it is. `more_possible`: the peer took a part of
    what was offered and would take more; what it `refused` is not asked again. `peer_chain` are the
    certificates by which the peer proved last who it is.
    """

    config: PeerConfig
    rng: Callable[[int], bytes] = field(repr=False)
    directory: SaDirectory = field(default_factory=SaDirectory, repr=False)
    sas: list[IkeSa] = field(default_factory=list)
    current: IkeSa | None = None
    children: dict[bytes, ChildSa] = field(default_factory=dict)
    outbounds: dict[Scope, ChildSa] = field(default_factory=dict)
    creating: IkeSa | None = None
    create_at: float = float("inf")
    more_possible: bool = False
    refused: set[Scope] = field(default_factory=set)
    attempt: Attempt | None = None
    rekeys: dict[bytes, Rekey] = field(default_factory=dict)
    wanted_groups: dict[int, int] = field(default_factory=dict)
    last_heard: float = 0.0
    restart_at: float = float("inf")
    childless_at: float = float("inf")
    peer_chain: tuple[Certificate, ...] = ()
    _padded: dict[int, bytes] = field(default_factory=dict, repr=False)
    _output: deque[Datagram] = field(default_factory=deque)
    _events: deque[Event] = field(default_factory=deque)
    stir: Callable[[], None] = nobody

    @property
    def path(self) -> Path:
        """Say where traffic goes: the established SA's path, else that of the newest attempt."""
        if self.current is not None:
            return self.current.path
        return self.sas[-1].path if self.sas else self.first_path()

    @property
    def outbound(self) -> ChildSa | None:
        """Any of those that are sent by; None when nothing can be."""
        return next(iter(self.outbounds.values()), None)

    def use(self, child: ChildSa) -> None:
        """Send by this one what it is for."""
        self.outbounds[child.scope] = child

    def sending(self, source: Ip, destination: Ip) -> ChildSa | None:
        """The child SA for a packet."""
        if len(self.outbounds) == 1:
            return self.outbound
        return next((c for c in self.outbounds.values() if c.takes(source, destination)), None)

    def wanted(self) -> Scope | None:
        """What another child SA is to be asked for: by the end that starts, where there are to be
        several."""
        if not self.config.initiate or not (self.config.each_pair or self.more_possible):
            return None
        return next_scope(self.config, self.outbounds, self.refused)

    def goes_on_with(self, config: PeerConfig, now: float) -> bool:
        """Whether a configuration asks nothing anew of a peer that is authenticated: only what
        this end proves itself by and whom it believes differ, and the peer is still one of
        these."""
        new, identity = config.credential, str(config.remote_identity)
        return (
            new is not None
            and self.established
            and config == replace(self.config, credential=new)
            and new.believes(self.peer_chain, identity, now)
        )

    def note_refusal(self, problem: IkeFormatError | IkeRefusal, rekey: str = "") -> None:
        """Report that the own end refuses, or cannot read, what the peer said."""
        name = notify_name(problem.notify)
        self.note(Refused(self.config.name, False, name, str(problem), rekey))

    def first_path(self) -> Path:
        """Addresses and ports as configured, before translators are detected."""
        return Path((self.config.local_address, PORT), (self.config.remote_address, PORT))

    def padded_key(self, number: int) -> bytes:
        """The pre-shared key in the form that proofs need, made once for each prf."""
        if number not in self._padded:
            self._padded[number] = padded_key(number, self.config.key)
        return self._padded[number]

    def add_sa(self, sa: IkeSa) -> None:
        self.sas.append(sa)
        self.directory.add(self.config.name, sa)

    def _forget_sa(self, sa: IkeSa) -> None:
        sa.step(Step.CLOSE)
        self.sas.remove(sa)
        self.directory.remove(sa)

    def send(self, sa: IkeSa, message: Message) -> None:
        """All datagrams of a message; none is good, too."""
        path = sa.path
        marker = NON_ESP_MARKER if path.local[1] == NAT_PORT else b""
        self._output += [Datagram(path.local, path.remote, marker + part) for part in message]
        self.stir()

    def request(
        self,
        sa: IkeSa,
        exchange: Exchange,
        payloads: list[Payload],
        handler: ResponseHandler,
        now: float,
    ) -> None:
        self.send(sa, sa.request(exchange, payloads, handler, now))

    def note(self, event: Event) -> None:
        self._events.append(event)
        self.stir()

    def discard(self, reason: str, detail: str = "") -> None:
        """A message that gets no answer. Few reasons, so that they can be counted."""
        if len(self._events) < DISCARDED_KEPT:
            self.note(Discarded(self.config.name, reason, detail))

    def drop_child(self, child: ChildSa, reason: str, now: float) -> None:
        if self.children.pop(child.spi_in, None) is None:
            return
        if not self.children:
            self.childless_at = now
        if self.outbounds.get(child.scope) is child:
            del self.outbounds[child.scope]
            others = (c for c in reversed(self.children.values()) if c.scope == child.scope)
            heir = next((c for c in others if not c.replaced), None)
            if heir is not None:
                self.use(heir)
            elif self.children:
                self.create_at = self.retry_at(now)
        self.note(ChildDown(self.config.name, child, reason))

    def drop_sa(self, sa: IkeSa, reason: str, now: float, *, restart: bool = True) -> None:
        """Forget an IKE SA; with the current one go its children."""
        if sa not in self.sas:
            return
        self._forget_sa(sa)
        for spi, rekey in list(self.rekeys.items()):
            if rekey.sa is sa:
                # The request went with its SA; the successor, if there is one, asks again.
                del self.rekeys[spi]
                if spi in self.children:
                    self.children[spi].rekey_at = self.retry_at(now)
        if sa is self.creating:
            self.creating, self.create_at = None, self.retry_at(now)
        if sa is self.current:
            self.current = None
            self.create_at, self.more_possible = float("inf"), False
            self.refused.clear()
            for other in [o for o in self.sas if o.state in _REPLACED_STATES]:
                self._forget_sa(other)
            for child in list(self.children.values()):
                self.drop_child(child, reason, now)
        attempt = self.attempt
        if attempt is not None and sa is attempt.sa:
            self.attempt = None
        elif attempt is not None and not self._waits(attempt):
            self.drop_sa(attempt.sa, reason, now, restart=restart)
            return
        if self.current is None and not self.sas:
            self.note(IkeDown(self.config.name, reason))
            if restart and self.config.initiate:
                self.restart_at = now + self.config.restart_delay

    def _waits(self, attempt: Attempt) -> bool:
        """Whether an attempt still asks, or an answer to it is being tried."""
        return attempt.sa.outstanding is not None or len(self.siblings(attempt.sa)) > 0

    def siblings(self, sa: IkeSa) -> list[IkeSa]:
        """The other SAs of the same attempt of ours."""
        return [o for o in self.sas if o is not sa and o.initiator and o.spi_i == sa.spi_i]

    def authenticated(self, sa: IkeSa) -> None:
        """Take this SA as the peer's: other answers to the same attempt are not (section 2.4)."""
        self.current = sa
        for other in self.siblings(sa):
            self._forget_sa(other)
        if self.attempt is not None and self.attempt.sa not in self.sas:
            self.attempt = None

    def datagrams(self) -> list[Datagram]:
        """What to send now; the list is handed over."""
        out = list(self._output)
        self._output.clear()
        return out

    def events(self) -> list[Event]:
        """What happened since the last call; the list is handed over."""
        out = list(self._events)
        self._events.clear()
        return out

    def retry_at(self, now: float) -> float:
        """Say when to try again what was refused for the moment; random, so that the two ends
        part."""
        return now + RETRY_AFTER * (1 + self.rng(1)[0] / 255)

    def retire(self, old: IkeSa | ChildSa, now: float) -> None:
        """A replaced SA goes by itself, should its delete be lost."""
        old.expires_at = min(old.expires_at, now + OVERLAP + self.config.liveness.give_up)
        self.stir()

    @property
    def established(self) -> bool:
        return self.current is not None and self.current.state is State.ESTABLISHED
