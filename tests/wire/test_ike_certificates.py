"""IKE_AUTH by certificate: every kind of key, and every cause of a refusal."""

from __future__ import annotations

import random
from dataclasses import replace
from datetime import timedelta

import pytest

from obrin.core.pki.chain import Trust
from obrin.wire.ike.codec.errors import IkeFormatError
from obrin.wire.ike.codec.numbers import PayloadType
from obrin.wire.ike.codec.payloads import Cert, decode_chain, encode_chain
from obrin.wire.ike.crypto.signatures import (
    HASHES,
    SignatureProblem,
    decode_hashes,
    encode_hashes,
    sign,
    verify,
)
from obrin.wire.ike.exchanges import info as exchange_info
from tests.authority import NOW, Made, new_key
from tests.doubles import CLOUD, SITE, Net, pair

KINDS = ("rsa", "ecdsa", "p384", "p521", "ed25519")


def joined(one, two) -> Net:
    """Two engines with these credentials, run for a second."""
    ends = pair()
    for end, credential in zip(ends, (one, two), strict=True):
        tunnel = end.tunnels["t"]
        tunnel.config = replace(tunnel.config, key=b"", credential=credential)
    net = Net(*ends)
    for end in ends:
        end.start(0.0)
    net.run(1.0)
    return net


@pytest.mark.parametrize("kind", KINDS)
def test_both_ends_prove_themselves_by_certificate(kind: str) -> None:
    authority = Made(kind)
    net = joined(authority.credential(SITE), authority.credential(CLOUD))
    assert net.names(0) == net.names(1) == ["IkeUp", "ChildUp"]
    # Rekeys need no certificates.
    net.ends[0].tunnels["t"].rekey_ike(net.now)
    net.run(3.0)
    assert net.names(0)[-1] == "IkeUp"


def test_the_ends_may_have_keys_of_different_kinds_and_authorities() -> None:
    one, two = Made("rsa", "One"), Made("ed25519", "Two")
    both = Trust((one.root, two.root))
    net = joined(one.credential(SITE, trust=both), two.credential(CLOUD, trust=both))
    assert net.names(0) == ["IkeUp", "ChildUp"]


def told(net: Net, end: int, credential) -> None:
    """An end gets another credential, in place."""
    config = net.ends[end].tunnels["t"].config
    net.ends[end].reconfigure(replace(config, credential=credential), net.now)
    net.run(net.now + 3.0)


def test_another_root_takes_over_and_nothing_is_interrupted() -> None:
    """All believe both roots, get their certificates under the new one, and believe that alone."""
    old, new = Made(name="Old"), Made("ed25519", "New")
    both = Trust((old.root, new.root))
    net = joined(old.credential(SITE), old.credential(CLOUD))
    first = [end.tunnels["t"].current for end in net.ends]
    for end, identity in enumerate((SITE, CLOUD)):
        told(net, end, old.credential(identity, trust=both))
    for end, identity in enumerate((SITE, CLOUD)):
        told(net, end, new.credential(identity, trust=both))
    assert [end.tunnels["t"].current for end in net.ends] == first
    assert net.names(0) == net.names(1) == ["IkeUp", "ChildUp"]
    one = net.ends[0].tunnels["t"]
    assert one.current is not None
    exchange_info.delete_sa(one, one.current, net.now, restart=True)
    net.run(net.now + 5.0)
    assert [end.tunnels["t"].peer_chain[1].issuer for end in net.ends] == [new.root.subject] * 2
    last = [end.tunnels["t"].current for end in net.ends]
    for end, identity in enumerate((SITE, CLOUD)):
        told(net, end, new.credential(identity))
    assert [end.tunnels["t"].current for end in net.ends] == last


def test_who_is_believed_no_more_is_out_at_once() -> None:
    mine, theirs = AUTHORITY.credential(SITE), AUTHORITY.credential(CLOUD)
    net = joined(mine, theirs)
    revoked = AUTHORITY.trust(AUTHORITY.revocations(mine.chain[0].serial_number))
    told(net, 1, replace(theirs, trust=revoked))
    assert not any(end.tunnels["t"].established for end in net.ends)
    assert "was revoked" in net.texts(1)


