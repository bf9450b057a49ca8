"""BGP errors carry the NOTIFICATION that answers them (RFC 4271 section 6)."""

from __future__ import annotations

from obrin.core.address.prefix import Prefix
from obrin.wire.errors import WireError

HEADER_ERROR, OPEN_ERROR, UPDATE_ERROR, HOLD_EXPIRED, FSM_ERROR, CEASE = range(1, 7)

CODE_NAMES = {
    HEADER_ERROR: "message header error",
    OPEN_ERROR: "OPEN message error",
    UPDATE_ERROR: "UPDATE message error",
    HOLD_EXPIRED: "hold timer expired",
    FSM_ERROR: "finite state machine error",
    CEASE: "cease",
}


SUBCODE_NAMES = {
    (HEADER_ERROR, 1): "Connection Not Synchronized",
    (HEADER_ERROR, 2): "Bad Message Length",
    (HEADER_ERROR, 3): "Bad Message Type",
    (OPEN_ERROR, 1): "Unsupported Version Number",
    (OPEN_ERROR, 2): "Bad Peer AS",
    (OPEN_ERROR, 3): "Bad BGP Identifier",
    (OPEN_ERROR, 4): "Unsupported Optional Parameter",
    (OPEN_ERROR, 6): "Unacceptable Hold Time",
    (OPEN_ERROR, 7): "Unsupported Capability",
    (UPDATE_ERROR, 1): "Malformed Attribute List",
    (UPDATE_ERROR, 2): "Unrecognized Well-known Attribute",
    (UPDATE_ERROR, 3): "Missing Well-known Attribute",
    (UPDATE_ERROR, 4): "Attribute Flags Error",
    (UPDATE_ERROR, 5): "Attribute Length Error",
    (UPDATE_ERROR, 6): "Invalid ORIGIN Attribute",
    (UPDATE_ERROR, 8): "Invalid NEXT_HOP Attribute",
    (UPDATE_ERROR, 9): "Optional Attribute Error",
    (UPDATE_ERROR, 10): "Invalid Network Field",
    (UPDATE_ERROR, 11): "Malformed AS_PATH",
    (CEASE, 1): "Maximum Number of Prefixes Reached",
    (CEASE, 2): "Administrative Shutdown",
    (CEASE, 3): "Peer De-configured",
    (CEASE, 4): "Administrative Reset",
    (CEASE, 5): "Connection Rejected",
    (CEASE, 6): "Other Configuration Change",
    (CEASE, 7): "Connection Collision Resolution",
    (CEASE, 8): "Out of Resources",
}
"""RFC 4271 section 4.5, RFC 4486 section 3, RFC 5492 section 5."""


def error_name(code: int, subcode: int) -> str:
    """What a NOTIFICATION says, in the names of the RFCs."""
    name = CODE_NAMES.get(code, f"code {code}")
    if not subcode:
        return name
    return f"{name}, {SUBCODE_NAMES.get((code, subcode), f'subcode {subcode}')}"


class BgpError(WireError):
    """`code`, `subcode` and `data` go into the NOTIFICATION that ends the session."""

    def __init__(self, code: int, subcode: int, text: str, data: bytes = b"") -> None:
        self.code = code
        self.subcode = subcode
        self.data = data
        super().__init__(text)


class TreatAsWithdraw(BgpError):
    """A fault that costs the routes it came with and not the session (RFC 7606 section 2); where
    there are none to withdraw, it is a BgpError like any other (section 5.2). `lost` are those that
    the attributes themselves held (RFC 4760)."""

    def __init__(self, text: str, subcode: int = 1, lost: tuple[Prefix, ...] = ()) -> None:
        super().__init__(UPDATE_ERROR, subcode, text)
        self.lost = lost
