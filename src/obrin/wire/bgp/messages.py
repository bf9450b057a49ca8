"""BGP messages (RFC 4271 section 4), parse and serialise side by side.

| marker, 16 bytes of ones | length (2) | type (1) | body |
"""

from __future__ import annotations

from dataclasses import dataclass, field

from obrin.core.address.prefix import Prefix
from obrin.wire.bgp.attributes import (
    AS_TRANS,
    EXTENDED,
    MALFORMED_LIST,
    MP_REACH,
    MP_UNREACH,
    NETWORK,
    Attributes,
    decode_attributes,
    encode_attributes,
)
from obrin.wire.bgp.errors import (
    CEASE,
    HEADER_ERROR,
    OPEN_ERROR,
    UPDATE_ERROR,
    BgpError,
    TreatAsWithdraw,
)
from obrin.wire.cursor import Cursor
from obrin.wire.errors import ReadError

MARKER = b"\xff" * 16
OPEN, UPDATE, NOTIFICATION, KEEPALIVE, ROUTE_REFRESH = 1, 2, 3, 4, 5
MAX_SIZE = 4096
_SMALLEST = {OPEN: 29, UPDATE: 23, NOTIFICATION: 21, KEEPALIVE: 19, ROUTE_REFRESH: 23}
CAPABILITY_MULTIPROTOCOL, CAPABILITY_ROUTE_REFRESH, CAPABILITY_FOUR_OCTETS = 1, 2, 65
_FIXED = (KEEPALIVE, ROUTE_REFRESH)
_IPV4_UNICAST = b"\x00\x01\x00\x01"


