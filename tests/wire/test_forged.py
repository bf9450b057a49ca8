"""Somebody on the path who sees every datagram and sends what he likes changes nothing.

Each attack below is tried against a tunnel while it is made, while it stands, and while it rekeys;
at the end the tunnel must be up, on its own path, with one SA and one child at each end.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable

import pytest

from obrin.core.ipsec.offers import ike_offers
from obrin.core.ipsec.proposal import Proposal, Transform, choose
from obrin.core.ipsec.suite import SHIPPED
from obrin.wire.ike import admission
from obrin.wire.ike.codec.fragments import encode_message
from obrin.wire.ike.codec.message import (
    HEADER_SIZE,
    decode_header,
    encode_plain,
)
from obrin.wire.ike.codec.numbers import (
    FLAG_INITIATOR,
    FLAG_RESPONSE,
    NON_ESP_MARKER,
    Exchange,
    Notify,
    PayloadType,
)
from obrin.wire.ike.codec.payloads import Ke, Nonce, NotifyPayload, Unknown, decode_chain
from obrin.wire.ike.codec.sa_payload import Sa
from obrin.wire.ike.crypto.dh import make_key_pair
from obrin.wire.ike.transitions import State
from obrin.wire.ike.tunnel_state import Datagram
from tests.doubles import CLOUD, SITE, Net, pair, seeded

SUITE = SHIPPED["modern"]
NOTIFIES = [
    Notify.NO_PROPOSAL_CHOSEN,
    Notify.INVALID_SYNTAX,
    Notify.AUTHENTICATION_FAILED,
    Notify.INVALID_MAJOR_VERSION,
    Notify.UNSUPPORTED_CRITICAL_PAYLOAD,
    Notify.TEMPORARY_FAILURE,
    Notify.INVALID_IKE_SPI,
    12345,
]
Attack = Callable[[Datagram], list[Datagram]]


def plain(datagram: Datagram) -> tuple[bytes, bytes]:
    """(marker, message)."""
    return (
        (b"", datagram.data) if datagram.source[1] == 500 else (NON_ESP_MARKER, datagram.data[4:])
    )


def back(datagram: Datagram, payloads: list, spi_r: bytes = bytes(8), flags=FLAG_RESPONSE):
    """An unprotected answer to what was just sent, as if from its receiver."""
    marker, message = plain(datagram)
    header = decode_header(message)
    data = encode_plain(header.spi_i, spi_r, header.exchange, flags, header.message_id, payloads)
    return Datagram(datagram.destination, datagram.source, marker + data)


def refusals(datagram: Datagram) -> list[Datagram]:
    return [back(datagram, [NotifyPayload(n)]) for n in NOTIFIES]


def cookies(datagram: Datagram) -> list[Datagram]:
    return [back(datagram, [NotifyPayload(Notify.COOKIE, bytes([n] * 8))]) for n in range(9)]


def odd_cookies(datagram: Datagram) -> list[Datagram]:
    return [back(datagram, [NotifyPayload(Notify.COOKIE, data)]) for data in (b"", b"x" * 9000)]


def groups(datagram: Datagram) -> list[Datagram]:
    wishes = [b"", b"\0\x13", b"\0\x0e", b"\xff\xff", b"\xff" * 40_000]
    return [back(datagram, [NotifyPayload(Notify.INVALID_KE_PAYLOAD, data)]) for data in wishes]


def answers(datagram: Datagram) -> list[Datagram]:
    """Whole IKE_SA_INIT answers by somebody who does not have the key."""
    rng, found = seeded(3), []
    for _ in range(4):
        chosen = choose(ike_offers((SUITE,)), ike_offers((SUITE,)))
        payloads = [Sa((chosen,)), Ke(31, make_key_pair(31, rng).public), Nonce(rng(32))]
        found.append(back(datagram, payloads, rng(8)))
    return found


def others(datagram: Datagram) -> list[Datagram]:
    """A new IKE_SA_INIT of the peer's, from its address and from wrong ports of it."""
    rng, found = seeded(4), []
    for port in (500, 4500, 999):
        payloads = [
            Sa(ike_offers((SUITE,))),
            Ke(31, make_key_pair(31, rng).public),
            Nonce(rng(32)),
            NotifyPayload(Notify.NAT_DETECTION_SOURCE_IP, rng(20)),
            NotifyPayload(Notify.NAT_DETECTION_DESTINATION_IP, rng(20)),
        ]
        data = encode_plain(rng(8), bytes(8), Exchange.IKE_SA_INIT, FLAG_INITIATOR, 0, payloads)
        marker = NON_ESP_MARKER if datagram.destination[1] == 4500 else b""
        for source, to in (
            (datagram.source[0], datagram.destination),
            (datagram.destination[0], datagram.source),
        ):
            found.append(Datagram((source, port), to, marker + data))
    return found


