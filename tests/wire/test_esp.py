"""ESP: every size and mode there and back, the window, ESN, and hostile packets."""

from __future__ import annotations

import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obrin.core.ipsec.registry import Kind, by_name
from obrin.wire import esp
from obrin.wire.esp import WINDOW, AeadOpener, AeadSealer, EspError, EspKeys, ReplayRing, make_aead
from tests.doubles import seeded

CIPHERS = [
    "AES-GCM-16-128",
    "AES-GCM-16-256",
    "CHACHA20-POLY1305",
    "AES-CBC-128",
    "AES-CBC-256 HMAC-SHA1-96",
    "AES-CBC-256 HMAC-SHA2-384-192",
    "AES-CBC-256 HMAC-SHA2-512-256",
]
GCM = by_name(Kind.ENCRYPTION, "AES-GCM-16-256")


def both(name: str, *, esn: bool, spi: int = 7):
    name, _, mac = name.partition(" ")
    cipher = by_name(Kind.ENCRYPTION, name)
    integrity = None
    if not cipher.combined:
        integrity = by_name(Kind.INTEGRITY, mac or "HMAC-SHA2-256-128")
    e, i = esp.key_lengths(cipher, integrity)
    keys = EspKeys(seeded(1)(e), seeded(2)(i))
    return (
        esp.make_sealer(spi, cipher, integrity, keys, esn=esn, rng=seeded(3)),
        esp.make_opener(spi, cipher, integrity, keys, esn=esn),
    )


@pytest.mark.parametrize("esn", [False, True])
@pytest.mark.parametrize("name", CIPHERS)
def test_every_size_comes_back_and_is_aligned(name: str, esn: bool) -> None:
    sealer, opener = both(name, esn=esn)
    for size in [*range(70), 1399, 1400]:
        packet = seeded(size)(size)
        sealed = sealer.seal(packet)
        assert len(sealed) % 4 == 0
        assert opener.open(sealed) == (4, packet)
    assert (sealer.packets, opener.packets) == (72, 72)
    assert sealer.octets == opener.octets


@pytest.mark.parametrize("name", CIPHERS)
def test_a_changed_bit_anywhere_is_noticed(name: str) -> None:
    sealer, opener = both(name, esn=False)
    sealed = sealer.seal(b"inner packet")
    for position in range(4, len(sealed)):
        broken = bytearray(sealed)
        broken[position] ^= 1
        with pytest.raises(EspError):
            opener.open(bytes(broken))
    assert opener.open(sealed)[1] == b"inner packet"


def test_replays_and_old_packets_are_refused_with_their_reason() -> None:
    sealer, opener = both("AES-GCM-16-256", esn=False)
    packets = [sealer.seal(bytes([n % 256])) for n in range(esp.WINDOW + 10)]
    opener.open(packets[5])
    with pytest.raises(EspError) as replayed:
        opener.open(packets[5])
    assert replayed.value.reason == esp.REPLAYED
    opener.open(packets[-1])
    with pytest.raises(EspError) as old:
        opener.open(packets[6])
    assert old.value.reason == esp.TOO_OLD
    assert opener.open(packets[20])[1] == bytes([20])


def test_a_forged_number_does_not_move_the_window() -> None:
    sealer, opener = both("AES-GCM-16-256", esn=False)
    first = sealer.seal(b"a")
    forged = first[:4] + (10**6).to_bytes(4, "big") + first[8:]
    with pytest.raises(EspError, match="integrity"):
        opener.open(forged)
    assert opener.open(first)[1] == b"a"


@pytest.mark.parametrize("start", [2**32 - 3, 2**33 - 2, 2**32 + 500])
def test_extended_numbers_pass_the_32_bit_boundary(start: int) -> None:
    key = seeded(4)(36)
    sealer = AeadSealer(7, *make_aead(GCM, key), esn=True, sequence=start)
    opener = AeadOpener(7, *make_aead(GCM, key), esn=True)
    opener._ring.top = start
    packets = [sealer.seal(bytes([n])) for n in range(10)]
    order = [0, 3, 1, 9, 5, 2]
    assert [opener.open(packets[n])[1] for n in order] == [bytes([n]) for n in order]


