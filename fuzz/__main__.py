"""Damaged and hostile input for every reader; only its own typed error may come out.

    python -m fuzz --seconds 60 --seed 7         all readers
    python -m fuzz --only ike bgp                some of them

A failure prints the reader and the input in hexadecimal, which is all that is needed to repeat it.
"""

from __future__ import annotations

import argparse
import random
import sys
import time
from collections.abc import Callable

from fuzz.readers import READERS, Reader


def mutate(rng: random.Random, seed: bytes, other: bytes) -> bytes:
    """One to six small damages, or a splice with another sample."""
    data = bytearray(seed)
    for _ in range(rng.randint(1, 6)):
        kind = rng.randrange(7)
        at = rng.randrange(len(data) + 1)
        if kind == 0 and data:
            data[at % len(data)] ^= 1 << rng.randrange(8)
        elif kind == 1 and data:
            data[at % len(data)] = rng.choice((0, 1, 0x7F, 0x80, 0xFF, rng.randrange(256)))
        elif kind == 2:
            data[at:at] = rng.randbytes(rng.randint(1, 8))
        elif kind == 3:
            del data[at : at + rng.randint(1, 8)]
        elif kind == 4:
            del data[at:]
        elif kind == 5:
            cut = rng.randrange(len(other) + 1)
            data = data[:at] + other[cut:]
        else:
            size = rng.randint(1, 12)
            data[at:at] = data[at : at + size] * rng.randint(1, 4)
    return bytes(data)


def attack(
    name: str, reader: Reader, rng: random.Random, until: float, clock: Callable[[], float]
) -> int:
    """Inputs tried until the time is over. Raises for anything but the reader's own error."""
    tried = 0
    while clock() < until:
        for _ in range(50):
            data = mutate(rng, rng.choice(reader.samples), rng.choice(reader.samples))
            if rng.random() < 0.05:
                data = rng.randbytes(rng.randint(0, 200))
            try:
                reader.read(data)
            except reader.error:
                pass
            except BaseException:
                print(f"{name} failed on {data.hex()}", file=sys.stderr)
                raise
            tried += 1
    return tried


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seconds", type=float, default=30.0, help="for all readers together")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", nargs="*", choices=sorted(READERS), default=sorted(READERS))
    given = parser.parse_args()
    for name in given.only:
        rng = random.Random(f"{given.seed}-{name}")
        until = time.monotonic() + given.seconds / len(given.only)
        tried = attack(name, READERS[name], rng, until, time.monotonic)
        print(f"{name}: {tried} inputs, nothing but its own error")


if __name__ == "__main__":
    main()
