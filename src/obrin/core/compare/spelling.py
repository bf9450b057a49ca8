"""Names of algorithms in the spellings of screens: to the one of the registry that is meant."""

from __future__ import annotations

import re

from obrin.core.ipsec.registry import ALGORITHMS, Algorithm, Kind, by_number

_BITS = re.compile(r"128|192|256")
_NUMBERED = re.compile(r"(?:dh|group|grp|diffiehellman|modpgroup|dhgroup|kex)?(\d{1,2})\Z")
_CURVE = re.compile(r"(?:nistp|secp|p|ec|ecp)(\d{3})(?:r1)?\Z")
_BY_SIZE = re.compile(r"(\d{3,4})bit(?:random)?(modp|ecp)(?:group)?\Z")
_EDWARDS = {"x25519": "curve25519", "x448": "curve448"}
_MACS = {
    Kind.INTEGRITY: {"xcbc": "AES-XCBC-96", "cmac": "AES-CMAC-96"},
    Kind.PRF: {"xcbc": "PRF-AES128-XCBC", "cmac": "PRF-AES128-CMAC"},
}
_HASHES = {
    Kind.INTEGRITY: {
        "md5": "HMAC-MD5-96",
        "sha1": "HMAC-SHA1-96",
        "256": "HMAC-SHA2-256-128",
        "384": "HMAC-SHA2-384-192",
        "512": "HMAC-SHA2-512-256",
    },
    Kind.PRF: {
        "md5": "PRF-HMAC-MD5",
        "sha1": "PRF-HMAC-SHA1",
        "256": "PRF-HMAC-SHA2-256",
        "384": "PRF-HMAC-SHA2-384",
        "512": "PRF-HMAC-SHA2-512",
    },
}


def _tight(text: str) -> str:
    return re.sub(r"[^a-z0-9]", "", text.lower())


_BY_TIGHT = {(a.kind, _tight(a.name)): a for a in ALGORITHMS}


def algorithm(kind: Kind, text: str) -> Algorithm | None:
    """Return None for what is none of this kind."""
    plain = re.sub(r"\([^)]*\)", " ", text).strip().lower()
    bare = re.sub(r"^(encr|prf|auth|integ)[ _]", "", plain)
    exact = _named(kind, plain) or _named(kind, bare)
    if exact is not None:
        return exact
    if kind is Kind.ENCRYPTION:
        return _named(kind, _cipher(bare))
    if kind is Kind.GROUP:
        return _group(_tight(bare.partition(",")[0]))
    return _named(kind, _hashed(kind, _tight(bare)))


def _named(kind: Kind, name: str) -> Algorithm | None:
    return _BY_TIGHT.get((kind, _tight(name)))


def _cipher(text: str) -> str:
    """The registry's name, or nothing."""
    tight = _tight(text)
    if "chacha" in tight:
        return "CHACHA20-POLY1305"
    if tight in ("3des", "tripledes", "3descbc", "desede3", "des3"):
        return "3DES"
    if tight == "descbc":
        return "DES"
    bits = _BITS.search(tight.replace("aes", " "))
    if "aes" not in tight or bits is None:
        return ""
    for mode in ("gcm", "ccm"):
        if mode in tight:
            return f"aes-{mode}-{_icv(text, mode, bits[0])}-{bits[0]}"
    return f"aes-{'ctr' if 'ctr' in tight else 'cbc'}-{bits[0]}"


def _icv(text: str, mode: str, key: str) -> int:
    """Octets of the integrity check value: 16 where nothing is said of it."""
    rest, octets = text.replace(key, " ", 1), r"(8|12|16)(?!\d)"
    found = re.search(rf"{mode}\D*{octets}", rest) or re.search(rf"(?<!\d){octets}", rest)
    if found is not None:
        return int(found[1])
    bits = re.search(rf"{mode}\D*(64|96|128)(?!\d)", rest)
    return int(bits[1]) // 8 if bits is not None else 16


def _hashed(kind: Kind, tight: str) -> str:
    """The registry's name of what is made of a hash or a cipher, or nothing."""
    of_cipher = next((name for part, name in _MACS[kind].items() if part in tight), None)
    return of_cipher or _HASHES[kind].get(_hash(tight), "")


def _hash(tight: str) -> str:
    """md5, sha1, 256, 384 or 512; empty for none."""
    if "md5" in tight:
        return "md5"
    for size in ("512", "384", "256"):
        if re.search(rf"sha2?{size}", tight) or tight in (f"hmac{size}", size):
            return size
    return "sha1" if re.search(r"sha(?:1)?(?:96|160)?\Z|sha1", tight) else ""


def _group(tight: str) -> Algorithm | None:
    numbered = _NUMBERED.match(tight)
    if numbered is not None:
        return by_number(Kind.GROUP, int(numbered[1]), None)
    sized = _BY_SIZE.match(tight)
    if sized is not None:  # as RFC 3526 and RFC 5903 write them
        return _named(Kind.GROUP, f"{sized[2]}{sized[1]}")
    name = re.sub(r"^(dh)?(group)?", "", tight)
    curve = _CURVE.match(name)
    return _named(Kind.GROUP, f"ecp{curve[1]}" if curve else _EDWARDS.get(name, name))
