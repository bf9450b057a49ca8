"""MRT table dumps: there and back, replayed messages, and damaged files."""

from __future__ import annotations

import random
from dataclasses import replace

import pytest

from obrin.core.address.prefix import parse_address, parse_prefix
from obrin.core.routing.against_dump import differences, learned
from obrin.core.routing.path import Path
from obrin.wire.bgp.attributes import Attributes, encode_attributes
from obrin.wire.bgp.messages import Keepalive, Update
from obrin.wire.mrt import BGP4MP, BGP4MP_ET, MrtError, MrtPeer, read_dump, write_dump
from tests.doubles import settled_of

A, B = parse_prefix("10.1.0.0/16"), parse_prefix("10.2.3.0/25")
PEERS = [
    MrtPeer(parse_address("169.254.1.1"), 64512, 7),
    MrtPeer(parse_address("169.254.1.5"), 4200000001, 8),
]
PATH = Path(PEERS[0].address.value, (64512, 4200000001), local_pref=150)
OTHER = Path(PEERS[1].address.value, (4200000001,))
DUMP = write_dump(
    1, "quay-gw", PEERS, [(A, [(0, PATH), (1, OTHER)]), (B, [(1, OTHER)])], 1700000000
)


def bgp4mp(kind: int, subtype: int, peer: MrtPeer, body: bytes, *, wide: bool = True) -> bytes:
    size = 4 if wide else 2
    head = peer.asn.to_bytes(size, "big") + (64513).to_bytes(size, "big") + b"\0\0\0\1"
    whole = head + peer.address.value.to_bytes(4, "big") + bytes(4) + body
    whole = (b"\0\0\0\0" if kind == BGP4MP_ET else b"") + whole
    return (
        bytes(4)
        + kind.to_bytes(2, "big")
        + subtype.to_bytes(2, "big")
        + len(whole).to_bytes(4, "big")
        + whole
    )


def update(announced=(), withdrawn=(), path: Path = OTHER) -> bytes:
    attributes = Attributes(path) if announced else None
    return Update(tuple(withdrawn), attributes, tuple(announced)).encode(internal=False)


def test_a_dump_comes_back_whole() -> None:
    dump = read_dump(DUMP)
    assert dump.tables == {PEERS[0]: {A: PATH}, PEERS[1]: {A: OTHER, B: OTHER}}
    assert dump.peer(PEERS[1].address) == {A: OTHER, B: OTHER}
    assert dump.peer(parse_address("10.0.0.1")) == {}
    assert read_dump(b"").tables == {}


def test_messages_change_the_tables_in_their_order() -> None:
    for kind in (BGP4MP, BGP4MP_ET):
        moved = (
            DUMP
            + bgp4mp(kind, 4, PEERS[0], update([B]))
            + bgp4mp(kind, 4, PEERS[1], update(withdrawn=[A]))
            + bgp4mp(kind, 4, PEERS[1], Keepalive().encode())
        )
        assert read_dump(moved).tables[PEERS[0]].keys() == {A, B}
        assert read_dump(moved).tables[PEERS[1]].keys() == {B}
        down = moved + bgp4mp(kind, 5, PEERS[1], b"\0\6\0\1")
        assert read_dump(down).tables[PEERS[1]] == {}
    alone = read_dump(bgp4mp(BGP4MP, 4, PEERS[0], update([A])))
    assert alone.tables == {MrtPeer(PEERS[0].address, 64512): {A: OTHER}}


def test_other_kinds_are_counted() -> None:
    assert read_dump(bytes(4) + b"\0\x0c\0\1" + bytes(4) + DUMP).left_out == 1


def test_damaged_files_raise_mrt_errors_with_an_offset_only() -> None:
    rng = random.Random(9)
    whole = DUMP + bgp4mp(BGP4MP, 4, PEERS[0], update([B]))
    for _ in range(3000):
        data = bytearray(whole)
        for _ in range(rng.randint(1, 4)):
            data[rng.randrange(len(data))] = rng.randrange(256)
        cut = bytes(data[: rng.randrange(len(data))]) if rng.random() < 0.3 else bytes(data)
        try:
            read_dump(cut)
        except MrtError as error:
            assert "offset" in str(error)
    with pytest.raises(MrtError, match="peer number 0 is not in the table of 0 peers"):
        read_dump(DUMP[12 + int.from_bytes(DUMP[8:12], "big") :])


