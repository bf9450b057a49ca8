"""BGP errors carry the NOTIFICATION that answers them (RFC 4271 section 6)."""

from __future__ import annotations

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


class BgpError(WireError):
    """`code`, `subcode` and `data` go into the NOTIFICATION that ends the session."""

    def __init__(self, code: int, subcode: int, text: str, data: bytes = b"") -> None:
        self.code = code
        self.subcode = subcode
        self.data = data
        super().__init__(text)


class TreatAsWithdraw(BgpError):
    """A fault that costs the routes it came with and not the session (RFC 7606 section 2); where
    there are none to withdraw, it is a BgpError like any other (section 5.2)."""

    def __init__(self, text: str, subcode: int = 1) -> None:
        super().__init__(UPDATE_ERROR, subcode, text)
