"""One tunnel seen from one end: its IKE SA (two while one replaces the other) and its children.

Three inputs, each with `now` in seconds on any steady scale: a call (`start`, `close`), a message
(`receive`), a timer (`handle_timer`). Three pulls: `datagrams`, `next_timer`, `events`. What the
messages mean stands in the exchange modules, what they act on in `tunnel_state.py`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from obrin.wire.ike.child import ChildSa
from obrin.wire.ike.codec.errors import IkeFormatError, IkeNotAuthentic, IkeRefusal
from obrin.wire.ike.codec.fragments import Assembly, number_of
from obrin.wire.ike.codec.message import Header, decode_inside, find_notify
from obrin.wire.ike.codec.numbers import Exchange, Notify, PayloadType
from obrin.wire.ike.codec.payloads import NotifyPayload, Payload
from obrin.wire.ike.exchanges import another as exchange_another
from obrin.wire.ike.exchanges import auth as exchange_auth
from obrin.wire.ike.exchanges import child as exchange_child
from obrin.wire.ike.exchanges import info as exchange_info
from obrin.wire.ike.exchanges import init as exchange_init
from obrin.wire.ike.exchanges import rekey as exchange_rekey
from obrin.wire.ike.path import Address
from obrin.wire.ike.sa import WHOLE_TRIES, IkeSa
from obrin.wire.ike.transitions import State
from obrin.wire.ike.tunnel_state import KEEPALIVE_EVERY, Datagram, TunnelState

# Requests inside an IKE SA: (exchange, states in which it is legal) -> handler.
RequestHandler = Callable[[TunnelState, IkeSa, list[Payload], float], list[Payload]]
_REQUESTS: dict[int, tuple[frozenset[State], RequestHandler]] = {
    Exchange.IKE_AUTH: (frozenset({State.INIT_ANSWERED}), exchange_auth.answer),
    Exchange.CREATE_CHILD_SA: (
        frozenset({State.ESTABLISHED, State.DELETING}),
        exchange_child.answer,
    ),
    Exchange.INFORMATIONAL: (
        frozenset({State.ESTABLISHED, State.DELETING}),
        exchange_info.answer,
    ),
}


@dataclass(slots=True, eq=False)
class Tunnel(TunnelState):
    """See the head of this file."""

    # Calls

    def start(self, now: float) -> None:
        """Begin IKE_SA_INIT."""
        self.restart_at = float("inf")
        self.stir()
        exchange_init.start(self, now)

    def close(self, now: float) -> None:
        """Delete the IKE SA and everything under it, telling the peer."""
        self.restart_at = float("inf")
        self.stir()
        for sa in list(self.sas):
            if sa.state is State.ESTABLISHED:
                exchange_info.delete_sa(self, sa, now)
            elif sa.state is not State.DELETING:
                self.drop_sa(sa, "closed here", now, restart=False)

    def heard(self, now: float) -> None:
        """Authentic ESP came from the peer: as good a sign of life as an answer (section 2.4)."""
        self.last_heard = now

    def rekey_child(self, child: ChildSa, now: float) -> None:
        exchange_child.rekey_child(self, child, now)

    def rekey_ike(self, now: float) -> None:
        exchange_rekey.rekey_ike(self, now)

    # Messages

    def receive(
        self,
        sa: IkeSa,
        header: Header,
        datagram: bytes,
        local: Address,
        remote: Address,
        now: float,
    ) -> None:
        """A message for an SA of ours, from the network; never raises for what it holds."""
        try:
            if header.exchange == Exchange.IKE_SA_INIT:
                if header.response and sa.state is State.INIT_SENT:
                    exchange_init.take_response(self, sa, header, datagram, now)
                else:
                    self.discard("an IKE_SA_INIT message out of place")
                return
            if header.response:
                self._receive_response(sa, header, datagram, now)
            else:
                self._receive_request(sa, header, datagram, local, remote, now)
        except IkeNotAuthentic as error:
            self.discard("not authentic", str(error))
        except IkeFormatError as error:
            self.discard("cannot be read", str(error))

    def _receive_response(self, sa: IkeSa, header: Header, datagram: bytes, now: float) -> None:
        waiting = sa.outstanding
        if (
            waiting is None
            or header.message_id != waiting.message_id
            or header.exchange != waiting.exchange
        ):
            self.discard("an answer to no request", f"request {header.message_id}")
            return
        inside = sa.assemble(datagram, header)
        if inside is None:
            return
        sa.outstanding = None
        self.last_heard = now
        try:
            payloads = decode_inside(*inside)
        except IkeFormatError as error:
            # It would be the same again, so the two ends do not understand each other any more.
            self.note_refusal(error)
            self.drop_sa(sa, f"the peer's answer cannot be read: {error}", now)
            return
        waiting.handler(payloads, now)
        if find_notify(payloads, Notify.INVALID_SYNTAX) is not None:
            # Fatal at both ends (section 2.21.3).
            self.drop_sa(sa, "the peer could not read our request", now)
            return
        self.send(sa, sa.next_queued(now))

    def _receive_request(
        self,
        sa: IkeSa,
        header: Header,
        datagram: bytes,
        local: Address,
        remote: Address,
        now: float,
    ) -> None:
        if header.message_id == sa.expected_id - 1 and self._repeated(sa, header, datagram):
            return
        if header.message_id != sa.expected_id:
            self.discard(
                "a request out of order", f"{header.message_id}, expected {sa.expected_id}"
            )
            return
        inside = sa.assemble(datagram, header)
        if datagram not in sa.arrived:
            sa.arrived.append(datagram)
        if inside is None:
            return
        if sa.state is State.AUTH_SENT:
            # The responder is ahead of us: its IKE_AUTH answer is late or lost. It will repeat.
            self.discard("a request before the peer's IKE_AUTH answer")
            return
        if sa.state is State.INIT_ANSWERED and header.exchange != Exchange.IKE_AUTH:
            self.discard("a request before the peer's IKE_AUTH")
            return
        # Authentic and new: the peer may have moved behind its translator (section 2.23).
        if remote != sa.path.remote and (
            sa.path.remote_translated or header.exchange == Exchange.IKE_AUTH
        ):
            sa.path.local, sa.path.remote = local, remote
        sa.expected_id += 1
        sa.last_request, sa.arrived, sa.repeats = tuple(sa.arrived), [], 0
        self.last_heard = now
        payloads: list[Payload] = []
        legal, handler = _REQUESTS.get(header.exchange, (frozenset(), exchange_info.answer))
        try:
            if sa.state not in legal:
                raise IkeFormatError(f"exchange {header.exchange} is not possible now")
            payloads = decode_inside(*inside)
            answer = handler(self, sa, payloads, now)
        except IkeRefusal as refusal:
            answer = [NotifyPayload(refusal.notify, refusal.data)]
            self.note_refusal(refusal, exchange_child.rekey_of(header.exchange, payloads))
        except IkeFormatError as error:
            answer = [NotifyPayload(error.notify, error.data)]
            self.note_refusal(error, exchange_child.rekey_of(header.exchange, payloads))
        self.send(sa, sa.respond(header.exchange, header.message_id, answer))
        exchange_auth.after_answer(self, sa, header.exchange, answer, now)
        exchange_info.after_answer(self, sa, answer, now)

    def _repeated(self, sa: IkeSa, header: Header, datagram: bytes) -> bool:
        """Whether it is the last request again, which is answered as before (section 2.1): for all
        of its fragments together once, and smaller where they are (RFC 7383 section 2.6.1)."""
        if datagram in sa.last_request:
            if number_of(datagram, header) == 1:
                self.send(sa, sa.respond_again())
            return True
        if header.next_payload != PayloadType.SKF or sa.receive_cipher is None:
            return False
        again = Assembly()
        if again.take(sa.receive_cipher, datagram, header) == 1:
            self.send(sa, sa.respond_again(again.largest))
        return True

    # Timers

    def next_timer(self) -> float:
        """The time at which `handle_timer` is due next; infinity when nothing is."""
        due = min(self.restart_at, self._anew_at(), self.create_at)
        if self.current is not None:
            due = min(due, self.current.path.keepalive_at)
        for sa in self.sas:
            if sa.outstanding is not None:
                due = min(due, sa.outstanding.next_at)
            due = min(due, sa.rekey_at, sa.expires_at)
        for child in self.children.values():
            act_at = child.delete_again_at if child.replaced else child.rekey_at
            due = min(due, child.expires_at, act_at)
        if self._asks_for_liveness():
            due = min(due, self.last_heard + self.config.liveness.delay)
        return due

    def handle_timer(self, now: float) -> None:
        """Do what is due at `now`: repeat, give up, rekey, expire, ask for liveness, restart."""
        for sa in list(self.sas):
            self._repeat(sa, now)
        for sa in list(self.sas):
            if now >= sa.expires_at:
                self.drop_sa(sa, "the IKE SA's lifetime ended", now)
            elif now >= sa.rekey_at and sa is self.current:
                sa.rekey_at = float("inf")
                if self.config.reauthenticate:
                    exchange_info.delete_sa(self, sa, now, restart=True)
                else:
                    exchange_rekey.rekey_ike(self, now)
        for child in list(self.children.values()):
            if now >= child.expires_at:
                self.drop_child(child, "its lifetime ended", now)
            elif child.replaced and now >= child.delete_again_at:
                exchange_info.delete_child(self, child, now)
            elif now >= child.rekey_at and not child.replaced:
                child.rekey_at = float("inf")
                exchange_child.rekey_child(self, child, now)
        if (
            self._asks_for_liveness()
            and self.current is not None
            and now >= self.last_heard + self.config.liveness.delay
        ):
            exchange_info.ask_liveness(self, self.current, now)
        if now >= self._anew_at() and self.current is not None:
            exchange_info.delete_sa(self, self.current, now, restart=True)
        if self.current is not None and now >= self.current.path.keepalive_at:
            path = self.current.path
            path.keepalive_at = now + KEEPALIVE_EVERY
            self._output.append(Datagram(path.local, path.remote, b"\xff"))
        if now >= self.create_at:
            exchange_another.ask(self, now)
        if now >= self.restart_at:
            self.start(now)

    def _anew_at(self) -> float:
        """Say when to start anew because the IKE SA has no child: it carries nothing now, and
        none is asked for."""
        asking = self.creating is not None
        if not self.config.initiate or self.children or asking or not self.established:
            return float("inf")
        return self.childless_at + self.config.restart_delay

    def _asks_for_liveness(self) -> bool:
        current = self.current
        return (
            current is not None
            and current.state is State.ESTABLISHED
            and current.outstanding is None
        )

    def _repeat(self, sa: IkeSa, now: float) -> None:
        waiting = sa.outstanding
        if waiting is None or now < waiting.next_at:
            return
        attempt = self.attempt if self.attempt is not None and self.attempt.sa is sa else None
        if waiting.sends >= sa.liveness.tries:
            answered = attempt.refusal if attempt is not None else ""
            reason = f"the peer answered {answered}" if answered else "the peer did not answer"
            self.drop_sa(sa, reason, now)
            return
        waiting.sends += 1
        waiting.next_at = now + sa.liveness.wait_after(waiting.sends)
        if attempt is not None:
            waiting.message = (exchange_init.repetition(self, attempt),)
        elif waiting.sends > WHOLE_TRIES:
            sa.cut_smaller()
        self.send(sa, waiting.message)