def test_a_dump_of_the_model_agrees_with_it_and_a_changed_one_does_not() -> None:
    settled = settled_of()
    found = learned(settled, "quay-gw")
    peers = list(dict.fromkeys(c.peer for every in found.values() for c in every))
    listed = [MrtPeer(p.address, p.asn, p.router_id) for p in peers]

    def dump(change=lambda path: path, prefixes=None):
        told = [
            (p, [(peers.index(c.peer), change(c.path)) for c in every])
            for p, every in found.items()
            if prefixes is None or p in prefixes
        ]
        return read_dump(write_dump(1, "x", listed, told, 0))

    assert list(differences(settled, "quay-gw", dump().peer)) == []
    gone = list(differences(settled, "quay-gw", dump(prefixes=()).peer))
    assert {d.what for d in gone} == {"missing"}
    assert len(gone) == 2
    longer = dump(
        lambda path: Path(path.next_hop, (*path.as_path, 65000), local_pref=path.local_pref)
    )
    assert "65000, the model has" in next(differences(settled, "quay-gw", longer.peer)).text
    other = read_dump(write_dump(1, "x", listed, [(A, [(0, OTHER)])], 0))
    kinds = {d.what for d in differences(settled, "quay-gw", other.peer)}
    assert kinds == {"missing", "unexpected"}


def rib(entries: list[tuple[int, bytes]], prefix: bytes = b"\x18\xc6\x33\x64") -> bytes:
    body = bytes(4) + prefix + len(entries).to_bytes(2, "big")
    for index, raw in entries:
        body += index.to_bytes(2, "big") + bytes(4) + len(raw).to_bytes(2, "big") + raw
    return bytes(4) + b"\0\x0d\0\2" + len(body).to_bytes(4, "big") + body


CONFEDERATION = encode_attributes(Attributes(OTHER), four_octets=True, internal=True).replace(
    b"\2\1\xfa\x56\xea\1", b"\3\1\xfa\x56\xea\1"
)
ODD = {
    "no such message": bgp4mp(BGP4MP, 4, PEERS[0], b"\xff" * 16 + b"\0\x17\x09\0\1\0\1"),
    "half an attribute": rib([(0, b"\x40")]),
    "confederation": rib([(0, CONFEDERATION)]),
    "no such peer": rib([(7, b"")]),
    "length 33": rib([], b"\x21" + bytes(5)),
    "family 9": bgp4mp(BGP4MP, 4, PEERS[0], b"").replace(b"\0\0\0\1\xc0", b"\0\0\0\x09\xc0"),
    "cut short": bgp4mp(BGP4MP, 4, PEERS[0], update([B]))[:-3],
    "half a header": bytes(7),
}


@pytest.mark.parametrize("what", ODD)
def test_an_odd_record_costs_itself_and_is_named(what: str) -> None:
    good = bgp4mp(BGP4MP, 4, PEERS[0], update([B]))
    dump = read_dump(
        DUMP + ODD[what] + (good if what not in ("cut short", "half a header") else b"")
    )
    assert (dump.odd, len(dump.named)) == (1, 1)
    assert f"offset {len(DUMP)}" in dump.named[0]
    assert dump.tables[PEERS[1]] == {A: OTHER, B: OTHER}
    assert (B in dump.tables[PEERS[0]]) == (what not in ("cut short", "half a header"))
    with pytest.raises(MrtError):
        read_dump(ODD["half a header"])


def test_an_entry_without_attributes_is_a_route_of_the_routers_own() -> None:
    good = encode_attributes(Attributes(OTHER), four_octets=True, internal=True)
    dump = read_dump(DUMP + rib([(0, b""), (1, good)]))
    assert dump.odd == 0
    prefix = parse_prefix("198.51.100.0/24")
    assert dump.tables[PEERS[0]][prefix] == Path(0)
    assert dump.tables[PEERS[1]][prefix] == OTHER


@pytest.mark.parametrize("alone", [True, False])
def test_the_next_hop_on_file_stands_alone_or_in_the_whole_attribute(alone: bool) -> None:
    """RFC 6396 section 4.3.4 wants it alone; many tables in use have all of MP_REACH_NLRI."""
    hop = (0x20010DB8 << 96) + 5
    path = replace(OTHER, next_hop=hop)
    plain = encode_attributes(Attributes(OTHER), four_octets=True, internal=True, hop=False)
    value = b"\x10" + hop.to_bytes(16, "big")
    if not alone:
        value = b"\0\2\1" + value + b"\0" + b"\x20\x20\x01\x0d\xb8"
    raw = plain + bytes((0x80, 14, len(value))) + value
    body = rib([(0, raw)], b"\x20\x20\x01\x0d\xb8").replace(b"\0\x0d\0\2", b"\0\x0d\0\4", 1)
    assert read_dump(DUMP + body).tables[PEERS[0]][parse_prefix("2001:db8::/32")] == path
