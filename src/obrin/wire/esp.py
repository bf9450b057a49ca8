"""ESP in tunnel mode (RFC 4303): AES-GCM-16 (RFC 4106), ChaCha20-Poly1305 (RFC 7634), or AES-CBC
(RFC 3602) with an HMAC.

    0                   1                   2                   3
    | Security Parameters Index (4)  | Sequence Number (4, the low half with ESN) |
    | IV: 8 bytes, 16 with CBC | ciphertext of (packet | padding | pad length | next) |
    | ICV (16, or what the HMAC sends)                                               |

Sealing and opening are one object each, made once per SA: keys are scheduled once, headers come
from one precompiled pack and trailers from a table. The anti-replay window is a ring that holds,
in the slot `sequence mod size`, the last sequence number accepted there: a duplicate is a slot
that already holds the number, and nothing is ever shifted.

The invariant. A number is marked only after its packet was authenticated, so a forged one cannot
move the window. The cost of the window is one array read and one write for each packet.

Proven: `tests/wire/test_esp.py` holds the ring against a plain list as RFC 4303 describes it, and
the dissector opens what is sealed here (`tests/live/test_dissector.py`).
"""

from __future__ import annotations

import hmac as _hmac
from collections.abc import Callable
from dataclasses import dataclass
from struct import Struct
from typing import Protocol

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from cryptography.hazmat.primitives.ciphers.aead import AESGCM, ChaCha20Poly1305

from obrin.core.ipsec.registry import Algorithm
from obrin.wire.errors import WireError
from obrin.wire.macs import INTEGRITY, Integrity

NEXT_IPV4 = 4
NEXT_IPV6 = 41
NEXT_DUMMY = 59
WINDOW = 1024

_GCM_HEAD = Struct(">IIQ")
_HEAD = Struct(">II")
_ESN_AAD = Struct(">IQ")

# RFC 4303 section 2.4: padding bytes count 1, 2, 3 ..., then pad length, then next header.
_TRAILERS_4 = {
    n: [
        bytes(range(1, pad + 1)) + bytes((pad, n))
        for pad in ((-length - 2) % 4 for length in range(4))
    ]
    for n in (NEXT_IPV4, NEXT_IPV6, NEXT_DUMMY)
}
_TRAILERS_16 = {
    n: [
        bytes(range(1, pad + 1)) + bytes((pad, n))
        for pad in ((-length - 2) % 16 for length in range(16))
    ]
    for n in (NEXT_IPV4, NEXT_IPV6, NEXT_DUMMY)
}
_TAILS = [bytes(range(1, pad + 1)) + bytes((pad,)) for pad in range(256)]


class EspError(WireError):
    """A packet that did not open; `reason` is one of the words below."""

    def __init__(self, reason: str, text: str) -> None:
        self.reason = reason
        super().__init__(text)


TOO_SHORT, REPLAYED, TOO_OLD, NOT_AUTHENTIC, BAD_PADDING, EXHAUSTED = (
    "too short",
    "replayed",
    "older than the window",
    "not authentic",
    "bad padding",
    "sequence numbers exhausted",
)


@dataclass(frozen=True, slots=True)
class EspKeys:
    """Key material of one direction, in the order of RFC 7296 section 2.17."""

    encryption: bytes
    integrity: bytes = b""


class Sealer(Protocol):
    """Outbound half of a child SA."""

    spi: int
    packets: int
    octets: int

    def seal(self, packet: bytes, next_header: int = NEXT_IPV4) -> bytes: ...


class Opener(Protocol):
    """Inbound half of a child SA."""

    spi: int
    packets: int
    octets: int

    def open(self, data: bytes) -> tuple[int, bytes]: ...

    def missing(self) -> tuple[int, int]: ...


def key_lengths(encryption: Algorithm, integrity: Algorithm | None) -> tuple[int, int]:
    """Bytes of (encryption key with salt, integrity key) per direction. Raises EspError."""
    bits = encryption.key_bits
    if encryption.number == CHACHA20:
        return 32 + SALT, 0
    if encryption.number == AES_GCM_16 and bits is not None:
        return bits // 8 + SALT, 0
    known = INTEGRITY.get(integrity.number) if integrity is not None else None
    if encryption.number == AES_CBC and bits is not None and known is not None:
        return bits // 8, known.key
    raise EspError("not spoken", f"ESP with {encryption} and {integrity} is not spoken here")


AES_CBC, AES_GCM_16, CHACHA20 = 12, 20, 28
SALT = 4
"""Bytes behind the key of a combined-mode cipher (RFC 4106 section 8.1, RFC 7634 section 2)."""
Aead = AESGCM | ChaCha20Poly1305


def make_aead(encryption: Algorithm, key: bytes) -> tuple[Aead, bytes]:
    """A combined-mode cipher, and its salt, from what stands behind both in the key material."""
    kind = ChaCha20Poly1305 if encryption.number == CHACHA20 else AESGCM
    return kind(key[:-SALT]), key[-SALT:]


