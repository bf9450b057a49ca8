"""All tunnels of one gateway: which message belongs to which, and who may start a new one."""

from __future__ import annotations

import hmac as _hmac
from collections import OrderedDict
from collections.abc import Callable, Iterable
from functools import partial

from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.hmac import HMAC

from obrin.wire.agenda import Agenda
from obrin.wire.ike import exchange_init
from obrin.wire.ike.config import PeerConfig
from obrin.wire.ike.directory import SaDirectory
from obrin.wire.ike.errors import IkeFormatError, IkeRefusal
from obrin.wire.ike.events import Discarded, Event
from obrin.wire.ike.message import (
    HEADER_SIZE,
    Header,
    decode_header,
    encode_plain,
    find_notify,
    header_of,
)
from obrin.wire.ike.numbers import (
    FLAG_INITIATOR,
    FLAG_RESPONSE,
    NAT_PORT,
    NON_ESP_MARKER,
    Exchange,
    Notify,
)
from obrin.wire.ike.path import Address
from obrin.wire.ike.payloads import Nonce, NotifyPayload, Payload, decode_chain
from obrin.wire.ike.tunnel import Tunnel
from obrin.wire.ike.tunnel_state import DISCARDED_KEPT, Datagram

COOKIE_THRESHOLD = 32
"""Half-open SAs beyond which an unknown peer has to return a cookie first (section 2.6)."""
_ANSWERS_KEPT = 256


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
        self._cookie_key = rng(32)
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
        """Give one tunnel a new configuration: its SAs end and it begins anew; others stay. Another
        certificate is shown at the next authentication, and ends nothing."""
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

    def receive(self, datagram: bytes, local: Address, remote: Address, now: float) -> None:
        """An IKE message from the network (with its marker at port 4500); never raises."""
        if local[1] == NAT_PORT:
            if datagram[:4] != NON_ESP_MARKER:
                self._discard("no marker at port 4500")
                return
            datagram = datagram[4:]
        try:
            header = decode_header(datagram)
        except IkeFormatError as error:
            if error.notify is Notify.INVALID_MAJOR_VERSION:
                self._other_version(header_of(datagram), local, remote)
            self._discard("cannot be read", str(error))
            return
        found = self._directory.find(header, datagram)
        if found is not None:
            name, sa = found
            self._stir(name)
            self.tunnels[name].receive(sa, header, datagram, local, remote, now)
        elif header.exchange == Exchange.IKE_SA_INIT and not header.response:
            self._new_peer(header, datagram, local, remote, now)
        else:
            self._discard("no such IKE SA")

    def _discard(self, reason: str, detail: str = "") -> None:
        self.discarded += 1
        if len(self._events) < DISCARDED_KEPT:
            self._events.append(Discarded("", reason, detail))

    def _other_version(self, header: Header, local: Address, remote: Address) -> None:
        """Section 2.5: a request of a higher major version is told which one we speak."""
        if header.response or header.version >> 4 < 2 or (local[0], remote[0]) not in self._by_peer:
            return
        flags = FLAG_RESPONSE | (0 if header.from_initiator else FLAG_INITIATOR)
        notify = NotifyPayload(Notify.INVALID_MAJOR_VERSION)
        message = encode_plain(
            header.spi_i, header.spi_r, header.exchange, flags, header.message_id, [notify]
        )
        self._reply(local, remote, message)

    def _new_peer(
        self, header: Header, datagram: bytes, local: Address, remote: Address, now: float
    ) -> None:
        if header.spi_r != bytes(8) or header.message_id:
            self._discard("an IKE_SA_INIT that is not a first message")
            return
        known = self._answered.get((header.spi_i, remote))
        if known is not None and known[0] == datagram:
            self._reply(local, remote, known[1])
            return
        tunnel = self._by_peer.get((local[0], remote[0]))
        if tunnel is None:
            self._discard("IKE_SA_INIT from no configured peer", remote[0])
            return
        tunnel.stir()
        try:
            payloads = decode_chain(header.next_payload, datagram, HEADER_SIZE)
            wanted = self._cookie_wanted(header.spi_i, remote, payloads)
            if wanted is not None:
                self._refuse(header.spi_i, local, remote, NotifyPayload(Notify.COOKIE, wanted))
                return
            sa = exchange_init.answer(tunnel, header, payloads, datagram, local, remote, now)
        except IkeRefusal as refusal:
            tunnel.note_refusal(refusal)
            self._refuse(header.spi_i, local, remote, NotifyPayload(refusal.notify, refusal.data))
            return
        except IkeFormatError as error:
            tunnel.discard("cannot be read", str(error))
            if error.notify is Notify.UNSUPPORTED_CRITICAL_PAYLOAD:
                notify = NotifyPayload(error.notify, error.data)
                self._refuse(header.spi_i, local, remote, notify)
            return
        self._answered[header.spi_i, remote] = (datagram, sa.init_response)
        while len(self._answered) > _ANSWERS_KEPT:
            self._answered.popitem(last=False)
        self._reply(local, remote, sa.init_response)

    def _cookie_wanted(
        self, spi_i: bytes, remote: Address, payloads: list[Payload]
    ) -> bytes | None:
        if self._directory.half_open < COOKIE_THRESHOLD:
            return None
        nonce = next((p.data for p in payloads if isinstance(p, Nonce)), b"")
        mac = HMAC(self._cookie_key, SHA256())
        mac.update(nonce + remote[0].encode() + spi_i)
        wanted = mac.finalize()
        given = find_notify(payloads, Notify.COOKIE)
        right = given is not None and _hmac.compare_digest(given.data, wanted)
        return None if right else wanted

    def _refuse(self, spi_i: bytes, local: Address, remote: Address, notify: NotifyPayload) -> None:
        message = encode_plain(spi_i, bytes(8), Exchange.IKE_SA_INIT, FLAG_RESPONSE, 0, [notify])
        self._reply(local, remote, message)

    def _reply(self, local: Address, remote: Address, message: bytes) -> None:
        marker = NON_ESP_MARKER if local[1] == NAT_PORT else b""
        self._output.append(Datagram(local, remote, marker + message))

    def next_timer(self) -> float:
        return self._agenda.next()

    def _timer_of(self, name: str) -> float | None:
        tunnel = self.tunnels.get(name)
        return None if tunnel is None else tunnel.next_timer()

    def handle_timer(self, now: float) -> None:
        for name in self._agenda.due(now):
            tunnel = self.tunnels[name]
            if tunnel.next_timer() <= now:
                tunnel.handle_timer(now)
                self._stir(name)

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
