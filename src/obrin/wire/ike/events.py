"""Events that a tunnel reports to the program around it."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.wire.ike.child import ChildSa
from obrin.wire.ike.sa import IkeSa


@dataclass(frozen=True, slots=True)
class IkeUp:
    """An IKE SA is authenticated, or replaces another (`rekeyed`)."""

    tunnel: str
    sa: IkeSa
    rekeyed: bool = False


@dataclass(frozen=True, slots=True)
class IkeDown:
    """An IKE SA ended; `reason` is in words a user would search for."""

    tunnel: str
    reason: str


@dataclass(frozen=True, slots=True)
class ChildUp:
    tunnel: str
    child: ChildSa
    rekeyed: bool = False


@dataclass(frozen=True, slots=True)
class ChildDown:
    tunnel: str
    child: ChildSa
    reason: str


@dataclass(frozen=True, slots=True)
class Refused:
    """One end refused the other: which notify, who sent it, and why. `rekey` is what was to be
    rekeyed, `child SA` or `IKE SA`: then it was said inside an established IKE SA and is true."""

    tunnel: str
    by_peer: bool
    notify: str
    text: str
    rekey: str = ""


@dataclass(frozen=True, slots=True)
class Discarded:
    """A datagram was dropped without an answer; `tunnel` is empty where none is known."""

    tunnel: str
    reason: str
    detail: str = ""


CHILD_REKEY, IKE_REKEY = "child SA", "IKE SA"

Event = IkeUp | IkeDown | ChildUp | ChildDown | Refused | Discarded
