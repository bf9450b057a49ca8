"""Judging pre-shared keys, and making them from random bytes that are passed in."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

from obrin.core.ipsec.guessing import LEAST_BITS, estimate_bits, telling
from obrin.core.ipsec.profile import LETTERS, KeyRules

ALPHABET = "abcdefghijkmnopqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789"
"""Letters and digits without those that are mistaken for each other (0 O, 1 l I)."""
GENERATED_LENGTH = 48
GENERATED_BITS = 256


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


def weaknesses(key: str, words: frozenset[str] = frozenset()) -> list[str]:
    """Reasons why a key is too weak, in words; empty for a good one. The key is never quoted.

    `words` are names that a guesser knows, such as those of the design.
    """
    found = []
    if len(key) < 20:
        found.append(f"it has {len(key)} characters, at least 20 are wanted")
    found += telling(key, words)
    if len(key) >= 2 and len(set(key)) <= max(3, len(key) // 8):
        found.append("it repeats few characters")
    bits = estimate_bits(key, words)
    if bits < LEAST_BITS:
        found.append(f"it holds at most {bits:.0f} bits, {LEAST_BITS} are wanted")
    return found
