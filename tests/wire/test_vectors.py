"""The primitives as we use them, against vectors from RFCs."""

from __future__ import annotations

import pytest
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from obrin.core.ipsec.registry import ALGORITHMS, SPOKEN, Kind, by_name
from obrin.wire.esp import EspError, EspKeys, key_lengths, make_opener, make_sealer
from obrin.wire.ike.codec.errors import IkeFormatError
from obrin.wire.ike.crypto import dh, modp
from obrin.wire.ike.crypto.keys import padded_key, prf, prf_plus, shared_key_auth
from obrin.wire.macs import INTEGRITY, PRF_HASHES
from tests.doubles import seeded


def fixed(data: bytes):
    return lambda count: data[:count].rjust(count, b"\0")


RFC_4231 = [
    (2, "b617318655057264e28bc0b6fb378c8ef146be00"),  # RFC 2202
    (5, "b0344c61d8db38535ca8afceaf0bf12b881dc200c9833da726e9376c2e32cff7"),
    (
        6,
        "afd03944d84895626b0825f4ab46907f15f9dadbe4101ec682aa034c7cebc59c"
        "faea9ea9076ede7f4af152e8b2fa9cb6",
    ),
    (
        7,
        "87aa7cdea5ef619d4ff0b4241a1d6cb02379f4e2ce4ec2787ad0b30545e17cde"
        "daa833b7d6b8a702038b274eaea3f4e4be9d914eeb61f1702e696c203a126854",
    ),
]


@pytest.mark.parametrize(("number", "expected"), RFC_4231)
def test_prf_rfc_4231_case_1(number: int, expected: str) -> None:
    assert prf(number, b"\x0b" * 20, b"Hi There").hex() == expected


def test_prf_plus_is_the_chain_of_rfc_7296_section_2_13() -> None:
    key, seed = b"key" * 11, b"seed"
    first = prf(5, key, seed + b"\x01")
    second = prf(5, key, first + seed + b"\x02")
    assert prf_plus(5, key, seed, 50) == (first + second)[:50]


def test_shared_key_auth_is_nested_prf_of_section_2_15() -> None:
    inner = prf(5, b"secret", b"Key Pad for IKEv2")
    assert padded_key(5, b"secret") == inner
    assert shared_key_auth(5, inner, b"octets") == prf(5, inner, b"octets")
    with pytest.raises(IkeFormatError, match="no pre-shared key"):
        padded_key(5, b"")


def test_curve25519_rfc_7748_section_6_1() -> None:
    bob = dh.make_key_pair(
        31, fixed(bytes.fromhex("5dab087e624a8a4b79e17f8b83800ee66f3bb1292618b6fd1c2f8b27ff88e0eb"))
    )
    alice = bytes.fromhex("8520f0098930a754748b7ddcb43ef75a0dbf3a0d26381af4eba4a98eaa9b4e6a")
    assert bob.public.hex() == "de9edb7d7b7dc1b4d35b61c2ece435373f8343c85b78674dadfc7e146f882b4f"
    assert (
        bob.shared(alice).hex()
        == "4a5d9d5ba4ce2de1728e3bf480350f25e07e21c947d19e3376f09b3c1e161742"
    )


def test_ecp_256_rfc_5903_section_8_1() -> None:
    secret = int("C88F01F510D9AC3F70A292DAA2316DE544E9AAB8AFE84049C62A9C57862D1433", 16)
    # The key pair draws 40 bytes and reduces them: number % (order - 1) + 1.
    own = dh.make_key_pair(19, fixed((secret - 1).to_bytes(40, "big")))
    assert own.public.hex().upper() == (
        "DAD0B65394221CF9B051E1FECA5787D098DFE637FC90B9EF945D0C3772581180"
        "5271A0461CDB8252D61F1C456FA3E59AB1F45B33ACCF5F58389E0577B8990BB3"
    )
    peer = bytes.fromhex(
        "D12DFB5289C8D4F81208B70270398C342296970A0BCCB74C736FC7554494BF63"
        "56FBF3CA366CC23E8157854C13C58D6AAC23F046ADA30F8353E74F33039872AB"
    )
    assert own.shared(peer).hex().upper() == (
        "D6840F6B42F6EDAFD13116E0E12565202FEF8E9ECE7DCE03812464D04B9442DE"
    )


