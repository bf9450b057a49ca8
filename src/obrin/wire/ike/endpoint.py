"""All tunnels of one gateway: which message belongs to which, and who may start a new one."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterable

from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.hmac import HMAC

from obrin.wire.ike import exchange_init
from obrin.wire.ike.config import PeerConfig
from obrin.wire.ike.errors import IkeFormatError, IkeRefusal
from obrin.wire.ike.events import Event, Refused
from obrin.wire.ike.message import HEADER_SIZE, Header, decode_header, encode_plain, find_notify
from obrin.wire.ike.numbers import (
    FLAG_RESPONSE,
    NAT_PORT,
    NON_ESP_MARKER,
    Exchange,
    Notify,
    notify_name,
)
from obrin.wire.ike.payloads import Nonce, NotifyPayload, Payload, decode_chain
from obrin.wire.ike.sa import IkeSa
from obrin.wire.ike.transitions import State
from obrin.wire.ike.tunnel import Tunnel
from obrin.wire.ike.tunnel_state import Address, Datagram

COOKIE_THRESHOLD = 32
"""Half-open SAs beyond which an unknown peer has to return a cookie first (section 2.6)."""
_ANSWERS_KEPT = 256


class Endpoint:
    """The socket side feeds datagrams and timers, then drains datagrams and events."""

    def __init__(self, configs: Iterable[PeerConfig], rng: Callable[[int], bytes]) -> None:
        self.tunnels = {config.name: Tunnel(config, rng) for config in configs}
        self._by_peer = {
            (t.config.local_address, t.config.remote_address): t for t in self.tunnels.values()
        }
        self._rng = rng
        self._cookie_key = rng(32)
        self._events: list[Event] = []
        self._output: list[Datagram] = []
        self._answered: OrderedDict[tuple[bytes, Address], tuple[bytes, bytes]] = OrderedDict()
        self.discarded = 0

    def reconfigure(self, config: PeerConfig, now: float) -> None:
        """Give one tunnel a new configuration: its SAs end and it begins anew; others stay."""
        old = self.tunnels[config.name]
        old.close(now)
        for sa in list(old.sas):
            old.drop_sa(sa, "configured anew", now, restart=False)
        self._output += old.datagrams()
        self._events += old.events()
        del self._by_peer[old.config.local_address, old.config.remote_address]
        new = self.tunnels[config.name] = Tunnel(config, self._rng)
        self._by_peer[config.local_address, config.remote_address] = new
        if config.initiate:
            new.start(now)

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
                self.discarded += 1
                return
            datagram = datagram[4:]
        try:
            header = decode_header(datagram)
        except IkeFormatError:
            self.discarded += 1
            return
        wanted = header.spi_r if header.from_initiator else header.spi_i
        found = self._find(wanted, initiator=not header.from_initiator)
        if found is not None:
            tunnel, sa = found
            tunnel.receive(sa, header, datagram, local, remote, now)
        elif header.exchange == Exchange.IKE_SA_INIT and not header.response:
            self._new_peer(header, datagram, local, remote, now)
        else:
            self.discarded += 1

    def _find(self, spi: bytes, *, initiator: bool) -> tuple[Tunnel, IkeSa] | None:
        for tunnel in self.tunnels.values():
            for sa in tunnel.sas:
                if sa.initiator is initiator and sa.local_spi == spi:
                    return tunnel, sa
        return None

    def _new_peer(
        self, header: Header, datagram: bytes, local: Address, remote: Address, now: float
    ) -> None:
        known = self._answered.get((header.spi_i, remote))
        if known is not None and known[0] == datagram:
            self._reply(local, remote, known[1])
            return
        tunnel = self._by_peer.get((local[0], remote[0]))
        if tunnel is None:
            self.discarded += 1
            return
        try:
            payloads = decode_chain(header.next_payload, datagram, HEADER_SIZE)
            wanted = self._cookie_wanted(header.spi_i, remote, payloads)
            if wanted is not None:
                self._refuse(header.spi_i, local, remote, NotifyPayload(Notify.COOKIE, wanted))
                return
            sa = exchange_init.answer(tunnel, header, payloads, datagram, local, remote, now)
        except IkeRefusal as refusal:
            name = notify_name(refusal.notify)
            tunnel.note(Refused(tunnel.config.name, False, name, str(refusal)))
            self._refuse(header.spi_i, local, remote, NotifyPayload(refusal.notify, refusal.data))
            return
        except IkeFormatError as error:
            tunnel.discard(str(error))
            if error.notify is Notify.UNSUPPORTED_CRITICAL_PAYLOAD:
                self._refuse(header.spi_i, local, remote, NotifyPayload(error.notify))
            return
        self._answered[header.spi_i, remote] = (datagram, sa.init_response)
        while len(self._answered) > _ANSWERS_KEPT:
            self._answered.popitem(last=False)
        self._reply(local, remote, sa.init_response)

    def _cookie_wanted(
        self, spi_i: bytes, remote: Address, payloads: list[Payload]
    ) -> bytes | None:
        half_open = sum(
            sa.state is State.INIT_ANSWERED for t in self.tunnels.values() for sa in t.sas
        )
        if half_open < COOKIE_THRESHOLD:
            return None
        nonce = next((p.data for p in payloads if isinstance(p, Nonce)), b"")
        mac = HMAC(self._cookie_key, SHA256())
        mac.update(nonce + remote[0].encode() + spi_i)
        wanted = mac.finalize()
        given = find_notify(payloads, Notify.COOKIE)
        return None if given is not None and given.data == wanted else wanted

    def _refuse(self, spi_i: bytes, local: Address, remote: Address, notify: NotifyPayload) -> None:
        message = encode_plain(spi_i, bytes(8), Exchange.IKE_SA_INIT, FLAG_RESPONSE, 0, [notify])
        self._reply(local, remote, message)

    def _reply(self, local: Address, remote: Address, message: bytes) -> None:
        marker = NON_ESP_MARKER if local[1] == NAT_PORT else b""
        self._output.append(Datagram(local, remote, marker + message))

    def next_timer(self) -> float:
        return min((t.next_timer() for t in self.tunnels.values()), default=float("inf"))

    def handle_timer(self, now: float) -> None:
        for tunnel in self.tunnels.values():
            if tunnel.next_timer() <= now:
                tunnel.handle_timer(now)

    def datagrams(self) -> list[Datagram]:
        out, self._output = self._output, []
        for tunnel in self.tunnels.values():
            out += tunnel.datagrams()
        return out

    def events(self) -> list[Event]:
        out, self._events = self._events, []
        return out + [event for tunnel in self.tunnels.values() for event in tunnel.events()]