def test_numbers_run_out_without_esn() -> None:
    sealer = AeadSealer(7, *make_aead(GCM, bytes(36)), esn=False, sequence=2**32 - 2)
    sealer.seal(b"last")
    with pytest.raises(EspError) as error:
        sealer.seal(b"one too many")
    assert error.value.reason == esp.EXHAUSTED


def test_pairings_that_are_not_spoken_and_padding_that_does_not_count() -> None:
    old = by_name(Kind.ENCRYPTION, "3DES")
    with pytest.raises(EspError, match="is not spoken here"):
        esp.key_lengths(old, by_name(Kind.INTEGRITY, "HMAC-SHA2-256-128"))
    for name in CIPHERS[1:3]:
        sealer, opener = both(name, esn=False)
        bent = [bytes((n + 1) % 256 for n in tail) for tail in esp._TAILS]
        packet = sealer.seal(bytes(21))
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(esp, "_TAILS", bent)
            with pytest.raises(EspError) as error:
                opener.open(packet)
        assert error.value.reason == esp.BAD_PADDING


class BitmapModel:
    """The window as RFC 4303 describes it, slow and plain."""

    def __init__(self) -> None:
        self.seen: set[int] = set()
        self.top = 0

    def fresh(self, number: int) -> bool:
        return number > 0 and number > self.top - esp.WINDOW and number not in self.seen

    def accept(self, number: int) -> None:
        self.seen.add(number)
        self.top = max(self.top, number)


@given(st.lists(st.integers(0, 4000), max_size=200))
def test_the_ring_is_the_window_of_the_rfc(numbers: list[int]) -> None:
    ring, model = ReplayRing(esn=False), BitmapModel()
    for number in numbers:
        try:
            ring.infer(number)
            fresh = True
        except EspError:
            fresh = False
        assert fresh == model.fresh(number)
        if fresh:
            ring.accept(number)
            model.accept(number)


@pytest.mark.parametrize("name", CIPHERS)
@given(data=st.binary(max_size=120))
def test_hostile_bytes_raise_only_esp_error(name: str, data: bytes) -> None:
    _, opener = both(name, esn=True)
    with pytest.raises(EspError):
        opener.open(data)


def test_the_high_half_is_inferred_as_appendix_a_says() -> None:
    """Against every high half tried: the one for which the number lies between the window's start
    and 2^32 after it."""
    rng = random.Random(11)
    edges = [0, 1, 5, WINDOW - 2, WINDOW - 1, WINDOW, 2**31, 2**32 - WINDOW, 2**32 - 1]
    tops = [h << 32 | e for h in (0, 1, 7) for e in edges] + [
        rng.getrandbits(40) for _ in range(300)
    ]
    for top in tops:
        for low in [*edges, *(rng.getrandbits(32) for _ in range(20)), (top - 3) % 2**32]:
            ring = ReplayRing(esn=True)
            ring.top = top
            start = top - WINDOW + 1
            (true,) = [
                n
                for n in (((top >> 32) + d << 32) + low for d in (-1, 0, 1))
                if start <= n < start + 2**32
            ]
            try:
                assert ring.infer(low) == true
            except EspError:
                assert true <= 0
    ring = ReplayRing(esn=True)
    ring.top = 0xFFFFFF00
    assert ring.infer(0x1000) == 0x100001000


@pytest.mark.parametrize("name", CIPHERS)
def test_a_loss_longer_than_the_window_across_the_boundary_heals(name: str) -> None:
    """More than a window is lost just where the low half wraps, and what follows opens again."""
    sealer, opener = both(name, esn=True)
    sealer._sequence = opener._ring.top = (1 << 32) - 50
    opener.open(sealer.seal(b"x"))
    for _ in range(3 * WINDOW):
        sealer.seal(b"lost")
    for _ in range(3):
        assert opener.open(sealer.seal(b"there")) == (4, b"there")