def test_ecp_384_rfc_5903_section_8_2() -> None:
    secret = int(
        "099F3C7034D4A2C699884D73A375A67F7624EF7C6B3C0F160647B67414DCE655"
        "E35B538041E649EE3FAEF896783AB194",
        16,
    )
    own = dh.make_key_pair(20, fixed((secret - 1).to_bytes(56, "big")))
    assert own.public.hex().upper() == (
        "667842D7D180AC2CDE6F74F37551F55755C7645C20EF73E31634FE72B4C55EE6"
        "DE3AC808ACB4BDB4C88732AEE95F41AA"
        "9482ED1FC0EEB9CAFC4984625CCFC23F65032149E0E144ADA024181535A0F38E"
        "EB9FCFF3C2C947DAE69B4C634573A81C"
    )
    peer = bytes.fromhex(
        "E558DBEF53EECDE3D3FCCFC1AEA08A89A987475D12FD950D83CFA41732BC509D"
        "0D1AC43A0336DEF96FDA41D0774A3571"
        "DCFBEC7AACF3196472169E838430367F66EEBE3C6E70C416DD5F0C68759DD1FF"
        "F83FA40142209DFF5EAAD96DB9E6386C"
    )
    assert own.shared(peer).hex().upper() == (
        "11187331C279962D93D604243FD592CB9D0A926F422E47187521287E7156C5C4"
        "D603135569B9E9D09CF5D4A270F59746"
    )


MODP_2048 = int(
    "FFFFFFFFFFFFFFFFC90FDAA22168C234C4C6628B80DC1CD129024E088A67CC74"
    "020BBEA63B139B22514A08798E3404DDEF9519B3CD3A431B302B0A6DF25F1437"
    "4FE1356D6D51C245E485B576625E7EC6F44C42E9A637ED6B0BFF5CB6F406B7ED"
    "EE386BFB5A899FA5AE9F24117C4B1FE649286651ECE45B3DC2007CB8A163BF05"
    "98DA48361C55D39A69163FA8FD24CF5F83655D23DCA3AD961C62F356208552BB"
    "9ED529077096966D670C354E4ABC9804F1746C08CA18217C32905E462E36CE3B"
    "E39E772C180E86039B2783A2EC07A28FB5C55DF06F4C52C9DE2BCBF695581718"
    "3995497CEA956AE515D2261898FA051015728E5A8AACAA68FFFFFFFFFFFFFFFF",
    16,
)


def test_group_14_is_the_prime_that_rfc_3526_section_3_prints() -> None:
    assert modp.prime_of(14) == MODP_2048


def probably_prime(number: int) -> bool:
    """Miller-Rabin with a few bases; the numbers are no secret and nobody chose them."""
    odd, twos = number - 1, 0
    while odd % 2 == 0:
        odd, twos = odd // 2, twos + 1
    for base in (2, 3, 5, 7):
        x = pow(base, odd, number)
        if x in (1, number - 1):
            continue
        for _ in range(twos - 1):
            x = x * x % number
            if x == number - 1:
                break
        else:
            return False
    return True