def make_sealer(
    spi: int,
    encryption: Algorithm,
    integrity: Algorithm | None,
    keys: EspKeys,
    *,
    esn: bool,
    rng: Callable[[int], bytes],
) -> Sealer:
    """The outbound half of a child SA. `rng` gives IVs to CBC; combined-mode ciphers count."""
    if integrity is None:
        return AeadSealer(spi, *make_aead(encryption, keys.encryption), esn=esn)
    return CbcSealer(spi, keys, INTEGRITY[integrity.number], esn=esn, rng=rng)


def make_opener(
    spi: int, encryption: Algorithm, integrity: Algorithm | None, keys: EspKeys, *, esn: bool
) -> Opener:
    """The inbound half of a child SA."""
    if integrity is None:
        return AeadOpener(spi, *make_aead(encryption, keys.encryption), esn=esn)
    return CbcOpener(spi, keys, INTEGRITY[integrity.number], esn=esn)


class ReplayRing:
    """Anti-replay window (RFC 4303 section 3.4.3) and the high half of ESN (appendix A)."""

    __slots__ = ("_slots", "esn", "top")

    def __init__(self, *, esn: bool) -> None:
        self.top = 0
        self.esn = esn
        self._slots = [0] * WINDOW

    def infer(self, low: int) -> int:
        """The full number behind the 32 bits on the wire. Raises EspError if it must be refused.

        Without ESN the number is the low half itself.
        """
        number = low
        if self.esn:
            number = self._whole(low)
            if number < 0:
                raise EspError(TOO_OLD, f"sequence number {low} is older than the first")
        if number + WINDOW <= self.top:
            raise EspError(TOO_OLD, f"sequence number {number} is older than {self.top - WINDOW}")
        if number == 0 or self._slots[number % WINDOW] == number:
            raise EspError(REPLAYED, f"sequence number {number} came before")
        return number

    def _whole(self, low: int) -> int:
        """Appendix A2.1. The window ends at `top`; a number inside it, or up to 2^32 after its
        start, has one high half that fits: below zero when it would be before the first."""
        high, top_low = divmod(self.top, 1 << 32)
        bottom_low = (top_low - WINDOW + 1) & 0xFFFFFFFF
        if top_low >= WINDOW - 1:  # case A: the window lies in one subspace
            high += low < bottom_low
        else:  # case B: it spans two
            high -= low >= bottom_low
        return (high << 32) + low

    def missing(self) -> tuple[int, int]:
        """Count the sequence numbers in the window up to the highest seen, and those of them
        that did not arrive."""
        first = max(1, self.top - WINDOW + 1)
        came = sum(slot >= first for slot in self._slots)
        return self.top - first + 1, self.top - first + 1 - came

    def accept(self, number: int) -> None:
        """Mark an authenticated number as seen."""
        self._slots[number % WINDOW] = number
        if number > self.top:
            self.top = number


class AeadSealer:
    """A combined-mode cipher: the IV is the 64-bit sequence number, which never repeats under one
    key."""

    __slots__ = ("_aead", "_esn", "_limit", "_salt", "_sequence", "octets", "packets", "spi")

    def __init__(self, spi: int, aead: Aead, salt: bytes, *, esn: bool, sequence: int = 0) -> None:
        self.spi = spi
        self.packets = 0
        self.octets = 0
        self._aead = aead
        self._salt = salt
        self._esn = esn
        self._sequence = sequence
        self._limit = (1 << 64) - 1 if esn else (1 << 32) - 1

    def seal(self, packet: bytes, next_header: int = NEXT_IPV4) -> bytes:
        """One inner packet as one ESP packet. Raises EspError when numbers run out."""
        sequence = self._sequence + 1
        if sequence > self._limit:
            raise EspError(EXHAUSTED, "every sequence number of this SA is used; rekey it")
        self._sequence = sequence
        head = _GCM_HEAD.pack(self.spi, sequence & 0xFFFFFFFF, sequence)
        size = len(packet)
        self.packets += 1
        self.octets += size
        return head + self._aead.encrypt(
            self._salt + head[8:],
            packet + _TRAILERS_4[next_header][size & 3],
            _ESN_AAD.pack(self.spi, sequence) if self._esn else head[:8],
        )


