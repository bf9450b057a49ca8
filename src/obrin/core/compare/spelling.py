"""Names of algorithms in the spellings of screens: to the one of the registry that is meant."""

from __future__ import annotations

import re

from obrin.core.ipsec.registry import ALGORITHMS, Algorithm, Kind

_GROUPS = {
    "MODP-768": 1,
    "MODP-1024": 2,
    "MODP-1536": 5,
    "CURVE25519": 31,
    "X25519": 31,
    "CURVE448": 32,
    "X448": 32,
    **{f"MODP-{bits}": number for bits, number in ((2048, 14), (3072, 15), (4096, 16))},
    **{f"MODP-{bits}": number for bits, number in ((6144, 17), (8192, 18))},
    **{
        f"{family}{bits}": number
        for family in ("ECP-", "P-", "NIST P-", "SECP-", "EC-")
        for bits, number in ((192, 25), (224, 26), (256, 19), (384, 20), (521, 21))
    },
}
_NUMBER = re.compile(r"(?:dh|group|grp|diffie hellman|modpgroup|dh group|kex)?\s*(\d{1,2})\Z")
_BITS = re.compile(r"(128|192|256)")


def algorithm(kind: Kind, text: str) -> Algorithm | None:
    """None for what is none of this kind."""
    plain = re.sub(r"\([^)]*\)", " ", text).strip().lower()
    bare = re.sub(r"^(encr|prf|auth|integ)[ _]", "", plain)
    mine = [a for a in ALGORITHMS if a.kind is kind]
    exact = next((a for a in mine if _tight(a.name) in (_tight(plain), _tight(bare))), None)
    if exact is not None:
        return exact
    reader = {
        Kind.ENCRYPTION: _encryption,
        Kind.INTEGRITY: _integrity,
        Kind.PRF: _prf,
        Kind.GROUP: _group,
    }[kind]
    number, bits = reader(bare) or (None, None)
    return next((a for a in mine if (a.number, a.key_bits) == (number, bits)), None)


def _tight(text: str) -> str:
    return re.sub(r"[^a-z0-9]", "", text.lower())


Found = tuple[int, int | None] | None
"""Transform number and key length."""


def _encryption(text: str) -> Found:
    tight = re.sub(r"[^a-z0-9]", "", text)
    if "chacha" in tight:
        return 28, None
    if tight in ("3des", "tripledes", "3descbc", "desede3", "des3"):
        return 3, None
    if tight in ("des", "descbc"):
        return 2, None
    bits = _BITS.search(tight.replace("aes", " ").replace("camellia", " "))
    if "aes" not in tight or bits is None:
        return None
    length = int(bits[1])
    for mode, by_icv in (("gcm", (18, 19, 20)), ("ccm", (14, 15, 16)), ("gmac", None)):
        if mode in tight and by_icv is not None:
            icv = _icv(text, mode, length)
            return by_icv[(8, 12, 16).index(icv)], length
    return (13 if "ctr" in tight else 12), length


def _icv(text: str, mode: str, length: int) -> int:
    """Octets of the integrity check value: 16 where nothing is said of it."""
    rest, octets = text.replace(str(length), " ", 1), r"(8|12|16)(?!\d)"
    found = re.search(rf"{mode}\D*{octets}", rest) or re.search(rf"(?<!\d){octets}", rest)
    bits = re.search(rf"{mode}\D*(64|96|128)(?!\d)", rest)
    if found is not None:
        return int(found[1])
    return int(bits[1]) // 8 if bits is not None else 16


def _hash(text: str) -> str:
    """md5, sha1, 256, 384 or 512; empty for none."""
    tight = re.sub(r"[^a-z0-9]", "", text)
    if "md5" in tight:
        return "md5"
    for size in ("512", "384", "256"):
        if re.search(rf"sha(?:2)?{size}", tight) or tight in (f"hmac{size}", size):
            return size
    return "sha1" if re.search(r"sha(?:1)?(?:96|160)?\Z|sha1", tight) else ""


def _integrity(text: str) -> Found:
    tight = re.sub(r"[^a-z0-9]", "", text)
    if "xcbc" in tight:
        return 5, None
    if "cmac" in tight:
        return 8, None
    number = {"md5": 1, "sha1": 2, "256": 12, "384": 13, "512": 14}.get(_hash(text))
    return None if number is None else (number, None)


def _prf(text: str) -> Found:
    tight = re.sub(r"[^a-z0-9]", "", text)
    if "xcbc" in tight:
        return 4, None
    if "cmac" in tight:
        return 8, None
    number = {"md5": 1, "sha1": 2, "256": 5, "384": 6, "512": 7}.get(_hash(text))
    return None if number is None else (number, None)


def _group(text: str) -> Found:
    plain = re.sub(r"[^a-z0-9]+", " ", text.partition(",")[0]).strip()
    tight = plain.replace(" ", "")
    numbered = _NUMBER.match(plain) or re.match(r"(?:dhgroup|dh|group|grp)(\d{1,2})\Z", tight)
    if numbered:
        return int(numbered[1]), None
    known = {re.sub(r"[^a-z0-9]", "", name.lower()): number for name, number in _GROUPS.items()}
    number = known.get(tight.removeprefix("dh").removeprefix("group").removesuffix("r1"))
    return None if number is None else (number, None)
