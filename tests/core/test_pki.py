"""Certificate chains that are brought along: the true cause of each failure, and hostile bytes."""

from __future__ import annotations

import random
from datetime import timedelta

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import dsa, ec, rsa, x25519
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import Encoding
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID, ObjectIdentifier

from obrin.core.pki import chain as chain_module
from obrin.core.pki.chain import LONGEST, Trust, judge, key_kind
from obrin.core.pki.issue import (
    CLOCK_SLACK,
    Span,
    identities_of,
    make_issuing,
    make_revocations,
    make_root,
)
from obrin.core.pki.names import is_named
from obrin.core.pki.read import (
    MOST_CERTIFICATES,
    Bundle,
    PkiError,
    as_pem,
    as_pkcs12,
    fits,
    key_as_pem,
    read_bundle,
    read_key,
    read_request,
    read_revocations,
)
from tests.authority import NOW, YEAR, Made, new_key

GOOD = Made()
LEAF, KEY = GOOD.gateway("192.0.2.10", "quay.example")


def codes(chain, trust=None, now=NOW, identity="192.0.2.10") -> list[str]:
    return [fault.code for fault in judge(chain, trust or GOOD.trust(), now, identity)]


def custom(*extensions: tuple[x509.ExtensionType, bool], key=None, signer=None) -> x509.Certificate:
    """A gateway's certificate with just these extensions."""
    key = key or KEY
    builder = (
        x509.CertificateBuilder()
        .issuer_name(GOOD.issuing.subject)
        .subject_name(x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "odd")]))
        .public_key(key.public_key())
        .serial_number(7)
        .not_valid_before(NOW - CLOCK_SLACK)
        .not_valid_after(NOW + YEAR)
    )
    for value, critical in extensions:
        builder = builder.add_extension(value, critical=critical)
    return builder.sign(signer or GOOD.issuing_key, SHA256())


NAMED = (x509.SubjectAlternativeName([x509.DNSName("quay.example")]), False)


def test_a_good_chain_has_no_fault_in_any_order_that_is_found() -> None:
    assert codes([LEAF, GOOD.issuing]) == []
    assert codes([LEAF, GOOD.root, GOOD.issuing]) == []
    assert codes([LEAF], Trust((GOOD.root, GOOD.issuing))) == []
    assert codes([LEAF, GOOD.issuing], identity="QUAY.example") == []
    assert codes([LEAF, GOOD.issuing], GOOD.trust(GOOD.revocations(1))) == []
    assert is_named(LEAF, "192.0.2.10")
    assert not is_named(LEAF, "*.example")


def chain_too_long():
    """Root, issuing (none below), another below it, and a gateway."""
    low = Made()
    low.issuing = make_issuing(
        "Low", low.issuing_key, GOOD.issuing, GOOD.issuing_key, low.span(YEAR)
    )
    leaf, _ = low.gateway("192.0.2.10")
    return [leaf, low.issuing, GOOD.issuing]


def by_a_gateway():
    """A gateway that issues."""
    wrong = Made()
    wrong.issuing, wrong.issuing_key = LEAF, KEY
    leaf = custom(NAMED)
    forged = (
        x509.CertificateBuilder()
        .issuer_name(LEAF.subject)
        .subject_name(leaf.subject)
        .public_key(KEY.public_key())
        .serial_number(9)
        .not_valid_before(NOW)
        .not_valid_after(NOW + YEAR)
        .add_extension(*NAMED)
        .sign(KEY, SHA256())
    )
    return [forged, LEAF, GOOD.issuing]


def deep() -> list[x509.Certificate]:
    """Authorities below authorities, more than anybody has."""
    chain = [GOOD.issuing]
    key = GOOD.issuing_key
    for number in range(LONGEST + 2):
        above, name = new_key(), x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, f"a{number}")])
        last = chain.pop()
        made = (
            x509.CertificateBuilder()
            .issuer_name(name)
            .subject_name(last.subject)
            .public_key(key.public_key())
            .serial_number(number + 50)
            .not_valid_before(NOW)
            .not_valid_after(NOW + YEAR)
            .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
            .sign(above, SHA256())
        )
        chain += [made, root_named(name, above)]
        key = above
    return chain[:-1]


def root_named(name: x509.Name, key) -> x509.Certificate:
    return (
        x509.CertificateBuilder()
        .issuer_name(name)
        .subject_name(name)
        .public_key(key.public_key())
        .serial_number(99)
        .not_valid_before(NOW)
        .not_valid_after(NOW + YEAR)
        .sign(key, SHA256())
    )


def forged_list() -> x509.CertificateRevocationList:
    """It says that it is by the issuing authority's key, and another key signed it."""
    return make_revocations(GOOD.issuing, new_key(), [], GOOD.span())


