"""BGP and IKE messages: coding and decoding with every check, beside the least that could be done.

python -m benchmarks.codecs

The baselines only take the fields apart, or put them together, with `struct`: no check, no value of
a class. Memoised parts are emptied before every round.
"""

from __future__ import annotations

import functools
import struct

from benchmarks.measure import Row, interleaved, print_rows
from obrin.core.address.prefix import Prefix
from obrin.core.routing.path import Path
from obrin.wire.bgp import attributes as bgp_attributes
from obrin.wire.bgp.attributes import Attributes
from obrin.wire.bgp.messages import Update, decode_message

MESSAGES, EACH, ROUNDS = 40, 200, 25


def updates() -> list[Update]:
    """Announcements, each with a path of its own."""
    return [
        Update(
            attributes=Attributes(Path(0xC0000201 + n, (64500, 64600 + n), 0, 100, 100)),
            announced=tuple(Prefix(32, (10 << 24) + (n << 16) + (k << 8), 24) for k in range(EACH)),
        )
        for n in range(MESSAGES)
    ]


def emptied() -> None:
    bgp_attributes.decode_all.cache_clear()
    bgp_attributes.encode_attributes.cache_clear()


def bare_decode(data: bytes) -> tuple[dict[int, bytes], list[tuple[int, int]]]:
    """Fields of an UPDATE, nothing else."""
    gone = struct.unpack_from("!H", data, 19)[0]
    at = 21 + gone
    size = struct.unpack_from("!H", data, at)[0]
    at += 2
    end, values = at + size, {}
    while at < end:
        flags, kind, length = struct.unpack_from("!BBB", data, at)
        at += 3
        if flags & 0x10:
            length = length << 8 | data[at]
            at += 1
        values[kind] = data[at : at + length]
        at += length
    found = []
    while at < len(data):
        length = data[at]
        octets = (length + 7) // 8
        value = int.from_bytes(data[at + 1 : at + 1 + octets], "big") << (32 - 8 * octets)
        found.append((value, length))
        at += 1 + octets
    return values, found


def bare_encode(update: Update) -> bytes:
    assert update.attributes is not None
    path = update.attributes.path
    attributes = struct.pack(
        f"!BBBB BBBBB{len(path.as_path)}I BBBI BBBI",
        *(0x40, 1, 1, path.origin),
        *(0x40, 2, 2 + 4 * len(path.as_path), 2, len(path.as_path), *path.as_path),
        *(0x40, 3, 4, path.next_hop),
        *(0x80, 4, 4, path.med or 0),
    )
    parts = []
    for prefix in update.announced:
        octets = (prefix.length + 7) // 8
        parts.append(bytes((prefix.length,)))
        parts.append((prefix.value >> (32 - 8 * octets)).to_bytes(octets, "big"))
    routes = b"".join(parts)
    size = 19 + 4 + len(attributes) + len(routes)
    head = b"\xff" * 16 + struct.pack("!HBHH", size, 2, 0, len(attributes))
    return head + attributes + routes


def _all(work, things: list, *, empty: bool) -> None:
    if empty:
        emptied()
    for thing in things:
        work(thing)


def rows() -> list[Row]:
    made = updates()
    coded = [update.encode() for update in made]
    assert [bare_encode(update) for update in made] == coded
    ours = functools.partial(_all, decode_message, coded, empty=True)
    mine, floor, decoding = interleaved(
        ours, functools.partial(_all, bare_decode, coded, empty=False), rounds=ROUNDS
    )
    coding_ours = functools.partial(_all, Update.encode, made, empty=True)
    mine_out, floor_out, coding = interleaved(
        coding_ours, functools.partial(_all, bare_encode, made, empty=False), rounds=ROUNDS
    )
    per = 1e6 / (MESSAGES * EACH)
    return [
        (
            f"BGP UPDATE of {EACH} prefixes taken apart, caches emptied",
            "`struct`, no check",
            f"{mine * per:.2f} us a prefix",
            f"{floor * per:.2f} us",
            f"{decoding:.2f} of it (target 0.85)",
        ),
        (
            "the same put together",
            "`struct`, no check",
            f"{mine_out * per:.2f} us a prefix",
            f"{floor_out * per:.2f} us",
            f"{coding:.2f} of it (target 1.0)",
        ),
    ]


if __name__ == "__main__":
    print_rows(rows())
