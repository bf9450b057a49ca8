"""First messages in a peer's name: what they may cost, and that nobody else pays for them.

RFC 7296 section 2.6. The flood is what a stranger can send who sees nothing: IKE_SA_INIT requests from
the peer's address with fresh SPIs and nonces, well formed, some with a cookie that he made up.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator

import pytest

from obrin.core.ipsec.offers import ike_offers
from obrin.core.ipsec.suite import SHIPPED
from obrin.wire.ike import admission
from obrin.wire.ike.admission import Admission, PeerTurns, Turns
from obrin.wire.ike.codec.errors import IkeFormatError
from obrin.wire.ike.codec.message import decode_header, encode_plain, find_notify
from obrin.wire.ike.codec.numbers import FLAG_INITIATOR, Exchange, Notify
from obrin.wire.ike.codec.payloads import Ke, Nonce, NotifyPayload, decode_chain
from obrin.wire.ike.codec.sa_payload import Sa
from obrin.wire.ike.exchanges import init as exchange_init
from tests.doubles import CLOUD, SITE, Net, pair, seeded

SUITE = SHIPPED["modern"]


def firsts(seed: int = 5, cookie: bytes = b"") -> Iterator[bytes]:
    """First messages, each another one."""
    rng = seeded(seed)
    told = [NotifyPayload(Notify.COOKIE, cookie)] if cookie else []
    while True:
        payloads = [*told, Sa(ike_offers((SUITE,))), Ke(31, rng(32)), Nonce(rng(32))]
        yield encode_plain(rng(8), bytes(8), Exchange.IKE_SA_INIT, FLAG_INITIATOR, 0, payloads)


def with_cookie(data: bytes, answer: bytes) -> bytes:
    """A first message again, with the cookie that its answer asks for."""
    wanted = find_notify(decode_chain(answer[16], answer, 28), Notify.COOKIE)
    header = decode_header(data)
    payloads = [wanted, *decode_chain(header.next_payload, data, 28)]
    return encode_plain(header.spi_i, bytes(8), Exchange.IKE_SA_INIT, FLAG_INITIATOR, 0, payloads)


@pytest.fixture
def computed(monkeypatch) -> list[bytes]:
    """First messages for which the exchange was computed."""
    seen: list[bytes] = []
    true = exchange_init.answer

    def answer(tunnel, header, payloads, datagram, *rest):
        seen.append(datagram)
        return true(tunnel, header, payloads, datagram, *rest)

    monkeypatch.setattr(exchange_init, "answer", answer)
    return seen


def test_a_stranger_has_few_exchanges_computed_whatever_he_sends(computed) -> None:
    _, two = pair()
    floods = [firsts(), firsts(6, b"x" * 17), firsts(7, b"\0" * 17)]
    for number, flood in enumerate(itertools.islice(itertools.cycle(floods), 6000)):
        two.receive(next(flood), (CLOUD, 500), (SITE, 500), number / 100)
        two.handle_timer(number / 100)
        two.datagrams()
    assert len(computed) <= admission.UNPROVEN + 60 / 10
    assert len(two.tunnels["t"].sas) <= exchange_init.MAX_HALF_OPEN


def test_the_true_peer_gets_in_during_a_flood_and_a_tunnel_that_stands_stays(computed) -> None:
    """Its own handshakes, rekeys and reauthentications included, while 200 a second come."""
    one, two = pair()
    net, flood = Net(one, two, delay=0.02), firsts()
    one.start(0.0)
    for step in range(8):
        if step == 4:
            one.begin_anew("t", net.now)
        for _ in range(100):
            net.inject(1, next(_as_datagrams(flood)))
            net.run(net.now + 0.005)
        assert one.tunnels["t"].established, step
        assert two.tunnels["t"].established, step
    assert net.names(0).count("IkeUp") == 2  # the first, and the one that was begun anew
    assert len(computed) < 12


def _as_datagrams(flood):
    from obrin.wire.ike.tunnel_state import Datagram

    return (Datagram((SITE, 500), (CLOUD, 500), data) for data in flood)


def test_who_returns_cookies_costs_a_bounded_rate_and_few_half_open_sas(computed) -> None:
    """Somebody on the path can return them; the peer still gets in when he pauses."""
    one, two = pair()
    net = Net(one, two)
    for number, data in enumerate(itertools.islice(firsts(), 3000)):
        now = net.now = number / 300
        two.receive(data, (CLOUD, 500), (SITE, 500), now)
        two.handle_timer(now)
        (answer,) = two.datagrams()
        if find_notify(decode_chain(answer.data[16], answer.data, 28), Notify.COOKIE):
            two.receive(with_cookie(data, answer.data), (CLOUD, 500), (SITE, 500), now)
            two.handle_timer(now)
            two.datagrams()
    assert len(computed) <= 16 + 4 + 10 / 0.2 + 10 / 10 + 1
    assert len(two.tunnels["t"].sas) == exchange_init.MAX_HALF_OPEN
    one.start(net.now)
    net.run(net.now + 2.0)
    assert one.tunnels["t"].established


def test_no_peer_pays_for_a_flood_in_the_name_of_others() -> None:
    """The turns of all are used up by others; a cookie is all that it takes."""
    asked = Admission(seeded(1))
    one, flood = PeerTurns(), firsts()
    for _ in range(admission.ALL_UNPROVEN):
        data = next(flood)
        assert (
            asked.cookie_wanted(PeerTurns(), decode_header(data), data, ("192.0.2.9", 500), 0.0)
            is None
        )
    data = next(flood)
    cookie = asked.cookie_wanted(one, decode_header(data), data, (SITE, 500), 0.0)
    assert cookie is not None
    again = with_cookie(
        data, encode_plain(bytes(8), bytes(8), 34, 32, 0, [NotifyPayload(Notify.COOKIE, cookie)])
    )
    assert asked.cookie_wanted(one, decode_header(again), again, (SITE, 500), 0.0) is None


def test_a_cookie_is_good_for_its_sender_and_for_a_minute_or_two() -> None:
    def wanted(asked: Admission, data: bytes, remote: str = SITE, now: float = 0.0):
        turns = PeerTurns()
        turns.unproven = Turns(0, 1e9)
        return asked.cookie_wanted(turns, decode_header(data), data, (remote, 500), now)

    asked, (data, other) = Admission(seeded(1)), itertools.islice(firsts(), 2)
    cookie = wanted(asked, data)
    assert cookie is not None
    told = encode_plain(bytes(8), bytes(8), 34, 32, 0, [NotifyPayload(Notify.COOKIE, cookie)])
    again, stolen = with_cookie(data, told), with_cookie(other, told)
    assert wanted(asked, again) is None
    assert wanted(asked, again, now=admission.SECRET_LIFE + 1) is None
    assert wanted(asked, again, now=2 * admission.SECRET_LIFE) is not None
    assert wanted(asked, again, remote="192.0.2.99") is not None
    assert wanted(asked, stolen) is not None
    assert wanted(Admission(seeded(2)), again) is not None


@pytest.mark.parametrize("cut", range(28, 140, 3))
def test_a_first_message_cut_short_is_no_more_than_that(cut: int) -> None:
    asked, turns = Admission(seeded(1)), PeerTurns()
    turns.unproven = Turns(0, 1e9)
    data = next(firsts())
    header = decode_header(data)
    with pytest.raises(IkeFormatError):
        asked.cookie_wanted(turns, header, data[:cut], (SITE, 500), 0.0)
