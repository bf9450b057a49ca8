"""BGP messages (RFC 4271 section 4), parse and serialise side by side.

| marker, 16 bytes of ones | length (2) | type (1) | body |
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace

from obrin.core.address.prefix import Prefix
from obrin.core.routing.path import AS_TRANS
from obrin.wire.bgp import restart
from obrin.wire.bgp.attributes import (
    Attributes,
    decode_all,
    encode_attributes,
    encode_reaching,
    encode_withdrawing,
)
from obrin.wire.bgp.errors import (
    CEASE,
    HEADER_ERROR,
    OPEN_ERROR,
    UPDATE_ERROR,
    BgpError,
    TreatAsWithdraw,
)
from obrin.wire.bgp.kinds import MALFORMED_LIST, MISSING
from obrin.wire.bgp.multiprotocol import (
    Reach,
    bits_of,
    decode_prefixes,
    encode_prefixes,
    family_of,
)
from obrin.wire.bgp.restart import Restart
from obrin.wire.cursor import Cursor
from obrin.wire.errors import ReadError

MARKER = b"\xff" * 16
OPEN, UPDATE, NOTIFICATION, KEEPALIVE, ROUTE_REFRESH = 1, 2, 3, 4, 5
MAX_SIZE = 4096
_SMALLEST = {OPEN: 29, UPDATE: 23, NOTIFICATION: 21, KEEPALIVE: 19, ROUTE_REFRESH: 23}
CAPABILITY_MULTIPROTOCOL, CAPABILITY_ROUTE_REFRESH, CAPABILITY_FOUR_OCTETS = 1, 2, 65
_FIXED = (KEEPALIVE, ROUTE_REFRESH)
CAPABILITY_OTHER_HOPS = 5
_OTHER_HOPS = b"\x00\x01\x00\x01\x00\x02"
"""RFC 8950 section 4: IPv4 unicast with next hops of IPv6."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Open:
    """Section 4.2 with the capabilities of RFC 5492; `asn` is the real, 4-octet number. `families`
    are those that it carries, in bits of their addresses; `other_hops` is whether IPv4 may have
    next hops of IPv6 (RFC 8950)."""

    asn: int
    hold: int
    router_id: int
    four_octets: bool = True
    families: tuple[int, ...] = (32,)
    other_hops: bool = False
    restart: Restart | None = None
    route_refresh: bool = True
    unknown: tuple[tuple[int, bytes], ...] = ()

    def encode(self) -> bytes:
        capabilities = b""
        for bits in self.families:
            capabilities += bytes((CAPABILITY_MULTIPROTOCOL, 4)) + family_of(bits)
        if self.other_hops:
            capabilities += bytes((CAPABILITY_OTHER_HOPS, len(_OTHER_HOPS))) + _OTHER_HOPS
        if self.restart is not None:
            value = self.restart.encode()
            capabilities += bytes((restart.CAPABILITY, len(value))) + value
        if self.route_refresh:
            capabilities += bytes((CAPABILITY_ROUTE_REFRESH, 0))
        if self.four_octets:
            capabilities += bytes((CAPABILITY_FOUR_OCTETS, 4)) + self.asn.to_bytes(4, "big")
        for code, value in self.unknown:
            capabilities += bytes((code, len(value))) + value
        parameter = bytes((2, len(capabilities))) + capabilities if capabilities else b""
        short = self.asn if self.asn < 65536 else AS_TRANS
        return _frame(
            OPEN,
            bytes((4,))
            + short.to_bytes(2, "big")
            + self.hold.to_bytes(2, "big")
            + self.router_id.to_bytes(4, "big")
            + bytes((len(parameter),))
            + parameter,
        )


@dataclass(frozen=True, slots=True)
class Update:
    """Section 4.3. `attributes` is None when nothing is announced; `announced` are of IPv4 and go
    by the path's next hop, what is in `reach` by its own (RFC 4760). One that says nothing `ends`
    what there is to advertise of a family at first (RFC 4724 section 2), in bits."""

    withdrawn: tuple[Prefix, ...] = ()
    attributes: Attributes | None = None
    announced: tuple[Prefix, ...] = ()
    faults: tuple[str, ...] = ()
    reach: Reach | None = None
    ends: int = 0

    @property
    def routes(self) -> Iterator[tuple[Attributes, tuple[Prefix, ...]]]:
        """What is announced, with the path of each family."""
        if self.attributes is not None and self.announced:
            yield self.attributes, self.announced
        if self.attributes is not None and self.reach is not None and self.reach.prefixes:
            path = replace(self.attributes.path, next_hop=self.reach.next_hop.value)
            yield replace(self.attributes, path=path), self.reach.prefixes

    def encode(self, *, four_octets: bool = True, internal: bool = False) -> bytes:
        withdrawn = encode_prefixes(p for p in self.withdrawn if p.bits == 32)
        gone6 = tuple(p for p in self.withdrawn if p.bits == 128)
        attributes = encode_reaching(self.reach) if self.reach is not None else b""
        attributes += encode_withdrawing(gone6) if gone6 or self.ends == 128 else b""
        if self.attributes is not None:
            attributes += encode_attributes(
                self.attributes,
                four_octets=four_octets,
                internal=internal,
                hop=bool(self.announced) or self.reach is None,
            )
        return _frame(
            UPDATE,
            len(withdrawn).to_bytes(2, "big")
            + withdrawn
            + len(attributes).to_bytes(2, "big")
            + attributes
            + encode_prefixes(self.announced),
        )


