"""Judging pre-shared keys, and making them from random bytes that are passed in."""

from __future__ import annotations

import hashlib
import hmac
import math
from collections.abc import Callable, Mapping, Sequence

from obrin.core.ipsec.guessing import LEAST_BITS, estimate_bits, telling
from obrin.core.ipsec.profile import LETTERS, KeyRules

ALPHABET = "abcdefghijkmnopqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789"
"""Letters and digits without those that are mistaken for each other (0 O, 1 l I)."""
GENERATED_LENGTH = 48
GENERATED_BITS = 256
PRINT_LETTERS = "bcdfghjkmpqrtvwx"
"""One for each half byte of a fingerprint; no digits, so that none looks like a number in YAML."""


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
    kinds = [rule.characters for rule in rules]
    least = max((rule.least for rule in rules), default=1)
    most = min((rule.most for rule in rules), default=GENERATED_LENGTH + least)
    alphabet = LETTERS["hexadecimal"] if "hexadecimal" in kinds else ALPHABET
    wanted = max(GENERATED_LENGTH, least, math.ceil(GENERATED_BITS / math.log2(len(alphabet))))
    if wanted > most and set(kinds) <= {"printable"}:
        alphabet = LETTERS["printable"]
    return min(wanted, max(most, 1)), alphabet


def key_print(key: str, secret: bytes) -> str:
    """A short fingerprint, such as `fxdm-qcgb-kxtw-vbhg`, by which two ends are seen to have one
    key: of the key, of it without blanks around it, and of that in lower case. Without the
    project's `secret` nothing can be guessed from it."""

    def letters(text: str, count: int) -> str:
        digest = hmac.new(secret, text.encode(), hashlib.sha256).hexdigest()
        return "".join(PRINT_LETTERS[int(half, 16)] for half in digest[:count])

    whole, bare = letters(key, 8), key.strip()
    parts = (whole[:4], whole[4:], letters(f"bare {bare}", 4), letters(f"low {bare.lower()}", 4))
    return "-".join(parts)


def print_difference(right: str, entered: str, others: Mapping[str, str]) -> str:
    """The same as `difference`, of fingerprints: how the key differs that one of them is of."""
    if entered == right:
        return ""
    of_another = next((name for name, shown in others.items() if shown == entered), None)
    if of_another is not None:
        return f"it is the key of {of_another}"
    one, two = right.split("-"), entered.split("-")
    if len(two) != len(one):
        return "that is not a fingerprint; 'obrin keys compare' prints one"
    if one[2] == two[2]:
        return "it has blanks around it"
    if one[3] == two[3]:
        return "it differs in the case of letters only"
    return "it is another key"


def difference(right: str, typed: str, others: Mapping[str, str]) -> str:
    """How a key that somebody entered differs from the right one; empty when it does not. Neither
    is quoted. `others` are those of other tunnels, by name."""
    if hmac.compare_digest(right.encode(), typed.encode()):
        return ""
    of_another = next((name for name, key in others.items() if key == typed), None)
    if of_another is not None:
        return f"it is the key of {of_another}"
    if typed.strip() == right:
        return "it has blanks around it"
    if typed.lower() == right.lower():
        return "it differs in the case of letters only"
    if typed and right.startswith(typed):
        return f"it is cut short: {len(typed)} of {len(right)} characters"
    if len(typed) == len(right):
        places = [n for n, pair in enumerate(zip(right, typed, strict=True), 1) if len({*pair}) > 1]
        if len(places) <= 2:
            return f"it differs at character {' and '.join(map(str, places))}"
        if sorted(typed) == sorted(right):
            return "it has the same characters in another order"
    return f"it is another key, of {len(typed)} characters"


def weaknesses(key: str, words: frozenset[str] = frozenset()) -> list[str]:
    """Reasons why a key is too weak, in words; empty for a good one. The key is never quoted.

    `words` are names that a guesser knows, such as those of the design.
    """
    found = []
    if len(key) < 20:
        found.append(f"its length is {len(key)}, at least 20 characters are wanted")
    found += telling(key, words)
    if len(key) >= 2 and len(set(key)) <= max(3, len(key) // 8):
        found.append("it repeats few characters")
    bits = estimate_bits(key, words)
    if bits < LEAST_BITS:
        found.append(f"it holds at most {bits:.0f} bits, {LEAST_BITS} are wanted")
    return found
