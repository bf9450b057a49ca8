"""Judging pre-shared keys, and making them from random bytes that are passed in."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

from obrin.core.ipsec.profile import LETTERS, KeyRules

ALPHABET = "abcdefghijkmnopqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789"
"""Letters and digits without those that are mistaken for each other (0 O, 1 l I)."""
GENERATED_LENGTH = 48
GENERATED_BITS = 256
LEAST_BITS = 112
_WORDS = ("password", "secret", "letmein", "changeme", "qwerty", "welcome", "admin", "obrin")


def make_key(rng: Callable[[int], bytes], rules: Sequence[KeyRules] = ()) -> str:
    """48 letters of a 57-letter alphabet, 279 bits, unless a device's rules want another form.

    Bytes that would bias it are skipped. Where a device takes only short keys, all that it accepts
    is used, and the key can stay below 256 bits.
    """
    length, alphabet = key_shape(rules)
    limit = 256 - 256 % len(alphabet)
    letters: list[str] = []
    while len(letters) < length:
        letters += [alphabet[b % len(alphabet)] for b in rng(64) if b < limit]
    return "".join(letters[:length])


def key_shape(rules: Sequence[KeyRules]) -> tuple[int, str]:
    """(length, alphabet) of a generated key that all devices accept."""
    kinds = [rule.letters for rule in rules]
    least = max((rule.least for rule in rules), default=1)
    most = min((rule.most for rule in rules), default=GENERATED_LENGTH + least)
    alphabet = LETTERS["hexadecimal"] if "hexadecimal" in kinds else ALPHABET
    wanted = max(GENERATED_LENGTH, least, math.ceil(GENERATED_BITS / math.log2(len(alphabet))))
    if wanted > most and set(kinds) <= {"printable"}:
        alphabet = LETTERS["printable"]
    return min(wanted, max(most, 1)), alphabet


def estimate_bits(key: str) -> float:
    """An upper bound on what a guesser must try, by alphabet, length and repetition."""
    kinds = (
        (26, any(c.islower() for c in key)),
        (26, any(c.isupper() for c in key)),
        (10, any(c.isdigit() for c in key)),
        (32, any(not c.isalnum() for c in key)),
    )
    alphabet = sum(size for size, there in kinds if there) or 1
    distinct = len(set(key))
    return min(len(key) * math.log2(max(alphabet, 2)), len(key) * math.log2(max(distinct, 1.01)))


def weaknesses(key: str) -> list[str]:
    """Reasons why a key is too weak, in words; empty for a good one. The key is never quoted."""
    found = []
    lower = key.lower()
    if len(key) < 20:
        found.append(f"it has {len(key)} characters, at least 20 are wanted")
    if any(word in lower for word in _WORDS):
        found.append("it contains a common word")
    if len(key) >= 2 and len(set(key)) <= max(3, len(key) // 8):
        found.append("it repeats few characters")
    bits = estimate_bits(key)
    if bits < LEAST_BITS:
        found.append(f"it holds at most {bits:.0f} bits, {LEAST_BITS} are wanted")
    return found