_WITH_WORDS = ((CEASE, 2), (CEASE, 4))
"""Administrative Shutdown and Reset."""


@dataclass(frozen=True, slots=True)
class Notification:
    """Section 4.5."""

    code: int
    subcode: int = 0
    data: bytes = b""

    @classmethod
    def farewell(cls, subcode: int, words: str) -> Notification:
        """A Cease of a kind that may say why (RFC 9003): up to 255 bytes of UTF-8."""
        said = words.encode()[:255].decode(errors="ignore").encode()
        return cls(CEASE, subcode, bytes((len(said),)) + said)

    @property
    def words(self) -> str:
        """What the peer's owner wanted to say; empty for nothing, or for what is not text."""
        if (self.code, self.subcode) not in _WITH_WORDS or not self.data:
            return ""
        size, said = self.data[0], self.data[1:]
        return said[:size].decode(errors="replace") if size <= len(said) else ""

    def encode(self) -> bytes:
        return _frame(NOTIFICATION, bytes((self.code, self.subcode)) + self.data)


@dataclass(frozen=True, slots=True)
class Keepalive:
    """Section 4.4."""

    def encode(self) -> bytes:
        return _frame(KEEPALIVE, b"")


@dataclass(frozen=True, slots=True)
class RouteRefresh:
    """RFC 2918 section 3: a request to send everything again. `subtype` is reserved there; in RFC
    7313, which is not spoken here, it means something."""

    family: bytes = family_of(32)
    subtype: int = 0

    def encode(self) -> bytes:
        return _frame(ROUTE_REFRESH, self.family[:2] + bytes((self.subtype,)) + self.family[3:])

    @property
    def bits(self) -> int | None:
        """The family whose routes are wanted; None for one that is not spoken here."""
        return None if self.subtype else bits_of(self.family)


Message = Open | Update | Notification | Keepalive | RouteRefresh


def _frame(kind: int, body: bytes) -> bytes:
    size = 19 + len(body)
    if size > MAX_SIZE:
        raise BgpError(HEADER_ERROR, 2, f"a message of {size} bytes is longer than {MAX_SIZE}")
    return MARKER + size.to_bytes(2, "big") + bytes((kind,)) + body


def decode_message(
    data: bytes,
    *,
    four_octets: bool = True,
    internal: bool = True,
    families: tuple[int, ...] = (32, 128),
) -> Message:
    """One whole message, `internal` when from a peer of our own AS; `families` are those that were
    agreed on. Raises BgpError."""
    if len(data) < 19 or data[:16] != MARKER:
        raise BgpError(HEADER_ERROR, 1, "the marker is not all ones")
    size, kind = int.from_bytes(data[16:18], "big"), data[18]
    if kind not in _SMALLEST:
        raise BgpError(HEADER_ERROR, 3, f"message type {kind} does not exist", bytes((kind,)))
    if (
        size != len(data)
        or size < _SMALLEST[kind]
        or size > MAX_SIZE
        or (kind in _FIXED and size != _SMALLEST[kind])
    ):
        raise BgpError(HEADER_ERROR, 2, f"a length of {size} is wrong here", data[16:18])
    body = data[19:]
    if kind == KEEPALIVE:
        return Keepalive()
    if kind == NOTIFICATION:
        return Notification(body[0], body[1], body[2:])
    if kind == OPEN:
        return _decode_open(body)
    if kind == ROUTE_REFRESH:
        return RouteRefresh(body[:2] + b"\0" + body[3:4], body[2])
    return _decode_update(body, four_octets=four_octets, internal=internal, families=families)


