"""How easily a pre-shared key is guessed: what a guesser tries first, in words and in bits.

Two estimates, of which the lower counts. One is of the letters alone: alphabet, length, repetition.
The other knows what people write: words and names, years, rows of the keyboard, sequences, repeats;
it is a library's, and slow (some hundredths of a second), so it is not asked about keys that look
like drawn letters. Names of the design count as words: who attacks a link knows whose it is.
"""

from __future__ import annotations

import functools
import itertools
import math
import re
from collections.abc import Iterable, Iterator, Sequence

LEAST_BITS = 112
UNFILLED = r"change.?me|placeholder|to.be.(set|filled)|(?<![^\W_])(todo|tbd|xxx+)(?![^\W_])"
"""What stands where somebody was to write something, in any text; a pattern."""
_PLACEHOLDER = re.compile(rf"^<.*>$|^\{{.*\}}$|insert|example|your.key|{UNFILLED}", re.IGNORECASE)
_COMMON = ("password", "secret", "letmein", "qwerty", "welcome", "admin", "obrin")
_KINDS = {
    "spatial": "it holds a row of the keyboard",
    "sequence": "it holds a sequence such as abcd or 1234",
    "repeat": "it repeats a part of itself",
    "date": "it holds a date or a year",
    "regex": "it holds a date or a year",
}
_SHORTEST = 6
"""Letters of a name that counts: shorter ones stand in drawn keys by chance."""
_BY_CHANCE = 3
_LONGEST = 72
"""Characters that the library looks at."""


def letters_bits(key: str) -> float:
    """An upper bound by alphabet, length and repetition."""
    return len(key) * min(_letter_bits(key), math.log2(max(len(set(key)), 1.01)))


def _letter_bits(key: str) -> float:
    """Bits of one letter, by the alphabet that the whole key uses."""
    kinds = (
        (26, any(c.islower() for c in key)),
        (26, any(c.isupper() for c in key)),
        (10, any(c.isdigit() for c in key)),
        (32, any(not c.isalnum() for c in key)),
    )
    return math.log2(max(sum(size for size, there in kinds if there), 2))


def words_of(names: Iterable[str]) -> frozenset[str]:
    """What of a design's names a guesser would try; short ones are in too many keys by chance."""
    parts = (part for name in names for part in re.split(r"[^a-z]+", name.lower()))
    return frozenset(part for part in parts if len(part) >= _SHORTEST)


def drawn(key: str) -> bool:
    """Whether a key looks like letters that were drawn: many different ones, never long of one
    kind."""
    runs = (len(list(run)) for _, run in itertools.groupby(key, _kind))
    return len(key) >= 40 and len(set(key)) >= 20 and max(runs) < 10


def _kind(letter: str) -> int:
    return 0 if letter.islower() else 1 if letter.isupper() else 2 if letter.isdigit() else 3


@functools.lru_cache(4096)
def estimate_bits(key: str, words: frozenset[str] = frozenset()) -> float:
    """What a guesser must try, as a power of two; an upper bound."""
    most = letters_bits(key)
    lower = key.lower()
    if not key or (drawn(key) and not any(word in lower for word in words)):
        return most
    return min(most, _guessed(key, words)[0])


def telling(key: str, words: frozenset[str] = frozenset()) -> Iterator[str]:
    """What makes a key easy to guess, in words; nothing of the key is quoted."""
    lower = key.lower()
    if _PLACEHOLDER.search(key):
        yield "it is a placeholder that nobody filled in"
    if any(word in lower for word in _COMMON):
        yield "it contains a common word"
    if any(word in lower for word in words):
        yield "it contains a name of this design"
    if key and letters_bits(key) >= LEAST_BITS > estimate_bits(key, words):
        yield from dict.fromkeys(_guessed(key, words)[1])


@functools.lru_cache(4096)
def _guessed(key: str, words: frozenset[str]) -> tuple[float, tuple[str, ...]]:
    """The lower of two: of the key as a whole, and piece by piece (words between marks, numbers),
    since the library rather takes a word with the mark behind it for letters."""
    pieces = _PIECES.findall(key)
    return min(_parts_of((key[:_LONGEST],), key, words), _parts_of(pieces, key, words))


_PIECES = re.compile(r"[A-Z]?[a-z]+|[A-Z]+|\d+|[^A-Za-z\d]+")


def _parts_of(
    pieces: Sequence[str], key: str, words: frozenset[str]
) -> tuple[float, tuple[str, ...]]:
    each = _letter_bits(key)
    bits = (len(key) - sum(map(len, pieces))) * each
    kinds: list[str] = []
    for piece in pieces:
        for pattern, token, guesses in _patterns(piece, words):
            # What is not a pattern counts by its letters; so do short ones, there by chance.
            if pattern == "bruteforce" or len(token) <= _BY_CHANCE:
                bits += len(token) * each
            else:
                bits += math.log2(guesses)
                kinds.append(_KINDS.get(pattern, "it is made of words"))
    return bits, tuple(kinds)


@functools.lru_cache(16384)
def _patterns(piece: str, words: frozenset[str]) -> tuple[tuple[str, str, float], ...]:
    """(kind, letters, guesses) of what the library finds in a piece."""
    if len(piece) <= _BY_CHANCE:
        return (("bruteforce", piece, 1.0),)
    from zxcvbn import zxcvbn

    found = zxcvbn(piece[:_LONGEST], user_inputs=sorted(words))["sequence"]
    return tuple((part["pattern"], part["token"], float(part["guesses"])) for part in found)
