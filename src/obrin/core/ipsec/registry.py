"""Algorithms for IKEv2 and ESP: the IANA transform numbers, strengths, and their standing.

Numbers are from the IANA registry "IKEv2 Parameters", transform types 1 to 5. Standing follows
RFC 8247 (IKEv2), RFC 8221 (ESP) and RFC 9395, whichever is stricter for use in new designs; what
these do not name may be used. NULL encryption is a must for ESP and no protection of what is said,
so here it is one that should not be used. Strengths of DH groups follow RFC 3766 and RFC 3526.
Names are the registry's without the type prefix, with the key length in bits appended where the
registry leaves it open: `AES-GCM-16-256` is ENCR_AES_GCM_16 with a 256-bit key.
"""

from __future__ import annotations

import difflib
import enum
import re
from collections.abc import Callable
from dataclasses import dataclass


class Kind(enum.IntEnum):
    """Transform types (RFC 7296 section 3.3.2; key exchange named as in RFC 9370)."""

    ENCRYPTION = 1
    PRF = 2
    INTEGRITY = 3
    GROUP = 4
    ESN = 5


class Standing(enum.Enum):
    """What today's documents say about using an algorithm."""

    MUST = "must"
    SHOULD = "should"
    MAY = "may"
    SHOULD_NOT = "should not"
    MUST_NOT = "must not"


@dataclass(frozen=True, slots=True, eq=False)
class Algorithm:
    """One transform. `key_bits` is the Key Length attribute or None; `strength` is in bits.

    There is one object for each, in the table below, so identity is equality; what is sent to
    another process is that one's.
    """

    kind: Kind
    number: int
    name: str
    strength: int
    standing: Standing
    key_bits: int | None = None
    combined: bool = False

    def __str__(self) -> str:
        return self.name

    def __reduce__(self) -> tuple[Callable[[Kind, str], Algorithm], tuple[Kind, str]]:
        return by_name, (self.kind, self.name)


_M, _S, _Y, _SN, _MN = Standing
_E, _P, _I, _G = Kind.ENCRYPTION, Kind.PRF, Kind.INTEGRITY, Kind.GROUP


def _keyed(
    number: int, name: str, standing: Standing, *, combined: bool = False
) -> tuple[Algorithm, ...]:
    """A cipher that takes keys of 128, 192 and 256 bits; the middle one nobody asks for."""
    return tuple(
        Algorithm(
            _E,
            number,
            f"{name}-{bits}",
            bits,
            _Y if bits == 192 and standing is _M else standing,
            bits,
            combined,
        )
        for bits in (128, 192, 256)
    )


ALGORITHMS: tuple[Algorithm, ...] = (
    Algorithm(_E, 1, "DES-IV64", 56, _MN),
    Algorithm(_E, 2, "DES", 56, _MN),
    Algorithm(_E, 3, "3DES", 112, _SN),
    Algorithm(_E, 4, "RC5", 64, _MN),
    Algorithm(_E, 5, "IDEA", 126, _MN),
    Algorithm(_E, 6, "CAST", 128, _MN),
    Algorithm(_E, 7, "BLOWFISH", 64, _MN),
    Algorithm(_E, 8, "3IDEA", 126, _MN),
    Algorithm(_E, 9, "DES-IV32", 56, _MN),
    Algorithm(_E, 11, "NULL", 0, _SN),
    *_keyed(12, "AES-CBC", _M),
    *_keyed(13, "AES-CTR", _Y),
    *_keyed(14, "AES-CCM-8", _S, combined=True),
    *_keyed(15, "AES-CCM-12", _Y, combined=True),
    *_keyed(16, "AES-CCM-16", _Y, combined=True),
    *_keyed(18, "AES-GCM-8", _Y, combined=True),
    *_keyed(19, "AES-GCM-12", _Y, combined=True),
    *_keyed(20, "AES-GCM-16", _M, combined=True),
    *_keyed(23, "CAMELLIA-CBC", _Y),
    *_keyed(24, "CAMELLIA-CTR", _Y),
    *_keyed(25, "CAMELLIA-CCM-8", _Y, combined=True),
    *_keyed(26, "CAMELLIA-CCM-12", _Y, combined=True),
    *_keyed(27, "CAMELLIA-CCM-16", _Y, combined=True),
    Algorithm(_E, 28, "CHACHA20-POLY1305", 256, _S, combined=True),
    Algorithm(_P, 1, "PRF-HMAC-MD5", 64, _MN),
    Algorithm(_P, 2, "PRF-HMAC-SHA1", 80, _SN),
    Algorithm(_P, 3, "PRF-HMAC-TIGER", 96, _MN),
    Algorithm(_P, 4, "PRF-AES128-XCBC", 128, _S),
    Algorithm(_P, 5, "PRF-HMAC-SHA2-256", 256, _M),
    Algorithm(_P, 6, "PRF-HMAC-SHA2-384", 384, _S),
    Algorithm(_P, 7, "PRF-HMAC-SHA2-512", 512, _S),
    Algorithm(_P, 8, "PRF-AES128-CMAC", 128, _Y),
    Algorithm(_I, 1, "HMAC-MD5-96", 64, _MN),
    Algorithm(_I, 2, "HMAC-SHA1-96", 80, _SN),
    Algorithm(_I, 3, "DES-MAC", 56, _MN),
    Algorithm(_I, 4, "KPDK-MD5", 64, _MN),
    Algorithm(_I, 5, "AES-XCBC-96", 96, _S),
    Algorithm(_I, 8, "AES-CMAC-96", 96, _Y),
    Algorithm(_I, 12, "HMAC-SHA2-256-128", 128, _M),
    Algorithm(_I, 13, "HMAC-SHA2-384-192", 192, _Y),
    Algorithm(_I, 14, "HMAC-SHA2-512-256", 256, _S),
    Algorithm(_G, 1, "MODP-768", 50, _MN),
    Algorithm(_G, 2, "MODP-1024", 80, _SN),
    Algorithm(_G, 5, "MODP-1536", 90, _SN),
    Algorithm(_G, 14, "MODP-2048", 112, _M),
    Algorithm(_G, 15, "MODP-3072", 128, _Y),
    Algorithm(_G, 16, "MODP-4096", 150, _Y),
    Algorithm(_G, 17, "MODP-6144", 170, _Y),
    Algorithm(_G, 18, "MODP-8192", 190, _Y),
    Algorithm(_G, 19, "ECP-256", 128, _S),
    Algorithm(_G, 20, "ECP-384", 192, _Y),
    Algorithm(_G, 21, "ECP-521", 256, _Y),
    Algorithm(_G, 22, "MODP-1024-S160", 80, _MN),
    Algorithm(_G, 23, "MODP-2048-S224", 112, _SN),
    Algorithm(_G, 24, "MODP-2048-S256", 112, _SN),
    Algorithm(_G, 25, "ECP-192", 96, _Y),
    Algorithm(_G, 26, "ECP-224", 112, _Y),
    Algorithm(_G, 27, "BRAINPOOL-P224R1", 112, _Y),
    Algorithm(_G, 28, "BRAINPOOL-P256R1", 128, _Y),
    Algorithm(_G, 29, "BRAINPOOL-P384R1", 192, _Y),
    Algorithm(_G, 30, "BRAINPOOL-P512R1", 256, _Y),
    Algorithm(_G, 31, "CURVE25519", 128, _S),
    Algorithm(_G, 32, "CURVE448", 224, _Y),
    Algorithm(Kind.ESN, 0, "NO-ESN", 0, _Y),
    Algorithm(Kind.ESN, 1, "ESN", 0, _S),
)