def _decode_open(body: bytes) -> Open:
    version, hold = body[0], int.from_bytes(body[3:5], "big")
    if version != 4:
        raise BgpError(OPEN_ERROR, 1, f"BGP version {version}", b"\x00\x04")
    if hold in (1, 2):
        raise BgpError(OPEN_ERROR, 6, f"a hold time of {hold} s is not allowed")
    router_id = int.from_bytes(body[5:9], "big")
    if router_id == 0:
        raise BgpError(OPEN_ERROR, 3, "a router identifier of zero")
    asn = int.from_bytes(body[1:3], "big")
    four_octets = refresh = other_hops = False
    restarting: Restart | None = None
    unknown: list[tuple[int, bytes]] = []
    families: dict[int, None] = {}
    any_multiprotocol = False
    for code, data in _capabilities(Cursor(body, 9)):
        if code == CAPABILITY_FOUR_OCTETS and len(data) == 4:
            four_octets, asn = True, int.from_bytes(data, "big")
        elif code == CAPABILITY_MULTIPROTOCOL and len(data) == 4:
            any_multiprotocol = True
            bits = bits_of(data[:2] + b"\0" + data[3:])
            if bits is not None:
                families[bits] = None
        elif code == CAPABILITY_OTHER_HOPS and _OTHER_HOPS in _sixes(data):
            other_hops = True
        elif code == restart.CAPABILITY and (decoded := restart.decode(data)) is not None:
            restarting = decoded
        elif code == CAPABILITY_ROUTE_REFRESH and not data:
            refresh = True
        else:
            unknown.append((code, data))
    if asn == 0:
        raise BgpError(OPEN_ERROR, 2, "AS number 0 is not allowed (RFC 7607)")
    # Without any such capability, IPv4 unicast is what BGP-4 carries (RFC 4760 section 8).
    return Open(
        asn=asn,
        hold=hold,
        router_id=router_id,
        four_octets=four_octets,
        families=tuple(families) if any_multiprotocol else (32,),
        other_hops=other_hops,
        restart=restarting,
        route_refresh=refresh,
        unknown=tuple(unknown),
    )


def _capabilities(cursor: Cursor) -> Iterator[tuple[int, bytes]]:
    """Codes and values, of all parameters that hold some (RFC 5492 section 4). Raises BgpError."""
    try:
        parameters = Cursor(cursor.take(cursor.u8(), "optional parameters"))
        cursor.done("the optional parameters")
        while parameters.remaining():
            kind = parameters.u8()
            value = Cursor(parameters.take(parameters.u8(), "optional parameter"))
            if kind != 2:
                raise BgpError(OPEN_ERROR, 4, f"optional parameter {kind} is not known here")
            while value.remaining():
                yield value.u8(), value.take(value.u8(), "capability")
    except ReadError as error:
        raise BgpError(OPEN_ERROR, 0, str(error)) from error


def _decode_update(
    body: bytes, *, four_octets: bool, internal: bool, families: tuple[int, ...]
) -> Update:
    cursor = Cursor(body)
    try:
        withdrawn = cursor.take(cursor.u16(), "withdrawn routes")
        attributes = cursor.take(cursor.u16("attributes length"), "path attributes")
    except ReadError as error:
        raise BgpError(UPDATE_ERROR, MALFORMED_LIST, str(error)) from error
    announced = decode_prefixes(cursor.rest())
    gone = decode_prefixes(withdrawn)
    if not attributes and not announced:
        return Update(gone, ends=0 if gone else 32)
    try:
        found = decode_all(
            attributes,
            four_octets=four_octets,
            internal=internal,
            families=families,
            beside_routes=bool(announced),
        )
        if found.attributes is None and announced:
            raise TreatAsWithdraw("no path beside the routes", MISSING, found.gone)
    except TreatAsWithdraw as fault:
        lost = (*announced, *fault.lost)
        if not lost:
            raise  # section 5.2: routes of the message may be lost, so it cannot just go on
        return Update(gone + lost, faults=(f"treated as a withdrawal: {fault}",))
    decoded = found.attributes if announced or found.reach is not None else None
    ends = 0 if gone or announced else found.ends
    return Update(gone + found.gone, decoded, announced, found.faults, found.reach, ends)


def _sixes(data: bytes) -> list[bytes]:
    return [data[at : at + 6] for at in range(0, len(data), 6)]


@dataclass(slots=True)
class MessageReader:
    """Cuts a byte stream into messages."""

    _buffer: bytearray = field(default_factory=bytearray)

    def feed(self, data: bytes) -> None:
        self._buffer += data

    def kind(self) -> int:
        """The type of the message at the front, or 0 while its header is not whole."""
        return self._buffer[18] if len(self._buffer) > 18 else 0

    def next(self) -> bytes | None:
        """The next whole message, or None. Raises BgpError for an impossible length."""
        if len(self._buffer) < 19:
            return None
        size = int.from_bytes(self._buffer[16:18], "big")
        if bytes(self._buffer[:16]) != MARKER:
            raise BgpError(HEADER_ERROR, 1, "the marker is not all ones")
        if not 19 <= size <= MAX_SIZE:
            raise BgpError(
                HEADER_ERROR, 2, f"a message of {size} bytes", bytes(self._buffer[16:18])
            )
        if len(self._buffer) < size:
            return None
        message = bytes(self._buffer[:size])
        del self._buffer[:size]
        return message