@pytest.mark.parametrize("group", sorted(modp.NUMBERS))
def test_modp_groups_are_safe_primes_of_their_size(group: int) -> None:
    prime = modp.prime_of(group)
    assert prime.bit_length() == {2: 1024, 5: 1536, 14: 2048, 15: 3072, 16: 4096}[group]
    ones = (1 << 64) - 1
    assert prime & ones == prime >> (prime.bit_length() - 64) == ones
    assert probably_prime(prime)
    assert probably_prime(prime // 2)


def test_the_orders_of_the_curves_are_those_of_their_points() -> None:
    """The order less one times a point is the same point on the other side."""
    for curve, order in dh._CURVES.values():
        one = ec.derive_private_key(1, curve).public_key().public_numbers()
        last = ec.derive_private_key(order - 1, curve).public_key().public_numbers()
        assert (one.x, one.y != last.y) == (last.x, True)


def test_chacha20_poly1305_opens_the_packet_of_rfc_7634_appendix_a() -> None:
    key = bytes(range(0x80, 0xA0)) + bytes.fromhex("a0a1a2a3")
    sealed = bytes.fromhex(
        "0102030400000005101112131415161724039428b97f417e3c13753a4f05087b67c352e6a7fab1b982d466ef"
        "407ae5c614ee8099d52844eb61aa95dfab4c02f72aa71e7c4c4f64c9befe2facc638e8f3cbec163fac469b50"
        "2773f6fb94e664da9165b82829f641e076aaa8266b7fb0f7b11b369907e1ad43"
    )
    cipher = by_name(Kind.ENCRYPTION, "CHACHA20-POLY1305")
    opener = make_opener(0x01020304, cipher, None, EspKeys(key), esn=False)
    number, packet = opener.open(sealed)
    assert number == 4
    assert packet[:28].hex() == "45000054a6f200004001e778c6336405c000020508005b7a3a080000"
    assert len(packet) == 84


@pytest.mark.parametrize("esn", [False, True])
def test_gcm_packets_open_with_the_nonce_and_additional_data_of_rfc_4106(esn: bool) -> None:
    key = seeded(6)(36)
    cipher = by_name(Kind.ENCRYPTION, "AES-GCM-16-256")
    sealer = make_sealer(0x01020304, cipher, None, EspKeys(key), esn=esn, rng=seeded(7))
    for number in range(1, 4):
        packet = sealer.seal(b"inner")
        assert packet[:8] == b"\1\2\3\4" + number.to_bytes(4, "big")
        counted = number.to_bytes(8 if esn else 4, "big")
        plain = AESGCM(key[:32]).decrypt(key[32:] + packet[8:16], packet[16:], packet[:4] + counted)
        assert plain == b"inner\x01\x01\x04"


@pytest.mark.parametrize("group", sorted(dh.SPOKEN_GROUPS))
def test_both_halves_of_an_exchange_agree(group: int) -> None:
    one, two = dh.make_key_pair(group, seeded(1)), dh.make_key_pair(group, seeded(2))
    assert one.shared(two.public) == two.shared(one.public)
    assert one.public != two.public


@pytest.mark.parametrize(
    ("group", "value"),
    [
        (31, bytes(32)),  # a point of small order: the shared secret would be zero
        (31, bytes(31)),
        (19, bytes(64)),  # not on the curve
        (19, bytes(10)),
        (20, b"\x01" * 96),
        (14, (1).to_bytes(256, "big")),
        (14, b"\xff" * 256),
        (14, b"\x02"),
        (2, b"\0" * 128),
        (16, b"\xff" * 512),
        (21, b"\x01" * 132),
    ],
)
def test_unacceptable_public_values_are_refused(group: int, value: bytes) -> None:
    with pytest.raises(IkeFormatError):
        dh.make_key_pair(group, seeded(3)).shared(value)


def test_unknown_group_is_a_key_error() -> None:
    with pytest.raises(KeyError):
        dh.make_key_pair(1, seeded(1))


def test_cbc_of_rfc_3602_case_1_through_the_library() -> None:
    key = bytes.fromhex("06a9214036b8a15b512e03d534120006")
    iv = bytes.fromhex("3dafba429d9eb430b422da802c9fac41")
    encryptor = Cipher(algorithms.AES(key), modes.CBC(iv)).encryptor()
    assert encryptor.update(b"Single block msg").hex() == "e353779c1079aeb82708942dbe77181a"


def test_cbc_packets_open_with_a_fresh_context_and_the_iv_they_carry() -> None:
    """The long-lived context must still make packets that anyone can open on their own."""
    keys = EspKeys(b"e" * 32, b"i" * 32)
    cipher = by_name(Kind.ENCRYPTION, "AES-CBC-256")
    mac = by_name(Kind.INTEGRITY, "HMAC-SHA2-256-128")
    sealer = make_sealer(9, cipher, mac, keys, esn=False, rng=seeded(5))
    for size in (0, 1, 14, 15, 16, 1400):
        packet = sealer.seal(b"x" * size)
        decryptor = Cipher(algorithms.AES(b"e" * 32), modes.CBC(packet[8:24])).decryptor()
        plain = decryptor.update(packet[24:-16])
        assert plain[:size] == b"x" * size
        assert plain[-1] == 4


def test_what_is_said_to_be_spoken_is_what_the_engines_have() -> None:
    spoken = [a for a in ALGORITHMS if a.name in SPOKEN]
    by_kind = {kind: {a.number for a in spoken if a.kind is kind} for kind in Kind}
    assert by_kind[Kind.GROUP] == dh.SPOKEN_GROUPS
    assert by_kind[Kind.PRF] == PRF_HASHES.keys()
    assert by_kind[Kind.INTEGRITY] == INTEGRITY.keys()
    macs = [a for a in spoken if a.kind is Kind.INTEGRITY]
    for cipher in (a for a in ALGORITHMS if a.kind is Kind.ENCRYPTION):
        integrity = None if cipher.combined else macs[0]
        if cipher in spoken:
            assert key_lengths(cipher, integrity)
        else:
            with pytest.raises(EspError):
                key_lengths(cipher, integrity)