def damaged(datagram: Datagram) -> list[Datagram]:
    """What was sent, with one byte changed, from elsewhere; before the true one arrives."""
    found = []
    for position in (8, 17, 18, 19, 23, HEADER_SIZE, len(datagram.data) - 1):
        data = bytearray(datagram.data)
        data[min(position, len(data) - 1)] ^= 1
        found.append(Datagram((datagram.source[0], 777), datagram.destination, bytes(data)))
    return found


def repeated(datagram: Datagram) -> list[Datagram]:
    """The same, from the same place, and sent back to where it came from."""
    return [datagram, Datagram(datagram.destination, datagram.source, datagram.data)]


def unprotected(datagram: Datagram) -> list[Datagram]:
    """Notifies and deletes in the clear, with the SPIs of the SA."""
    marker, message = plain(datagram)
    header, found = decode_header(message), []
    for exchange, response, number in itertools.product((35, 36, 37), (0, 0x20), (0, 1, 2)):
        for flags in (response, response | FLAG_INITIATOR):
            data = encode_plain(
                header.spi_i,
                header.spi_r,
                exchange,
                flags,
                number,
                [NotifyPayload(Notify.AUTHENTICATION_FAILED)],
            )
            found.append(Datagram(datagram.destination, datagram.source, marker + data))
            found.append(Datagram(datagram.source, datagram.destination, marker + data))
    return found


ATTACKS = [refusals, cookies, odd_cookies, groups, answers, others, damaged, repeated, unprotected]


def whole(net: Net) -> None:
    one, two = (end.tunnels["t"] for end in net.ends)
    assert one.established
    assert two.established
    assert (one.path.remote, two.path.remote) == (two.path.local, one.path.local)
    assert [t.path.encapsulate for t in (one, two)] == [False, False]
    for here, there in ((one, two), (two, one)):
        sealed = here.outbound.sealer.seal(b"packet")
        assert there.children[sealed[:4]].opener.open(sealed) == (4, b"packet")
    net.forge = None
    net.run(net.now + 70)  # whatever is half open goes
    assert [len(t.sas) for t in (one, two)] == [1, 1]
    assert [len(t.children) for t in (one, two)] == [1, 1]


@pytest.mark.parametrize("delay", [0.0, 0.2])
@pytest.mark.parametrize("attack", ATTACKS, ids=lambda a: a.__name__)
def test_a_tunnel_is_made_whatever_is_forged(attack: Attack, delay: float) -> None:
    net = Net(*pair(), delay=delay)
    net.forge = attack
    net.ends[0].start(0.0)
    net.run(12.0)
    whole(net)


def test_a_tunnel_is_made_with_cookies_among_forged_cookies(monkeypatch) -> None:
    monkeypatch.setattr(admission, "UNPROVEN", 0)
    net = Net(*pair(), delay=0.05)
    net.forge = lambda datagram: cookies(datagram) if net.now < 1 else []
    net.ends[0].start(0.0)
    net.run(12.0)
    whole(net)


@pytest.mark.parametrize("attack", ATTACKS, ids=lambda a: a.__name__)
def test_a_tunnel_stands_and_rekeys_whatever_is_forged(attack: Attack) -> None:
    net = Net(*pair(), delay=0.02)
    net.ends[0].start(0.0)
    net.run(1.0)
    net.forge = attack
    for datagram in list(net.sent):
        for forged in attack(datagram):
            net.inject(int(forged.destination[0] == CLOUD), forged)
    for who, rekey in itertools.product((0, 1), ("child", "ike")):
        tunnel = net.ends[who].tunnels["t"]
        before = tunnel.current, tunnel.outbound
        if rekey == "child":
            tunnel.rekey_child(tunnel.outbound, net.now)
        else:
            tunnel.rekey_ike(net.now)
        net.run(net.now + 3)
        assert (tunnel.current is before[0], tunnel.outbound is before[1]) == (
            rekey == "child",
            rekey == "ike",
        )
    assert not [e for events in net.events for e in events if type(e).__name__ == "IkeDown"]
    whole(net)


def test_an_established_path_stays_when_a_translator_is_forged() -> None:
    """One IKE_SA_INIT from the peer's address with another SPI must not redirect anything."""
    net = Net(*pair())
    net.ends[0].start(0.0)
    net.run(1.0)
    two = net.ends[1].tunnels["t"]
    before = two.path.local, two.path.remote, two.path.encapsulate
    for forged in others(net.sent[0]):
        net.inject(1, forged)
    assert (two.path.local, two.path.remote, two.path.encapsulate) == before


def test_a_refusal_is_reported_once_and_the_attempt_lasts_its_time() -> None:
    net = Net(*pair((SHIPPED["high"],), (SHIPPED["wide"],)))
    net.ends[0].start(0.0)
    net.run(14.0)
    assert net.texts(0).count("the peer refused IKE_SA_INIT") == 1
    assert "IkeDown" not in net.names(0)
    net.run(15.5)
    assert "the peer answered NO_PROPOSAL_CHOSEN" in net.texts(0)