class AeadOpener:
    """The inbound twin of `AeadSealer`, with its replay window."""

    __slots__ = ("_aead", "_ring", "_salt", "octets", "packets", "spi")

    def __init__(self, spi: int, aead: Aead, salt: bytes, *, esn: bool) -> None:
        self.spi = spi
        self.packets = 0
        self.octets = 0
        self._aead = aead
        self._salt = salt
        self._ring = ReplayRing(esn=esn)

    def missing(self) -> tuple[int, int]:
        """Count sequence numbers as its replay window does."""
        return self._ring.missing()

    def open(self, data: bytes) -> tuple[int, bytes]:
        """(next header, inner packet). Raises EspError."""
        if len(data) < 36:
            raise EspError(TOO_SHORT, f"an ESP packet of {len(data)} bytes cannot be one")
        spi, low = _HEAD.unpack_from(data)
        ring = self._ring
        # The usual case, newer than all before and far from a wrap, needs no look at the ring.
        newer = ring.top < low < 0x80000000
        sequence = low if newer else ring.infer(low)
        try:
            plain = self._aead.decrypt(
                self._salt + data[8:16],
                data[16:],
                _ESN_AAD.pack(spi, sequence) if ring.esn else data[:8],
            )
        except InvalidTag:
            raise EspError(NOT_AUTHENTIC, "the integrity check value does not match") from None
        ring.accept(sequence)
        packet = _strip(plain)
        self.packets += 1
        self.octets += len(packet)
        return plain[-1], packet


def _strip(plain: bytes) -> bytes:
    """The packet without its trailer; the padding bytes are checked (RFC 4303 section 2.4)."""
    pad = plain[-2]
    if plain[-2 - pad : -1] != _TAILS[pad]:
        raise EspError(BAD_PADDING, "the padding is not 1, 2, 3, ...")
    return plain[: -2 - pad]


class CbcSealer:
    """AES-CBC with an HMAC, encrypt then authenticate.

    One CBC context lives as long as the SA: a random block goes in first and its ciphertext
    becomes the packet's IV, which is as unpredictable as the block (RFC 3602 section 3).
    """

    __slots__ = (
        "_encrypt",
        "_esn",
        "_icv",
        "_mac",
        "_rng",
        "_sequence",
        "octets",
        "packets",
        "spi",
    )

    def __init__(
        self,
        spi: int,
        keys: EspKeys,
        integrity: Integrity,
        *,
        esn: bool,
        rng: Callable[[int], bytes],
        sequence: int = 0,
    ) -> None:
        self.spi = spi
        self.packets = 0
        self.octets = 0
        self._encrypt = Cipher(algorithms.AES(keys.encryption), modes.CBC(rng(16))).encryptor()
        self._mac = integrity.start(keys.integrity)
        self._icv = integrity.icv
        self._rng = rng
        self._esn = esn
        self._sequence = sequence

    def seal(self, packet: bytes, next_header: int = NEXT_IPV4) -> bytes:
        """One inner packet as one ESP packet. Raises EspError when numbers run out."""
        sequence = self._sequence + 1
        if sequence >> (64 if self._esn else 32):
            raise EspError(EXHAUSTED, "every sequence number of this SA is used; rekey it")
        self._sequence = sequence
        size = len(packet)
        body = _HEAD.pack(self.spi, sequence & 0xFFFFFFFF) + self._encrypt.update(
            self._rng(16) + packet + _TRAILERS_16[next_header][size & 15]
        )
        mac = self._mac.copy()
        mac.update(body + (sequence >> 32).to_bytes(4, "big") if self._esn else body)
        self.packets += 1
        self.octets += size
        return body + mac.finalize()[: self._icv]


class CbcOpener:
    """The inbound twin of `CbcSealer`, with its replay window."""

    __slots__ = ("_decrypt", "_icv", "_mac", "_ring", "octets", "packets", "spi")

    def __init__(self, spi: int, keys: EspKeys, integrity: Integrity, *, esn: bool) -> None:
        self.spi = spi
        self.packets = 0
        self.octets = 0
        self._decrypt = Cipher(algorithms.AES(keys.encryption), modes.CBC(bytes(16))).decryptor()
        self._mac = integrity.start(keys.integrity)
        self._icv = integrity.icv
        self._ring = ReplayRing(esn=esn)

    def missing(self) -> tuple[int, int]:
        """Count sequence numbers as its replay window does."""
        return self._ring.missing()

    def open(self, data: bytes) -> tuple[int, bytes]:
        """(next header, inner packet). Raises EspError."""
        icv = self._icv
        if len(data) < 40 + icv or (len(data) - 24 - icv) % 16:
            raise EspError(TOO_SHORT, f"an ESP packet of {len(data)} bytes cannot be one")
        ring = self._ring
        sequence = ring.infer(int.from_bytes(data[4:8], "big"))
        mac = self._mac.copy()
        mac.update(data[:-icv])
        if ring.esn:
            mac.update((sequence >> 32).to_bytes(4, "big"))
        if not _hmac.compare_digest(mac.finalize()[:icv], data[-icv:]):
            raise EspError(NOT_AUTHENTIC, "the integrity check value does not match")
        ring.accept(sequence)
        plain = self._decrypt.update(data[8:-icv])[16:]
        packet = _strip(plain)
        self.packets += 1
        self.octets += len(packet)
        return plain[-1], packet
