"""The state of one tunnel or circuit, from what both its ends say: a verdict, and what it rests on.

`up` is True where both ends say so. A BGP session takes two ends: where one end has it established,
the other end has it, too, and may be silent. `up` is False where one end says that it is down. In
every other case it is not known, and the reason is in the words of whoever could not say more.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from obrin.core.json_text import Json
from obrin.core.known import NotKnown, Verdict, all_of, known
from obrin.live.drivers.observations import NO_IKE, NOT_ASKED, EndStatus

UP, ODD, REST, UNKNOWN, REVOKED, DOWN = (
    "up",
    "up, ends disagree",
    "at rest",
    "not known",
    "revoked",
    "DOWN",
)
STATES = UP, ODD, REST, UNKNOWN, REVOKED, DOWN
"""What a tunnel or circuit is, in a word; UNKNOWN where too little is reported to say, REVOKED
where the certificates of an end are, so that it has to stay down."""
ESTABLISHED = "established"


@dataclass(frozen=True, slots=True, kw_only=True)
class TunnelStatus:
    """`speaks`: the design has a BGP session over it. `rests`: it is a spare, and one of those
    that it stands in for is up. `revoked` says whose certificates are revoked, and since when,
    where the tunnel is not to come up for that."""

    tunnel: str
    rank: int
    site: EndStatus
    cloud: EndStatus
    speaks: bool = False
    disagreements: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    rests: bool = False
    revoked: str = ""

    @property
    def ends(self) -> tuple[tuple[str, EndStatus], ...]:
        return ("site", self.site), ("cloud", self.cloud)

    @property
    def up(self) -> Verdict:
        """Whether packets go both ways, by what the ends say: BGP included where the design has
        it."""
        found = [_carries(end, speaks=self.speaks) for _, end in self.ends]
        if True in found and False not in found and self.speaks:
            return True
        return all_of(
            NotKnown(f"the {who}: {one.why}") if isinstance(one, NotKnown) else one
            for (who, _), one in zip(self.ends, found, strict=True)
        )

    @property
    def as_wished(self) -> Verdict:
        """Whether it is up, or down because it is a spare that is not needed, or revoked."""
        return True if self.rests or self.revoked else self.up

    @property
    def right(self) -> Verdict:
        """Whether it is as wished and its ends agree; not known where an end says nothing at
        all."""
        if self.disagreements:
            return False
        if self.rests or self.revoked:
            return True
        if self.up is not True:
            return self.up
        return all_of(
            NotKnown(f"the {who}: {end.problem}") for who, end in self.ends if end.problem
        )

    @property
    def state(self) -> str:
        """One of STATES."""
        if self.up is True:
            return ODD if self.disagreements else UP
        if self.rests:
            return REST
        if self.revoked:
            return REVOKED
        return DOWN if self.up is False else UNKNOWN

    @property
    def by_hand(self) -> bool:
        """Whether an end is silent because a person configures it."""
        return NOT_ASKED in (self.site, self.cloud)

    @property
    def pending(self) -> bool:
        """Whether waiting can change that it is not as wished: what is done by hand stays
        silent."""
        silent = any(end.problem for _, end in self.ends) and not self.by_hand
        return self.as_wished is False or (self.as_wished is not True and silent)

    @property
    def nothing_against(self) -> bool:
        """Whether it is right, as far as anybody can be asked: an end that is configured by hand
        cannot."""
        return self.right is True or (self.by_hand and self.right is not False)

    def rests_on(self) -> list[str]:
        """What the verdict rests on, in words; what is not reported is left out."""
        return [f"{who}: {', '.join(said)}" for who, end in self.ends if (said := [*_said(end)])]

    def as_json(self) -> Json:
        return {
            "tunnel": self.tunnel,
            "rank": self.rank,
            "state": self.state,
            "up": known(self.up, None),
            "right": known(self.right, None),
            "not_known": self.right.why if isinstance(self.right, NotKnown) else "",
            "rests_on": self.rests_on(),
            "rests": self.rests,
            "revoked": self.revoked,
            "site": _end(self.site),
            "cloud": _end(self.cloud),
            "disagreements": list(self.disagreements),
            "notes": list(self.notes),
        }


LATELY = 30
"""Seconds for which a packet that came out of it shows that a tunnel or line carries."""


def _carries(end: EndStatus, *, speaks: bool) -> Verdict:
    """Whether an end says that packets go. Where it does not say so of the child SA or the line
    itself, an established session shows it, or a packet that came lately."""
    if end.problem:
        return NotKnown(end.problem)
    child = end.child if isinstance(end.child, NotKnown) else end.child == "up"
    if isinstance(child, NotKnown) and isinstance(end.idle_in, int) and end.idle_in <= LATELY:
        child = True
    if not speaks:
        return child
    session = end.bgp if isinstance(end.bgp, NotKnown) else end.bgp == ESTABLISHED
    if session is True and isinstance(child, NotKnown):
        return True
    return all_of((child, session))


def _said(end: EndStatus) -> Iterator[str]:
    if not isinstance(end.child, NotKnown):
        yield f"line {end.child}" if end.ike == NO_IKE else f"child SA {end.child}"
    if not isinstance(end.bgp, NotKnown) and end.bgp != "none":
        yield f"BGP {end.bgp}"


def _end(end: EndStatus) -> Json:
    values = ((name, getattr(end, name)) for name in EndStatus.__slots__)
    shown = {name: known(value, None) for name, value in values}
    return {**shown, "not_known": end.not_known}
