"""What may follow what in the life of one IKE SA. Only a table: no bytes, no clock, no side.

    IDLE --send init--> INIT_SENT --send auth--> AUTH_SENT --authenticated--> ESTABLISHED
    IDLE --answer init--> INIT_ANSWERED --authenticated--> ESTABLISHED
    IDLE --inherit--> ESTABLISHED                 (made by rekeying another IKE SA)
    ESTABLISHED --delete--> DELETING --close--> CLOSED
    any --close--> CLOSED

INIT_SENT may send again (a cookie, another group).
"""

from __future__ import annotations

import enum


class State(enum.Enum):
    IDLE = "idle"
    INIT_SENT = "asking"
    INIT_ANSWERED = "answered"
    AUTH_SENT = "authenticating"
    ESTABLISHED = "established"
    DELETING = "deleting"
    CLOSED = "closed"


class Step(enum.Enum):
    SEND_INIT = enum.auto()
    ANSWER_INIT = enum.auto()
    SEND_AUTH = enum.auto()
    AUTHENTICATED = enum.auto()
    INHERIT = enum.auto()
    DELETE = enum.auto()
    CLOSE = enum.auto()


TRANSITIONS: dict[State, dict[Step, State]] = {
    State.IDLE: {
        Step.SEND_INIT: State.INIT_SENT,
        Step.ANSWER_INIT: State.INIT_ANSWERED,
        Step.INHERIT: State.ESTABLISHED,
        Step.CLOSE: State.CLOSED,
    },
    State.INIT_SENT: {
        Step.SEND_INIT: State.INIT_SENT,
        Step.SEND_AUTH: State.AUTH_SENT,
        Step.CLOSE: State.CLOSED,
    },
    State.INIT_ANSWERED: {
        Step.AUTHENTICATED: State.ESTABLISHED,
        Step.CLOSE: State.CLOSED,
    },
    State.AUTH_SENT: {
        Step.AUTHENTICATED: State.ESTABLISHED,
        Step.CLOSE: State.CLOSED,
    },
    State.ESTABLISHED: {
        Step.DELETE: State.DELETING,
        Step.CLOSE: State.CLOSED,
    },
    State.DELETING: {
        Step.DELETE: State.DELETING,
        Step.CLOSE: State.CLOSED,
    },
    State.CLOSED: {Step.CLOSE: State.CLOSED},
}


class IllegalStep(Exception):
    """A step that the table does not allow: a mistake of ours, never of the peer."""


def advance(state: State, step: Step) -> State:
    """The state after a step. Raises IllegalStep."""
    try:
        return TRANSITIONS[state][step]
    except KeyError:
        raise IllegalStep(f"{step.name} is not possible in state {state.value}") from None