AUTHORITY = Made()
OTHER = Made(name="Other")


def bad(case: str):
    """(the initiator's credential, the responder's) with one thing wrong at the initiator's."""
    good = AUTHORITY.credential(CLOUD)
    mine = AUTHORITY.credential(SITE)
    if case == "revoked":
        lists = (AUTHORITY.revocations(mine.chain[0].serial_number),)
        return mine, replace(good, trust=AUTHORITY.trust(*lists))
    if case == "ended":
        later = {"wall": lambda now: NOW + timedelta(days=400)}
        return replace(mine, **later), replace(good, **later)
    if case == "not valid before":
        early = {"wall": lambda now: NOW - timedelta(days=1)}
        return mine, replace(good, **early)
    return {
        "says that it is": (AUTHORITY.credential("192.0.2.99"), good),
        "is missing": (replace(mine, chain=mine.chain[:1]), good),
        "there is no certificate": (replace(mine, chain=()), good),
        "it has not the key of its certificate": (replace(mine, key=new_key()), good),
        "another kind than its certificate": (replace(mine, key=new_key("rsa")), good),
        "Other root": (OTHER.credential(SITE, trust=Trust((AUTHORITY.root,))), good),
    }[case]


@pytest.mark.parametrize(
    "case",
    [
        "says that it is",
        "is missing",
        "there is no certificate",
        "another kind than",
        "it has not the key of its certificate",
        "Other root",
        "revoked",
        "ended",
        "not valid before",
    ],
)
def test_the_true_cause_of_a_refusal_is_reported(case: str) -> None:
    key = "another kind than its certificate" if case == "another kind than" else case
    net = joined(*bad(key))
    assert "AUTHENTICATION_FAILED" in net.texts(1)
    assert case in net.texts(1)
    assert "IkeUp" not in net.names(1)
    assert "AUTHENTICATION_FAILED" in net.texts(0)


def test_a_key_against_a_certificate() -> None:
    ends = pair()
    tunnel = ends[0].tunnels["t"]
    tunnel.config = replace(tunnel.config, credential=AUTHORITY.credential(SITE))
    net = Net(*ends)
    for end in ends:
        end.start(0.0)
    net.run(1.0)
    # The other end announces no hashes: it cannot check signatures.
    assert "the peer takes no signature with a hash that this key can use" in net.texts(0)
    tunnel.config = replace(tunnel.config, credential=None)
    other = ends[1].tunnels["t"]
    other.config = replace(other.config, credential=AUTHORITY.credential(CLOUD))
    net.run(6.0)
    assert "authentication method 2, a certificate is expected" in net.texts(1)


@pytest.mark.parametrize("kind", KINDS)
def test_signatures_hold_and_changed_ones_do_not(kind: str) -> None:
    key, octets = new_key(kind), b"octets to be signed"
    value = sign(key, octets, HASHES)
    verify(key.public_key(), value, octets)
    with pytest.raises(SignatureProblem):
        verify(key.public_key(), value, octets + b"x")
    with pytest.raises(SignatureProblem):
        sign(key, octets, (99,))
    rng = random.Random(4)
    for _ in range(40):
        spoiled = bytearray(value)
        spoiled[rng.randrange(len(spoiled))] ^= 1 << rng.randrange(8)
        with pytest.raises(SignatureProblem):
            verify(key.public_key(), bytes(spoiled), octets)
    for short in (b"", value[:3], value[:-1], b"\xff" + value):
        with pytest.raises(SignatureProblem):
            verify(key.public_key(), short, octets)


def test_hashes_and_certificate_payloads_survive_the_wire() -> None:
    assert decode_hashes(encode_hashes(HASHES)) == HASHES
    assert decode_hashes(b"\0\2\0") == (2,)
    kind, data = encode_chain(
        [Cert(PayloadType.CERT, 4, b"der"), Cert(PayloadType.CERTREQ, 4, b"")]
    )
    first, second = decode_chain(kind, data)
    assert (first.data, first.kind, second.kind) == (b"der", 37, 38)
    with pytest.raises(IkeFormatError):
        decode_chain(PayloadType.CERT, b"\0\0\0\4")
