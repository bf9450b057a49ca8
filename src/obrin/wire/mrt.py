"""Routing tables and BGP messages in the MRT format (RFC 6396), read and written.

    record:  | time (4) | type (2) | subtype (2) | length (4) | body |

Read are TABLE_DUMP_V2 (type 13: peers, then a record for each prefix) and BGP4MP (type 16:
messages and changes of state); other types are counted and left out. A record, or
an entry of one, that cannot be used costs itself only and is named with its offset; a file in
which nothing can be used is an error.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field

from obrin.core.address.prefix import Address, Prefix
from obrin.core.routing.path import Path
from obrin.wire.bgp.attributes import decode_on_file, encode_on_file
from obrin.wire.bgp.errors import BgpError
from obrin.wire.bgp.messages import Update, decode_message
from obrin.wire.cursor import Cursor
from obrin.wire.errors import ReadError, WireError

TABLE_DUMP_V2, BGP4MP, BGP4MP_ET = 13, 16, 17
PEER_INDEX_TABLE, RIB_IPV4_UNICAST, RIB_IPV6_UNICAST = 1, 2, 4
_RIBS = {RIB_IPV4_UNICAST: 32, RIB_IPV6_UNICAST: 128}
STATE_CHANGE, MESSAGE, MESSAGE_AS4, STATE_CHANGE_AS4 = 0, 1, 4, 5
ESTABLISHED = 6
MOST_NAMED = 100
"""Odd records that are reported one by one; beyond, they are only counted."""
MOST_RECORD = 1 << 24
"""Bytes of one record; a dump that claims more is damaged."""


class MrtError(WireError):
    """A dump that cannot be read; the text holds the offset."""


@dataclass(frozen=True, slots=True)
class MrtPeer:
    """A neighbour of the router that made the dump."""

    address: Address
    asn: int
    router_id: int = 0


@dataclass(slots=True)
class Dump:
    """What a whole file holds, by neighbour: the paths that held at its end.

    `read` and `left_out` count records that were used and records of kinds that are not read here;
    `odd` counts those that could not be used, and `named` says where and why.
    """

    tables: dict[MrtPeer, dict[Prefix, Path]] = field(default_factory=dict)
    read: int = 0
    left_out: int = 0
    odd: int = 0
    named: list[str] = field(default_factory=list)

    def leave(self, offset: int, why: object) -> None:
        """Note something that cannot be used."""
        self.odd += 1
        if len(self.named) < MOST_NAMED:
            self.named.append(f"the record at offset {offset}: {why}")

    def peer(self, address: Address) -> dict[Prefix, Path]:
        """What a neighbour with this address advertised; empty when it advertised nothing."""
        for peer, table in self.tables.items():
            if peer.address == address:
                return table
        return {}


def read_dump(data: bytes) -> Dump:
    """Raises MrtError when there is something in the file and nothing of it can be used."""
    dump, peers = Dump(), list[MrtPeer]()
    position = 0
    while position < len(data):
        if position + 12 > len(data):
            dump.leave(position, "its header is cut short")
            break
        kind = int.from_bytes(data[position + 4 : position + 6], "big")
        subtype = int.from_bytes(data[position + 6 : position + 8], "big")
        size = int.from_bytes(data[position + 8 : position + 12], "big")
        body = data[position + 12 : position + 12 + size]
        if size > MOST_RECORD or len(body) < size:
            dump.leave(position, f"it claims {size} bytes; where the next begins is not known")
            break
        try:
            _take(dump, peers, kind, subtype, Cursor(body), position)
        except (ReadError, BgpError, MrtError) as error:
            dump.leave(position, error)
        position += 12 + size
    if dump.odd and not dump.read and not dump.left_out:
        raise MrtError(dump.named[0])
    return dump


def _take(
    dump: Dump, peers: list[MrtPeer], kind: int, subtype: int, body: Cursor, offset: int
) -> None:
    if kind == BGP4MP_ET:
        body.take(4, "microseconds")
        kind = BGP4MP
    if kind == TABLE_DUMP_V2 and subtype == PEER_INDEX_TABLE:
        peers[:] = _peers(body)
        for peer in peers:
            dump.tables.setdefault(peer, {})
    elif kind == TABLE_DUMP_V2 and subtype in _RIBS:
        _rib(dump, peers, body, _RIBS[subtype], offset)
    elif kind == BGP4MP and subtype in (MESSAGE, MESSAGE_AS4, STATE_CHANGE, STATE_CHANGE_AS4):
        _message(dump, subtype, body)
    else:
        dump.left_out += 1
        return
    dump.read += 1


def _number(body: Cursor, size: int, what: str) -> int:
    return int.from_bytes(body.take(size, what), "big")


def _peers(body: Cursor) -> Iterator[MrtPeer]:
    body.take(4, "collector's identifier")
    body.take(body.u16("view name"), "view name")
    for _ in range(body.u16("peer count")):
        kind = body.u8("peer type")
        router_id = _number(body, 4, "peer's identifier")
        bits = 128 if kind & 1 else 32
        address = Address(bits, _number(body, bits // 8, "peer's address"))
        yield MrtPeer(address, _number(body, 4 if kind & 2 else 2, "peer's AS number"), router_id)
    body.done("the last peer")


def _rib(dump: Dump, peers: Sequence[MrtPeer], body: Cursor, bits: int, offset: int) -> None:
    body.take(4, "sequence number")
    length = body.u8("prefix length")
    if length > bits:
        raise MrtError(f"an IPv{4 if bits == 32 else 6} prefix of length {length}")
    octets = (length + 7) // 8
    value = _number(body, octets, "prefix") << (bits - 8 * octets)
    prefix = Prefix(bits, value >> (bits - length) << (bits - length), length)
    for _ in range(body.u16("entry count")):
        index = body.u16("peer index")
        body.take(4, "time")
        raw = body.take(body.u16("attributes length"), "attributes")
        if index >= len(peers):
            raise MrtError(f"peer number {index} is not in the table of {len(peers)} peers")
        try:
            path = decode_on_file(raw)
        except BgpError as error:
            dump.leave(offset, f"{prefix} from peer number {index}: {error}")
            continue
        dump.tables.setdefault(peers[index], {})[prefix] = path
    body.done("the last entry")


def _message(dump: Dump, subtype: int, body: Cursor) -> None:
    wide = subtype in (MESSAGE_AS4, STATE_CHANGE_AS4)
    asn = _number(body, 4 if wide else 2, "peer's AS number")
    body.take(4 if wide else 2, "own AS number")
    body.take(2, "interface")
    family = body.u16("address family")
    if family not in (1, 2):
        raise MrtError(f"address family {family} does not exist here")
    size = 4 if family == 1 else 16
    address = Address(8 * size, _number(body, size, "peer's address"))
    body.take(size, "own address")
    known = (p for p in dump.tables if (p.address, p.asn) == (address, asn))
    table = dump.tables.setdefault(next(known, MrtPeer(address, asn)), {})
    if subtype in (STATE_CHANGE, STATE_CHANGE_AS4):
        before, after = body.u16("old state"), body.u16("new state")
        if before == ESTABLISHED and after != ESTABLISHED:
            table.clear()
        return
    message = decode_message(body.rest(), four_octets=wide)
    if isinstance(message, Update):
        for prefix in message.withdrawn:
            table.pop(prefix, None)
        for attributes, prefixes in message.routes:
            table.update(dict.fromkeys(prefixes, attributes.path))


Dumped = Iterable[tuple[Prefix, Iterable[tuple[int, Path]]]]
"""A prefix, and by number of the peer, the paths that were advertised for it."""


def write_dump(
    router_id: int, name: str, peers: Sequence[MrtPeer], dumped: Dumped, at: int
) -> bytes:
    """A TABLE_DUMP_V2 file; `at` in seconds since 1970."""
    text = name.encode()[:65535]
    index = router_id.to_bytes(4, "big") + len(text).to_bytes(2, "big") + text
    index += len(peers).to_bytes(2, "big")
    for peer in peers:
        bits, value = peer.address
        index += bytes((2 | (bits == 128),)) + peer.router_id.to_bytes(4, "big")
        index += value.to_bytes(bits // 8, "big") + peer.asn.to_bytes(4, "big")
    out = [_record(at, PEER_INDEX_TABLE, index)]
    for number, (prefix, paths) in enumerate(dumped):
        octets = (prefix.length + 7) // 8
        entries = []
        for peer_number, path in paths:
            raw = encode_on_file(path, prefix.bits)
            entries.append(
                peer_number.to_bytes(2, "big")
                + at.to_bytes(4, "big")
                + len(raw).to_bytes(2, "big")
                + raw
            )
        body = (
            number.to_bytes(4, "big")
            + bytes((prefix.length,))
            + prefix.value.to_bytes(prefix.bits // 8, "big")[:octets]
            + len(entries).to_bytes(2, "big")
            + b"".join(entries)
        )
        subtype = next(kind for kind, bits in _RIBS.items() if bits == prefix.bits)
        out.append(_record(at, subtype, body))
    return b"".join(out)


def _record(at: int, subtype: int, body: bytes) -> bytes:
    head = at.to_bytes(4, "big") + TABLE_DUMP_V2.to_bytes(2, "big") + subtype.to_bytes(2, "big")
    return head + len(body).to_bytes(4, "big") + body