# What an authentic peer gets wrong is answered


def authentic(net: Net, payloads: list, exchange: int = Exchange.INFORMATIONAL) -> list:
    """Payloads of the responder's answer to a request under the initiator's keys."""
    sa = net.ends[0].tunnels["t"].current
    (data,) = encode_message(
        sa.send_cipher, sa.spi_i, sa.spi_r, exchange, FLAG_INITIATOR, sa.next_id, payloads, None
    )
    net.inject(1, Datagram((SITE, 500), (CLOUD, 500), data))
    (answer,) = net.ends[1].datagrams()
    plain_text = sa.receive_cipher.open(answer.data, HEADER_SIZE)
    first = answer.data[HEADER_SIZE]
    return decode_chain(first, plain_text[: len(plain_text) - 1 - plain_text[-1]])


def standing() -> Net:
    net = Net(*pair())
    net.ends[0].start(0.0)
    net.run(1.0)
    return net


def test_an_unknown_critical_payload_is_named_and_the_sa_stays() -> None:
    net = standing()
    (told,) = authentic(net, [Unknown(200, True, b"x")])
    assert (told.notify, told.data) == (Notify.UNSUPPORTED_CRITICAL_PAYLOAD, bytes([200]))
    assert net.ends[1].tunnels["t"].established


def test_invalid_syntax_is_reported_and_fatal_at_both_ends() -> None:
    net = standing()
    (told,) = authentic(net, [Unknown(PayloadType.DELETE, False, b"\x03")])
    assert told.notify == Notify.INVALID_SYNTAX
    assert not net.ends[1].tunnels["t"].sas
    net = standing()
    one, two = (end.tunnels["t"] for end in net.ends)
    one.request(
        one.current,
        Exchange.INFORMATIONAL,
        [Unknown(PayloadType.DELETE, False, b"\x03")],
        lambda _payloads, _now: None,
        net.now,
    )
    net.run(net.now + 0.1)
    assert not one.sas
    assert not two.sas
    net.run(net.now + 5)
    whole(net)


@pytest.mark.parametrize(("version", "answered"), [(0x30, True), (0xF0, True), (0x10, False)])
def test_a_higher_major_version_is_reported_which_one_is_spoken(
    version: int, answered: bool
) -> None:
    net = standing()
    data = bytearray(net.sent[0].data)
    data[17] = version
    for source in (SITE, "198.51.100.9"):
        net.inject(1, Datagram((source, 500), (CLOUD, 500), bytes(data)))
        told = net.ends[1].datagrams()
        assert len(told) == (answered and source == SITE)
    if answered:
        net.inject(1, Datagram((SITE, 500), (CLOUD, 500), bytes(data)))
        (message,) = net.ends[1].datagrams()
        assert message.data[17] == 0x20
        (notify,) = decode_chain(message.data[16], message.data, 28)
        assert notify.notify == Notify.INVALID_MAJOR_VERSION


ATTRIBUTES = [((0x8000 | 99, b"\0\1"),), ((77, b"longer value"),), ((0x800E, b"\1\0"),)]


@pytest.mark.parametrize("attributes", ATTRIBUTES)
def test_a_transform_with_an_unknown_attribute_is_not_chosen_and_survives(attributes) -> None:
    offer = ike_offers((SUITE,))[0]
    first = offer.transforms[0]
    odd = Transform(first.kind, first.number, first.key_bits, attributes)
    asked = Proposal(offer.protocol, (odd, *offer.transforms[1:]))
    (read,) = Sa.decode(Sa((asked,)).encode(), PayloadType.SA).proposals
    assert read == asked
    assert "attribute" in str(read.transforms[0])
    assert choose((read,), (offer,)) is None
    both = Proposal(offer.protocol, (odd, *offer.transforms))
    assert choose((both,), (offer,)).transforms == offer.transforms


def test_every_message_without_an_answer_has_a_reason() -> None:
    net = standing()
    net.events[1].clear()
    junk = [
        b"",
        b"\0" * 27,
        b"\xff" * 60,
        bytes(8) + b"12345678" + bytes(12),
        net.sent[0].data[:-1],
        net.sent[2].data[:-1] + b"!",
        net.sent[1].data,
    ]
    before = net.ends[1].discarded
    for data in junk:
        for local in (500, 4500):
            net.inject(1, Datagram((SITE, local), (CLOUD, local), data))
    net.run(net.now)
    told = [e for e in net.events[1] if type(e).__name__ == "Discarded"]
    assert len(told) + len(net.sent) >= 2 * len(junk)
    assert net.ends[1].discarded > before
    assert all(e.reason and len(e.reason) < 60 for e in told)
    assert State.INIT_ANSWERED not in {sa.state for sa in net.ends[1].tunnels["t"].sas}