@dataclass(frozen=True, slots=True, kw_only=True)
class Open:
    """Section 4.2 with the capabilities of RFC 5492; `asn` is the real, 4-octet number."""

    asn: int
    hold: int
    router_id: int
    four_octets: bool = True
    ipv4_unicast: bool = True
    route_refresh: bool = True
    unknown: tuple[tuple[int, bytes], ...] = ()

    def encode(self) -> bytes:
        capabilities = b""
        if self.ipv4_unicast:
            capabilities += bytes((CAPABILITY_MULTIPROTOCOL, 4)) + _IPV4_UNICAST
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
    """Section 4.3. `attributes` is None when nothing is announced."""

    withdrawn: tuple[Prefix, ...] = ()
    attributes: Attributes | None = None
    announced: tuple[Prefix, ...] = ()
    faults: tuple[str, ...] = ()

    def encode(self, *, four_octets: bool = True, internal: bool = False) -> bytes:
        withdrawn = b"".join(map(_encode_prefix, self.withdrawn))
        attributes = (
            b""
            if self.attributes is None
            else encode_attributes(self.attributes, four_octets=four_octets, internal=internal)
        )
        return _frame(
            UPDATE,
            len(withdrawn).to_bytes(2, "big")
            + withdrawn
            + len(attributes).to_bytes(2, "big")
            + attributes
            + b"".join(map(_encode_prefix, self.announced)),
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
        """What the peer's owner wanted to say; empty for nothing, or for what is no text."""
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
    """RFC 2918 section 3: a wish to be told everything again. `subtype` is reserved there; in RFC
    7313, which is not spoken here, it means something."""

    family: bytes = _IPV4_UNICAST
    subtype: int = 0

    def encode(self) -> bytes:
        return _frame(ROUTE_REFRESH, self.family[:2] + bytes((self.subtype,)) + self.family[3:])

    @property
    def for_us(self) -> bool:
        """Whether it is about routes of a family that is carried."""
        return self.family == _IPV4_UNICAST and not self.subtype


Message = Open | Update | Notification | Keepalive | RouteRefresh


def _frame(kind: int, body: bytes) -> bytes:
    size = 19 + len(body)
    if size > MAX_SIZE:
        raise BgpError(HEADER_ERROR, 2, f"a message of {size} bytes is longer than {MAX_SIZE}")
    return MARKER + size.to_bytes(2, "big") + bytes((kind,)) + body


def _encode_prefix(prefix: Prefix) -> bytes:
    octets = (prefix.length + 7) // 8
    return bytes((prefix.length,)) + (prefix.value >> (32 - 8 * octets)).to_bytes(octets, "big")


def _decode_prefixes(data: bytes) -> tuple[Prefix, ...]:
    cursor = Cursor(data)
    found = []
    try:
        while cursor.remaining():
            length = cursor.u8()
            if length > 32:
                raise BgpError(UPDATE_ERROR, NETWORK, f"a prefix length of {length}")
            octets = (length + 7) // 8
            value = int.from_bytes(cursor.take(octets, "prefix"), "big") << (32 - 8 * octets)
            # Section 4.3: bits beyond the length are irrelevant.
            found.append(Prefix(32, value >> (32 - length) << (32 - length), length))
    except ReadError as error:
        raise BgpError(UPDATE_ERROR, NETWORK, str(error)) from error
    return tuple(found)


def decode_message(data: bytes, *, four_octets: bool = True, internal: bool = True) -> Message:
    """One whole message, `internal` when from a peer of our own AS. Raises BgpError."""
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
    return _decode_update(body, four_octets=four_octets, internal=internal)


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
    four_octets = ipv4 = refresh = False
    unknown: list[tuple[int, bytes]] = []
    any_multiprotocol = False
    cursor = Cursor(body, 9)
    try:
        parameters = Cursor(cursor.take(cursor.u8(), "optional parameters"))
        cursor.done("the optional parameters")
        while parameters.remaining():
            kind = parameters.u8()
            value = Cursor(parameters.take(parameters.u8(), "optional parameter"))
            if kind != 2:
                raise BgpError(OPEN_ERROR, 4, f"optional parameter {kind} is not known here")
            while value.remaining():
                code = value.u8()
                data = value.take(value.u8(), "capability")
                if code == CAPABILITY_FOUR_OCTETS and len(data) == 4:
                    four_octets, asn = True, int.from_bytes(data, "big")
                elif code == CAPABILITY_MULTIPROTOCOL and len(data) == 4:
                    any_multiprotocol = True
                    ipv4 = ipv4 or data == _IPV4_UNICAST
                elif code == CAPABILITY_ROUTE_REFRESH and not data:
                    refresh = True
                else:
                    unknown.append((code, data))
    except ReadError as error:
        raise BgpError(OPEN_ERROR, 0, str(error)) from error
    if asn == 0:
        raise BgpError(OPEN_ERROR, 2, "AS number 0 is not allowed (RFC 7607)")
    # Without any such capability, IPv4 unicast is what BGP-4 carries (RFC 4760 section 8).
    return Open(
        asn=asn,
        hold=hold,
        router_id=router_id,
        four_octets=four_octets,
        ipv4_unicast=ipv4 or not any_multiprotocol,
        route_refresh=refresh,
        unknown=tuple(unknown),
    )


def _decode_update(body: bytes, *, four_octets: bool, internal: bool) -> Update:
    cursor = Cursor(body)
    try:
        withdrawn = cursor.take(cursor.u16(), "withdrawn routes")
        attributes = cursor.take(cursor.u16("attributes length"), "path attributes")
    except ReadError as error:
        raise BgpError(UPDATE_ERROR, MALFORMED_LIST, str(error)) from error
    announced = _decode_prefixes(cursor.rest())
    gone = _decode_prefixes(withdrawn)
    if not attributes and not announced:
        return Update(gone)
    try:
        found = decode_attributes(attributes, four_octets=four_octets, internal=internal)
    except TreatAsWithdraw as fault:
        if not announced:
            if _of_other_families(attributes):
                return Update(gone, faults=("routes of a family that was not agreed on",))
            raise  # section 5.2: routes of the message may be lost, so it cannot just go on
        return Update(gone + announced, faults=(f"treated as a withdrawal: {fault}",))
    return Update(gone, found if announced else None, announced, found.faults)


def _of_other_families(attributes: bytes) -> bool:
    """Whether MP_REACH_NLRI or MP_UNREACH_NLRI is there (RFC 4760): the attributes are those of its
    routes then, which were not agreed on and are ignored."""
    cursor = Cursor(attributes)
    try:
        while cursor.remaining():
            flags, kind = cursor.u8(), cursor.u8()
            cursor.take(cursor.u16() if flags & EXTENDED else cursor.u8())
            if kind in (MP_REACH, MP_UNREACH):
                return True
    except ReadError:
        return False
    return False


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
