"""All tunnels of one gateway: which message belongs to which, and who may start a new one.

To answer a first message costs more than anything else that a stranger can ask for. Those that have
a turn (admission.py) wait in a queue; `handle_timer` answers a few of them each time that it is
called, so that whatever else has come is served in between.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterable
from functools import partial
from typing import NamedTuple

from obrin.wire.agenda import Agenda
from obrin.wire.ike.admission import Admission, PeerTurns, request_for
from obrin.wire.ike.codec.errors import IkeFormatError, IkeRefusal
from obrin.wire.ike.codec.message import (
    HEADER_SIZE,
    Header,
    decode_header,
    encode_plain,
    header_of,
)
from obrin.wire.ike.codec.numbers import (
    FLAG_INITIATOR,
    FLAG_RESPONSE,
    NAT_PORT,
    NON_ESP_MARKER,
    Exchange,
    Notify,
)
from obrin.wire.ike.codec.payloads import NotifyPayload, decode_chain
from obrin.wire.ike.config import PeerConfig
from obrin.wire.ike.directory import SaDirectory
from obrin.wire.ike.events import Discarded, Event
from obrin.wire.ike.exchanges import init as exchange_init
from obrin.wire.ike.path import Address
from obrin.wire.ike.tunnel import Tunnel
from obrin.wire.ike.tunnel_state import DISCARDED_KEPT, Datagram

_ANSWERS_KEPT = 256
NO_PEER = "IKE_SA_INIT from no configured peer"
"""Why a message is not used whose sender has no tunnel here; the detail is its address."""
MOST_WAITING = 64
"""First messages that wait to be answered."""
AT_ONCE = 8
"""First messages answered before everything else has its turn again."""


class _First(NamedTuple):
    """A first message that has a turn."""

    header: Header
    datagram: bytes
    local: Address
    remote: Address


class Endpoint:
    """The socket side feeds datagrams and timers, then drains datagrams and events."""

    def __init__(self, configs: Iterable[PeerConfig], rng: Callable[[int], bytes]) -> None:
        self._directory = SaDirectory()
        self.tunnels: dict[str, Tunnel] = {}
        self._agenda: Agenda[str] = Agenda(self._timer_of)
        self._speaking: dict[str, None] = {}
        self._reporting: dict[str, None] = {}
        for config in configs:
            self._make(config, rng)
        self._by_peer = {
            (t.config.local_address, t.config.remote_address): t for t in self.tunnels.values()
        }
        self._rng = rng
        self._admission = Admission(rng)
        self._turns: dict[str, PeerTurns] = {}
        self._waiting: OrderedDict[tuple[bytes, Address], _First] = OrderedDict()
        self._waiting_since = float("inf")
        self._events: list[Event] = []
        self._output: list[Datagram] = []
        self._answered: OrderedDict[tuple[bytes, Address], tuple[bytes, bytes]] = OrderedDict()
        self.discarded = 0

    def _make(self, config: PeerConfig, rng: Callable[[int], bytes]) -> Tunnel:
        made = self.tunnels[config.name] = Tunnel(config, rng, self._directory)
        made.stir = partial(self._stir, config.name)
        return made

    def _stir(self, name: str) -> None:
        """A tunnel has something to say, or another time to be woken at."""
        self._agenda.stir(name)
        self._speaking[name] = None
        self._reporting[name] = None

    def reconfigure(self, config: PeerConfig, now: float) -> None:
        """Give one tunnel a new configuration: its SAs end and it begins anew; others stay.
        Another certificate is shown at the next authentication, and ends nothing."""
        if self.tunnels[config.name].goes_on_with(config, now):
            self.tunnels[config.name].config = config
            return
        self.remove(config.name, "configured anew", now)
        self.add(config, now)

    def begin_anew(self, name: str, now: float) -> None:
        """End one tunnel's SAs and start again, so that both ends are authenticated anew."""
        config = self.tunnels[name].config
        self.remove(name, "begun anew", now)
        self.add(config, now)

    def add(self, config: PeerConfig, now: float) -> None:
        """One tunnel more; it begins at once where this end does."""
        new = self._make(config, self._rng)
        self._by_peer[config.local_address, config.remote_address] = new
        if config.initiate:
            new.start(now)

    def remove(self, name: str, reason: str, now: float) -> None:
        """End one tunnel's SAs, telling the peer, and forget it."""
        old = self.tunnels.pop(name)
        self._agenda.forget(name)
        self._turns.pop(name, None)
        old.close(now)
        for sa in list(old.sas):
            old.drop_sa(sa, reason, now, restart=False)
        self._output += old.datagrams()
        self._events += old.events()
        ends = old.config.local_address, old.config.remote_address
        if self._by_peer.get(ends) is old:
            del self._by_peer[ends]

    def start(self, now: float) -> None:
        """Start every tunnel that this end initiates."""
        for tunnel in self.tunnels.values():
            if tunnel.config.initiate:
                tunnel.start(now)

    def close(self, now: float) -> None:
        for tunnel in self.tunnels.values():
            tunnel.close(now)

    def receive(self, datagram: bytes, local: Address, remote: Address, now: float) -> bool:
        """An IKE message from the network (with its marker at port 4500); never raises. Whether it
        may have changed anything: if not, at most an answer is to be fetched by `datagrams`."""
        if local[1] == NAT_PORT:
            if datagram[:4] != NON_ESP_MARKER:
                self._discard("no marker at port 4500")
                return False
            datagram = datagram[4:]
        try:
            header = decode_header(datagram)
        except IkeFormatError as error:
            if error.notify is Notify.INVALID_MAJOR_VERSION:
                self._other_version(header_of(datagram), local, remote)
            self._discard("cannot be read", str(error))
            return False
        found = self._directory.find(header, datagram)
        if found is not None:
            name, sa = found
            self._stir(name)
            self.tunnels[name].receive(sa, header, datagram, local, remote, now)
            return True
        if header.exchange == Exchange.IKE_SA_INIT and not header.response:
            return self._new_peer(_First(header, datagram, local, remote), now)
        self._discard("no such IKE SA")
        return False

    def _discard(self, reason: str, detail: str = "") -> None:
        self.discarded += 1
        if len(self._events) < DISCARDED_KEPT:
            self._events.append(Discarded("", reason, detail))

    def _other_version(self, header: Header, local: Address, remote: Address) -> None:
        """Section 2.5: a request of a higher major version is answered with the one we speak."""
        if header.response or header.version >> 4 < 2 or (local[0], remote[0]) not in self._by_peer:
            return
        flags = FLAG_RESPONSE | (0 if header.from_initiator else FLAG_INITIATOR)
        notify = NotifyPayload(Notify.INVALID_MAJOR_VERSION)
        message = encode_plain(
            header.spi_i, header.spi_r, header.exchange, flags, header.message_id, [notify]
        )
        self._reply(local, remote, message)

    def _new_peer(self, first: _First, now: float) -> bool:
        """Whether it waits for its answer now."""
        header, remote = first.header, first.remote
        if header.spi_r != bytes(8) or header.message_id:
            self._discard("an IKE_SA_INIT that is not a first message")
            return False
        key = header.spi_i, remote
        known = self._answered.get(key)
        if known is not None and known[0] == first.datagram:
            self._reply(first.local, remote, known[1])
            return False
        tunnel = self._by_peer.get((first.local[0], remote[0]))
        if tunnel is None:
            self._discard(NO_PEER, remote[0])
            return False
        if key in self._waiting:
            return False
        name = tunnel.config.name
        turns = self._turns.get(name) or self._turns.setdefault(name, PeerTurns())
        try:
            wanted = self._admission.cookie_wanted(turns, header, first.datagram, remote, now)
        except IkeFormatError as error:
            self._discard("cannot be answered", str(error))
            return False
        if wanted is not None:
            self._reply(first.local, remote, request_for(wanted, header.spi_i))
            return False
        if len(self._waiting) == MOST_WAITING:
            self._waiting.popitem(last=False)
        self._waiting[key] = first
        self._waiting_since = min(self._waiting_since, now)
        return True

    def _answer_one(self, now: float) -> None:
        """The one that has waited longest; its tunnel may be gone by now."""
        key, first = self._waiting.popitem(last=False)
        self._waiting_since = now if self._waiting else float("inf")
        header, datagram, local, remote = first
        tunnel = self._by_peer.get((local[0], remote[0]))
        if tunnel is None:
            return
        tunnel.stir()
        try:
            payloads = decode_chain(header.next_payload, datagram, HEADER_SIZE)
            sa = exchange_init.answer(tunnel, header, payloads, datagram, local, remote, now)
        except IkeRefusal as refusal:
            tunnel.note_refusal(refusal)
            self._refuse(first, NotifyPayload(refusal.notify, refusal.data))
            return
        except IkeFormatError as error:
            tunnel.discard("cannot be read", str(error))
            if error.notify is Notify.UNSUPPORTED_CRITICAL_PAYLOAD:
                self._refuse(first, NotifyPayload(error.notify, error.data))
            return
        self._answered[key] = (datagram, sa.init_response)
        while len(self._answered) > _ANSWERS_KEPT:
            self._answered.popitem(last=False)
        self._reply(local, remote, sa.init_response)

    def _refuse(self, first: _First, notify: NotifyPayload) -> None:
        message = encode_plain(
            first.header.spi_i, bytes(8), Exchange.IKE_SA_INIT, FLAG_RESPONSE, 0, [notify]
        )
        self._reply(first.local, first.remote, message)

    def _reply(self, local: Address, remote: Address, message: bytes) -> None:
        marker = NON_ESP_MARKER if local[1] == NAT_PORT else b""
        self._output.append(Datagram(local, remote, marker + message))

    def next_timer(self) -> float:
        return min(self._agenda.next(), self._waiting_since)

    def _timer_of(self, name: str) -> float | None:
        tunnel = self.tunnels.get(name)
        return None if tunnel is None else tunnel.next_timer()

    def handle_timer(self, now: float) -> None:
        for name in self._agenda.due(now):
            tunnel = self.tunnels[name]
            if tunnel.next_timer() <= now:
                tunnel.handle_timer(now)
                self._stir(name)
        for _ in range(min(AT_ONCE, len(self._waiting))):
            self._answer_one(now)

    def datagrams(self) -> list[Datagram]:
        out, self._output = self._output, []
        for tunnel in self._taken(self._speaking):
            out += tunnel.datagrams()
        return out

    def events(self) -> list[Event]:
        out, self._events = self._events, []
        for tunnel in self._taken(self._reporting):
            out += tunnel.events()
        return out

    def _taken(self, names: dict[str, None]) -> list[Tunnel]:
        """The tunnels of these names; nothing is left of them."""
        found = [self.tunnels[name] for name in names if name in self.tunnels]
        names.clear()
        return found