SELF = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "itself")])
WEAK = rsa.generate_private_key(65537, 1024)
STRANGE = ec.generate_private_key(ec.SECP256K1())
CASES = {
    "empty": lambda: ([], {}),
    "incomplete": lambda: ([LEAF], {}),
    "untrusted": lambda: (
        [*(lambda m: (m.gateway("192.0.2.10")[0], m.issuing, m.root))(Made())],
        {},
    ),
    "name": lambda: ([LEAF, GOOD.issuing], {"identity": "192.0.2.11"}),
    "order": lambda: ([GOOD.issuing, LEAF], {"identity": None}),
    "early": lambda: ([LEAF, GOOD.issuing], {"now": NOW - timedelta(days=2)}),
    "ended": lambda: ([LEAF, GOOD.issuing], {"now": NOW + timedelta(days=366)}),
    "revoked": lambda: (
        [LEAF, GOOD.issuing],
        {"trust": GOOD.trust(GOOD.revocations(LEAF.serial_number))},
    ),
    "list-ended": lambda: (
        [LEAF, GOOD.issuing],
        {"trust": GOOD.trust(GOOD.revocations()), "now": NOW + timedelta(days=40)},
    ),
    "list-signature": lambda: ([LEAF, GOOD.issuing], {"trust": GOOD.trust(forged_list())}),
    "signature": lambda: ([LEAF, Made().issuing], {}),
    "path-length": lambda: (chain_too_long(), {}),
    "not-authority": lambda: (by_a_gateway(), {"identity": "quay.example"}),
    "usage": lambda: (
        [
            custom(NAMED, (x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), False)),
            GOOD.issuing,
        ],
        {"identity": None},
    ),
    "critical": lambda: (
        [
            custom(NAMED, (x509.UnrecognizedExtension(ObjectIdentifier("1.2.3.4"), b"\5\0"), True)),
            GOOD.issuing,
        ],
        {"identity": None},
    ),
    "untrusted ": lambda: ([*reversed([root_named(SELF, KEY)])], {"identity": None}),
    "key-kind ": lambda: (
        [custom(NAMED, key=dsa.generate_private_key(2048)), GOOD.issuing],
        {"identity": None},
    ),
    "weak": lambda: ([custom(NAMED, key=WEAK), GOOD.issuing], {"identity": None}),
    "long": lambda: ([LEAF, *deep()], {}),
    "key-kind": lambda: ([custom(NAMED, key=STRANGE), GOOD.issuing], {"identity": None}),
}


@pytest.mark.parametrize("code", CASES)
def test_each_failure_has_its_true_cause(code: str) -> None:
    chain, changes = CASES[code]()
    assert code.strip() in codes(chain, **changes)


def test_authorities_of_one_name_are_reported_apart_by_their_keys() -> None:
    """Renewed in one month, an issuing authority has the name of the one before; a root always."""
    other = Made()
    assert other.issuing.subject == GOOD.issuing.subject
    both = (GOOD.root, other.root)
    theirs, _ = other.gateway("192.0.2.10")
    lists = (GOOD.revocations(1), other.revocations(2))
    for leaf, chain in ((LEAF, [GOOD.issuing]), (theirs, [other.issuing])):
        for roots in (both, both[::-1]):
            for held in (lists, lists[::-1], lists[:1], lists[1:]):
                trust = Trust(roots, held)
                assert codes([leaf, *chain], trust) == []
                assert codes([leaf, *chain, other.issuing, GOOD.issuing], trust) == []
    # The list of a renewed key counts for what the older key signed: it is one issuer by its name.
    revoked = other.revocations(LEAF.serial_number)
    assert codes([LEAF, GOOD.issuing], Trust((*both, other.issuing), (revoked,))) == ["revoked"]
    assert codes([LEAF, GOOD.issuing], Trust((GOOD.root,), (revoked,))) == []  # a stranger's


def test_a_way_that_ends_nowhere_does_not_hide_the_one_that_is_trusted() -> None:
    """One issuing key, certified below two roots (RFC 4158 section 2.4.2)."""
    other = Made()
    span = Span(77, NOW, YEAR)
    again = make_issuing("Test", GOOD.issuing_key, other.root, other.root_key, span)
    for sent in ([GOOD.issuing, again], [again, GOOD.issuing]):
        for root in (GOOD.root, other.root):
            assert codes([LEAF, *sent], Trust((root,))) == []
    assert codes([LEAF, again, GOOD.issuing], Trust((Made().root,))) == ["signature"]


def test_of_a_hostile_chain_few_signatures_are_checked(monkeypatch) -> None:
    """A hundred certificates of two names and one key, which all issued each other."""
    key, checked = new_key(), []
    names = [x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)]) for name in "ab"]
    ring = [
        x509.CertificateBuilder()
        .issuer_name(names[number % 2])
        .subject_name(names[1 - number % 2])
        .public_key(key.public_key())
        .serial_number(number + 1)
        .not_valid_before(NOW)
        .not_valid_after(NOW + YEAR)
        .sign(key, SHA256())
        for number in range(MOST_CERTIFICATES)
    ]
    true = chain_module.signed
    monkeypatch.setattr(chain_module, "signed", lambda c, by: checked.append(c) or true(c, by))
    assert "long" in codes(ring, identity=None)
    assert len(checked) <= chain_module.MOST_TRIES


