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
from obrin.core.ipsec.proposal import Proposal, Protocol, Transform
from obrin.core.ipsec.registry import ALGORITHMS, Algorithm
from obrin.core.routing.path import Path
from obrin.wire.bgp import attributes as bgp_attributes
from obrin.wire.bgp.attributes import Attributes
from obrin.wire.bgp.messages import Update, decode_message
from obrin.wire.ike.codec import sa_payload
from obrin.wire.ike.codec.message import HEADER_SIZE, decode_header, encode_plain
from obrin.wire.ike.codec.numbers import FLAG_INITIATOR, Exchange, Notify
from obrin.wire.ike.codec.payloads import Ke, Nonce, NotifyPayload, decode_chain
from obrin.wire.ike.codec.sa_payload import Sa

MESSAGES, EACH, ROUNDS = 40, 200, 25
HEAD, GENERIC = struct.Struct(">8s8sBBBBII"), struct.Struct(">BBH")
PROPOSAL, TRANSFORM = struct.Struct(">BBHBBBB"), struct.Struct(">BBHBBH")
NOTIFY = struct.Struct(">BBH")


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


def algorithms(*names: str) -> list[Algorithm]:
    known = {algorithm.name: algorithm for algorithm in ALGORITHMS}
    return [known[name] for name in names]


def first_messages() -> list[bytes]:
    """IKE_SA_INIT requests with three proposals, as from many peers."""
    offered = [
        Proposal(Protocol.IKE, tuple(map(Transform.of, algorithms(*names))), number, b"")
        for number, names in enumerate(
            (
                ("AES-GCM-16-256", "PRF-HMAC-SHA2-384", "CURVE25519", "ECP-384"),
                ("AES-GCM-16-128", "PRF-HMAC-SHA2-256", "CURVE25519", "ECP-256", "MODP-2048"),
                ("AES-CBC-256", "HMAC-SHA2-256-128", "PRF-HMAC-SHA2-256", "MODP-2048"),
            ),
            1,
        )
    ]
    return [
        encode_plain(
            n.to_bytes(8, "big"),
            bytes(8),
            Exchange.IKE_SA_INIT,
            FLAG_INITIATOR,
            0,
            [
                Sa(tuple(offered)),
                Ke(31, bytes(32)),
                Nonce(bytes(32)),
                NotifyPayload(Notify.NAT_DETECTION_SOURCE_IP, bytes(20)),
                NotifyPayload(Notify.NAT_DETECTION_DESTINATION_IP, bytes(20)),
                NotifyPayload(Notify.FRAGMENTATION_SUPPORTED),
                NotifyPayload(Notify.SIGNATURE_HASH_ALGORITHMS, bytes(6)),
            ],
        )
        for n in range(1, MESSAGES + 1)
    ]


def bare_first_message(data: bytes) -> list[object]:
    """Fields of all payloads and of all transforms, nothing else."""
    spi_i, spi_r, kind, version, exchange, flags, number, size = HEAD.unpack_from(data)
    found: list[object] = [(spi_i, spi_r, version, exchange, flags, number, size)]
    at = 28
    while kind:
        following, _, length = GENERIC.unpack_from(data, at)
        body = data[at + 4 : at + length]
        if kind == 33:
            place, more = 0, 2
            while more:
                more, _, whole, index, protocol, spi, count = PROPOSAL.unpack_from(body, place)
                inner, transforms = place + 8 + spi, []
                for _ in range(count):
                    _, _, long, what, _, which = TRANSFORM.unpack_from(body, inner)
                    transforms.append((what, which, body[inner + 8 : inner + long]))
                    inner += long
                found.append((index, protocol, transforms))
                place += whole
        elif kind == 34:
            found.append((int.from_bytes(body[:2], "big"), body[4:]))
        elif kind == 41:
            protocol, spi, notify = NOTIFY.unpack_from(body)
            found.append((protocol, notify, body[4 : 4 + spi], body[4 + spi :]))
        else:
            found.append(body)
        kind, at = following, at + length
    return found


def ike_emptied() -> None:
    sa_payload._decode_proposals.cache_clear()


def _taken_apart(things: list[bytes]) -> None:
    for thing in things:
        ike_emptied()
        header = decode_header(thing)
        decode_chain(header.next_payload, thing, HEADER_SIZE)


def _bare(things: list[bytes]) -> None:
    for thing in things:
        bare_first_message(thing)


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
    first = first_messages()
    apart, least, parsing = interleaved(
        functools.partial(_taken_apart, first), functools.partial(_bare, first), rounds=ROUNDS
    )
    return [
        (
            "IKE_SA_INIT of three proposals taken apart, caches emptied",
            "`struct`, no check",
            f"{apart * 1e6 / MESSAGES:.1f} us",
            f"{least * 1e6 / MESSAGES:.1f} us",
            f"{parsing:.2f} of it (target 0.70)",
        ),
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