_BY_NAME = {(a.kind, a.name): a for a in ALGORITHMS}
_BY_NUMBER = {(int(a.kind), a.number, a.key_bits): a for a in ALGORITHMS}


def by_name(kind: Kind, name: str) -> Algorithm:
    """The algorithm of a kind by its name, in any case; groups also by number.

    Raises KeyError whose message lists the names that exist.
    """
    wanted = name.strip().upper().replace("_", "-")
    if kind is Kind.GROUP and wanted.isdigit() and len(wanted) < 6:
        found = _BY_NUMBER.get((kind, int(wanted), None))
    else:
        found = _BY_NAME.get((kind, wanted))
    if found is None:
        what = f"'{name}' is not a known {kind.name.lower()} algorithm"
        raise KeyError(f"{what}; {_near(kind, name)}")
    return found


_MOST_NEAR = 3


def _near(kind: Kind, name: str) -> str:
    """The names that may be meant: those that hold all parts of what was written, or look like it;
    otherwise all."""
    known = [a.name for a in ALGORITHMS if a.kind is kind]
    good = (Standing.MUST, Standing.SHOULD)
    usual = [a.name for a in ALGORITHMS if a.kind is kind and a.standing in good] or known
    parts = re.findall(r"[A-Z]+|\d+", name.upper())
    holding = [n for n in known if parts and all(part in n for part in parts)]
    meant = holding or difflib.get_close_matches(name.upper(), known, n=_MOST_NEAR, cutoff=0.7)
    if len(meant) > _MOST_NEAR:
        meant = [n for n in meant if n in usual]
    if meant and len(meant) <= _MOST_NEAR:
        return f"did you mean {' or '.join(meant)}?"
    rest = "" if len(usual) == len(known) else ", and more that are seldom right"
    return f"known: {', '.join(usual)}{rest}"


def by_number(kind: int, number: int, key_bits: int | None) -> Algorithm | None:
    """The algorithm with these registry numbers, or None when it is not known here."""
    return _BY_NUMBER.get((kind, number, key_bits))


SPOKEN = frozenset(
    {
        *(f"{cipher}-{bits}" for cipher in ("AES-GCM-16", "AES-CBC") for bits in (128, 192, 256)),
        "CHACHA20-POLY1305",
        "PRF-HMAC-SHA1",
        *(f"PRF-HMAC-SHA2-{bits}" for bits in (256, 384, 512)),
        "HMAC-SHA1-96",
        "HMAC-SHA2-256-128",
        "HMAC-SHA2-384-192",
        "HMAC-SHA2-512-256",
        *(f"MODP-{bits}" for bits in (1024, 1536, 2048, 3072, 4096)),
        *(f"ECP-{bits}" for bits in (256, 384, 521)),
        "CURVE25519",
        "ESN",
        "NO-ESN",
    }
)
"""Names of the algorithms that the wire engines speak; others can be described and judged."""