def test_everything_wrong_is_reported_at_once() -> None:
    found = codes([LEAF, GOOD.issuing], now=NOW + 6 * YEAR, identity="other.example")
    assert found == ["name", "ended", "ended"]  # gateway and issuing authority


def test_nothing_outlives_its_issuer() -> None:
    late, _ = GOOD.gateway("192.0.2.10", now=NOW + 5 * YEAR - timedelta(days=10))
    assert late.not_valid_after_utc == GOOD.issuing.not_valid_after_utc
    assert make_root("x", KEY, GOOD.span()).not_valid_after_utc == NOW + YEAR
    large = make_root("x", new_key("p521"), GOOD.span())
    assert (
        large.signature_hash_algorithm.name == "sha512"
    )  # RFC 7427 section 4: as strong as the key


@pytest.mark.parametrize("kind", ["rsa", "ecdsa", "ed25519"])
def test_bundles_go_out_and_come_in(kind: str) -> None:
    authority = Made(kind)
    leaf, key = authority.gateway("192.0.2.10")
    assert key_kind(leaf) == kind
    bundle = Bundle((leaf, authority.issuing), key)
    back = read_bundle(as_pkcs12("gateway", bundle, "open sesame"), "open sesame", "x.p12")
    assert back.certificates == bundle.certificates
    assert back.key is not None
    assert fits(leaf, back.key)
    text = (as_pem(bundle.certificates) + key_as_pem(key, "secret")).encode()
    assert read_bundle(text, "secret", "x.pem").certificates == bundle.certificates
    der = leaf.public_bytes(Encoding.DER)
    assert read_bundle(der, None, "x.der").certificates == (leaf,)
    assert fits(leaf, read_key(key_as_pem(key).encode(), "not needed", "k.pem"))


def test_what_cannot_be_opened_says_why() -> None:
    sealed = key_as_pem(KEY, "secret").encode()
    for data, passphrase, told in (
        (sealed, None, "is encrypted. Give its passphrase"),
        (sealed, "wrong", "the passphrase does not open the private key in x"),
        (as_pkcs12("n", Bundle((LEAF,), KEY), "right"), "wrong", "passphrase does not open it"),
        (b"nonsense", None, "neither PEM nor DER"),
        (b"-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n", None, "no certificate"),
        (b"-----BEGIN NOTHING-----\n", None, "neither a certificate nor a private key"),
        (b"x" * (1 << 21), None, "at most"),
        (as_pem([LEAF] * (MOST_CERTIFICATES + 1)).encode(), None, "more than"),
        (key_as_pem(x25519.X25519PrivateKey.generate()).encode(), None, "of no kind that IKE uses"),
    ):
        with pytest.raises(PkiError, match=told):
            read_bundle(data, passphrase, "x")
    with pytest.raises(PkiError, match="no revocation list"):
        read_revocations(b"x", "x")


def test_requests_prove_that_they_hold_their_key() -> None:
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "quay-gw")])
    wanted = x509.SubjectAlternativeName([x509.DNSName("quay.example")])
    request = (
        x509.CertificateSigningRequestBuilder()
        .subject_name(name)
        .add_extension(wanted, critical=False)
        .sign(new_key(), SHA256())
    )
    data = request.public_bytes(Encoding.DER)
    assert identities_of(read_request(data, "x")) == ["quay.example"]
    bare = x509.CertificateSigningRequestBuilder().subject_name(name).sign(new_key(), SHA256())
    assert identities_of(read_request(bare.public_bytes(Encoding.DER), "x")) == ()
    assert not is_named(custom(), "quay.example")
    with pytest.raises(PkiError, match=r"own key|no certificate request"):
        read_request(data[:-1] + bytes((data[-1] ^ 1,)), "x")


def test_hostile_bytes_raise_typed_errors_only() -> None:
    rng = random.Random(11)
    seeds = [
        as_pem([LEAF]).encode(),
        LEAF.public_bytes(Encoding.DER),
        as_pkcs12("n", Bundle((LEAF,), KEY), "p"),
        key_as_pem(KEY).encode(),
        GOOD.revocations(1).public_bytes(Encoding.DER),
    ]
    for _ in range(150):
        data = bytearray(rng.choice(seeds))
        for _ in range(rng.randint(1, 5)):
            data[rng.randrange(len(data))] = rng.randrange(256)
        cut = bytes(data[: rng.randrange(len(data))] if rng.random() < 0.3 else data)
        for read in (
            read_bundle,
            lambda d, _p, w: read_revocations(d, w),
            lambda d, _p, w: read_request(d, w),
        ):
            try:
                found = read(cut, "p", "x")
            except PkiError:
                continue
            if isinstance(found, Bundle) and found.certificates:
                judge(found.certificates, GOOD.trust(), NOW, "192.0.2.10")
