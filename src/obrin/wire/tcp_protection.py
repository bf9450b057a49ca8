"""How TCP segments are signed: with a password (RFC 2385), or by TCP-AO (RFC 5925, RFC 5926).

    | kind 19 | length 18 | digest (16) |                        TCP-MD5
    | kind 29 | length 16 | KeyID | RNextKeyID | MAC (12) |      TCP-AO

TCP-AO never uses its key itself: each connection has four keys of its own, made from the key, the
addresses and ports, and the first sequence numbers, so that nothing of an earlier connection can be
said again in a later one. The sequence number counts with the times that it has run round.
"""

from __future__ import annotations

import hashlib
import hmac
from dataclasses import dataclass, field
from typing import NamedTuple, Protocol

from cryptography.hazmat.primitives.ciphers.algorithms import AES
from cryptography.hazmat.primitives.cmac import CMAC

from obrin.core.address.prefix import Address
from obrin.wire.packet import TCP, Packet, pseudo_header

TCP_MD5, HMAC_SHA_1_96, AES_128_CMAC_96 = "tcp-md5", "hmac-sha-1-96", "aes-128-cmac-96"
SIGNATURES = (TCP_MD5, HMAC_SHA_1_96, AES_128_CMAC_96)
MD5_KIND, AO_KIND = SIGNING_KINDS = 19, 29
KEY_NUMBER = 1
"""What both ends call the only key of a session, in both directions (RFC 5925 section 3.1)."""
_MD5_HEAD = b"\x01\x01\x13\x12"
"""Two options that mean nothing, so that words stay words; then kind and length."""
_AO_HEAD = bytes((AO_KIND, 16, KEY_NUMBER, KEY_NUMBER))
_MAC = 12
_LABEL = b"TCP-AO"


class Numbers(NamedTuple):
    """The initial sequence numbers of a segment's sender and receiver (0 while not known), and how
    often its sequence number has wrapped."""

    sender: int
    receiver: int
    rounds: int = 0


NO_NUMBERS = Numbers(0, 0)
_MOD = 1 << 32


def rounds_of(near: int, sequence: int) -> int:
    """How often a sequence number has run round that belongs near one that counts on."""
    half = _MOD // 2
    return max(near + (sequence - near + half) % _MOD - half, 0) // _MOD


class Protection(Protocol):
    """What signs the segments between two addresses. An option ends in the value, and is as long
    as `blank`, which has zeros there."""

    @property
    def kind(self) -> int: ...

    @property
    def blank(self) -> bytes: ...

    def value(
        self, source: Address, destination: Address, segment: bytes, numbers: Numbers
    ) -> bytes:
        """Compute the signature of a segment that holds `blank`, or the signature that arrived,
        in its place. The checksum is not covered."""
        ...

    def fits(self, packet: Packet, found: bytes, numbers: Numbers) -> bool:
        """Whether what an option of a segment brought is right."""
        ...

    @property
    def differs(self) -> str:
        """Why it may not be right, in words."""
        ...


@dataclass(frozen=True, slots=True)
class Md5Protection:
    """RFC 2385 section 2: over the pseudo-header, the header without options and with a checksum
    of zero, the data, and the password."""

    password: bytes = field(repr=False)
    kind: int = MD5_KIND
    blank: bytes = _MD5_HEAD + bytes(16)

    def value(
        self, source: Address, destination: Address, segment: bytes, numbers: Numbers
    ) -> bytes:
        head = (segment[12] >> 4) * 4
        made = hashlib.md5(usedforsecurity=False)  # as the RFC has it; ESP protects the session
        made.update(pseudo_header(source, destination, TCP, len(segment)))
        made.update(segment[:16] + bytes(2) + segment[18:20] + segment[head:] + self.password)
        return made.digest()

    def fits(self, packet: Packet, found: bytes, numbers: Numbers) -> bool:
        right = self.value(packet.source, packet.destination, packet.payload, numbers)
        return hmac.compare_digest(right, found)

    @property
    def differs(self) -> str:
        return "the TCP signature does not match: the passwords differ"


@dataclass(frozen=True, slots=True)
class AoProtection:
    """TCP-AO with one key and the MAC `algorithm`; options are covered (RFC 5925 section 5.1)."""

    key: bytes = field(repr=False)
    algorithm: str = HMAC_SHA_1_96
    kind: int = AO_KIND
    blank: bytes = _AO_HEAD + bytes(_MAC)

    def value(
        self, source: Address, destination: Address, segment: bytes, numbers: Numbers
    ) -> bytes:
        key = traffic_key(self.algorithm, self.key, _context(source, destination, segment, numbers))
        covered = (
            numbers.rounds.to_bytes(4, "big")
            + pseudo_header(source, destination, TCP, len(segment))
            + segment[:16]
            + bytes(2)
            + _without_mac(segment)[18:]
        )
        return _mac(self.algorithm, key, covered)[:_MAC]

    def fits(self, packet: Packet, found: bytes, numbers: Numbers) -> bool:
        right = self.value(packet.source, packet.destination, packet.payload, numbers)
        return hmac.compare_digest(_AO_HEAD[2:] + right, found)

    @property
    def differs(self) -> str:
        return "the TCP signature does not match: the passwords or their algorithms differ"


def protection(signature: str, password: bytes) -> Protection:
    """Make the protection that has this name in `SIGNATURES`."""
    if signature == TCP_MD5:
        return Md5Protection(password)
    return AoProtection(password, signature)


def traffic_key(algorithm: str, key: bytes, context: bytes) -> bytes:
    """A key of one direction of one connection (RFC 5926 section 3.1)."""
    if algorithm == AES_128_CMAC_96:
        if len(key) != 16:
            key = _cmac(bytes(16), key)  # section 3.1.1.2
        return _cmac(key, b"\x01" + _LABEL + context + (128).to_bytes(2, "big"))
    return hmac.digest(key, b"\x01" + _LABEL + context + (160).to_bytes(2, "big"), "sha1")


def _context(source: Address, destination: Address, segment: bytes, numbers: Numbers) -> bytes:
    """RFC 5925 section 5.2."""
    size = source.bits // 8
    return (
        source.value.to_bytes(size, "big")
        + destination.value.to_bytes(size, "big")
        + segment[:4]
        + numbers.sender.to_bytes(4, "big")
        + numbers.receiver.to_bytes(4, "big")
    )


def _without_mac(segment: bytes) -> bytes:
    """The same with zeros where the MAC is."""
    at, end = 20, (segment[12] >> 4) * 4
    while at + 1 < end and segment[at]:
        if segment[at] == AO_KIND:
            first = at + 4
            return segment[:first] + bytes(_MAC) + segment[first + _MAC :]
        at += 1 if segment[at] == 1 else max(segment[at + 1], 2)
    return segment


def _mac(algorithm: str, key: bytes, data: bytes) -> bytes:
    if algorithm == AES_128_CMAC_96:
        return _cmac(key, data)
    return hmac.digest(key, data, "sha1")


def _cmac(key: bytes, data: bytes) -> bytes:
    made = CMAC(AES(key))
    made.update(data)
    return made.finalize()
