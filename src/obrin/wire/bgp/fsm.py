"""The BGP session's states and what leads from one to the next (RFC 4271 section 8.2.2).

Only the table. Collisions (section 6.8) do not arise: the configuration says which end connects,
and the other listens.
"""

from __future__ import annotations

import enum


class BgpState(enum.Enum):
    IDLE = "idle"
    CONNECT = "connect"
    ACTIVE = "active"
    OPEN_SENT = "open-sent"
    OPEN_CONFIRM = "open-confirm"
    ESTABLISHED = "established"


class BgpInput(enum.Enum):
    START_ACTIVE = enum.auto()
    START_PASSIVE = enum.auto()
    CONNECTED = enum.auto()
    CONNECTION_FAILED = enum.auto()
    RETRY = enum.auto()
    OPEN = enum.auto()
    KEEPALIVE = enum.auto()
    UPDATE = enum.auto()
    FAILED = enum.auto()


_S, _I = BgpState, BgpInput

TRANSITIONS: dict[BgpState, dict[BgpInput, BgpState]] = {
    _S.IDLE: {
        _I.START_ACTIVE: _S.CONNECT,
        _I.START_PASSIVE: _S.ACTIVE,
        _I.FAILED: _S.IDLE,
        _I.CONNECTION_FAILED: _S.IDLE,
    },
    _S.CONNECT: {
        _I.CONNECTED: _S.OPEN_SENT,
        _I.CONNECTION_FAILED: _S.ACTIVE,
        _I.RETRY: _S.CONNECT,
        _I.FAILED: _S.IDLE,
    },
    _S.ACTIVE: {
        _I.CONNECTED: _S.OPEN_SENT,
        _I.CONNECTION_FAILED: _S.ACTIVE,
        _I.RETRY: _S.CONNECT,
        _I.FAILED: _S.IDLE,
    },
    _S.OPEN_SENT: {
        _I.OPEN: _S.OPEN_CONFIRM,
        _I.CONNECTION_FAILED: _S.ACTIVE,
        _I.FAILED: _S.IDLE,
    },
    _S.OPEN_CONFIRM: {
        _I.KEEPALIVE: _S.ESTABLISHED,
        _I.CONNECTION_FAILED: _S.IDLE,
        _I.FAILED: _S.IDLE,
    },
    _S.ESTABLISHED: {
        _I.KEEPALIVE: _S.ESTABLISHED,
        _I.UPDATE: _S.ESTABLISHED,
        _I.CONNECTION_FAILED: _S.IDLE,
        _I.FAILED: _S.IDLE,
    },
}


def advance(state: BgpState, event: BgpInput) -> BgpState | None:
    """The next state, or None when the input is an error in this one."""
    return TRANSITIONS[state].get(event)
