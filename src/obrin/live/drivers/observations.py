"""What drivers report of the world, in the same values whatever stands behind them."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.address.prefix import Address, Prefix
from obrin.core.known import NotKnown, Verdict

_UNSAID = NotKnown("its driver does not report it")


@dataclass(frozen=True, slots=True, kw_only=True)
class EndStatus:
    """One end of a tunnel or circuit as it sees itself. What it does not report is `NotKnown`, with
    the reason. On a circuit `ike` is `none`, and `child` is whether it carries.

    `bgp` is the state of the session (RFC 4271 section 8.2.2, small letters), `none` where none is
    configured. `refusal_age`, `bgp_error_age`, `idle_in` and `idle_out` are seconds since the
    refusal, since the session ended, since a packet last came out of the tunnel and since one went
    in; None when none ever did. They and the counters belong to the IKE SA that is there.
    `refused_rekey` is what was to be rekeyed when that was refused. Of the last `counted` packets
    that the peer sent, by their sequence numbers, so many are `missing`. `inside` and
    `inside_of_peer` are the addresses inside the tunnel, `outside_of_peer` is where it expects the
    peer; empty where it is not reported. `problem` is why the end as a whole says nothing.
    """

    ike: str | NotKnown = _UNSAID
    child: str | NotKnown = _UNSAID
    packets_in: int | NotKnown = _UNSAID
    packets_out: int | NotKnown = _UNSAID
    bgp: str | NotKnown = _UNSAID
    received: tuple[str, ...] | NotKnown = _UNSAID
    announced: tuple[str, ...] | NotKnown = _UNSAID
    idle_in: int | NotKnown | None = _UNSAID
    idle_out: int | NotKnown | None = _UNSAID
    rejected: tuple[str, ...] = ()
    refusal: str = ""
    refusal_age: int | None = None
    refused_rekey: str = ""
    outside_of_peer: str = ""
    inside: str = ""
    inside_of_peer: str = ""
    bgp_error: str = ""
    bgp_error_age: int | None = None
    counted: int = 0
    missing: int = 0
    problem: str = ""

    @property
    def not_known(self) -> dict[str, str]:
        """What it does not report, by the name of the field, and why."""
        values = ((name, getattr(self, name)) for name in EndStatus.__slots__)
        return {name: value.why for name, value in values if isinstance(value, NotKnown)}


OBSERVED = (
    "ike",
    "child",
    "packets_in",
    "packets_out",
    "bgp",
    "received",
    "announced",
    "idle_in",
    "idle_out",
)
"""Fields of an end that an observation gives, or does not."""


def silent(why: str) -> EndStatus:
    """An end of which nothing is known, and why."""
    return EndStatus(problem=why, **dict.fromkeys(OBSERVED, NotKnown(why)))  # type: ignore[arg-type]


IKE_STATES = (
    *("idle", "asking", "answered", "authenticating", "established", "deleting", "closed"),
    *("down", "none", "not configured"),
)
CHILD_STATES = "up", "down", "not configured"
BGP_STATES = (
    *("idle", "connect", "active", "opensent", "openconfirm", "established"),
    *("none", "not configured"),
)
"""The words of an end: a driver has these and no others. BGP's are the states of RFC 4271 section
8.2.2 in small letters; `none` is a circuit's IKE SA, and where no BGP session is configured."""


NOT_ASKED = silent("it is configured by hand, and cannot be asked")
NO_IKE = "none"
NOT_CONFIGURED = EndStatus(
    ike="not configured",
    child="not configured",
    packets_in=0,
    packets_out=0,
    bgp="not configured",
    received=(),
    announced=(),
    idle_in=None,
    idle_out=None,
)
"""An end that lists all its tunnels, and this one is not among them."""


@dataclass(frozen=True, slots=True, kw_only=True)
class RouteSeen:
    """A route that a device uses; `via` is a tunnel's label or the name of a network. `used` is
    not known where it lists others to the same prefix and does not say which it uses."""

    prefix: Prefix
    via: str
    kind: str
    used: Verdict = True


@dataclass(frozen=True, slots=True, kw_only=True)
class Dropped:
    """Packets of one flow that a device dropped, and why."""

    place: str
    reason: str
    source: Address
    destination: Address
    protocol: int
    source_port: int
    destination_port: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Question:
    """The first packet of a flow, to be sent by a host that the driver can reach.

    `protocol` is icmp, tcp or udp; `timeout` in seconds; `size` in bytes of the packet, 0 for a
    small one; `fragmentable` is whether it may be cut on its way.
    """

    source: Address
    destination: Address
    protocol: str
    port: int
    timeout: float
    size: int = 0
    fragmentable: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Answer:
    """`seconds` until the answer, or for which it was awaited. `too_big` is the size in bytes that
    somebody on the way says would pass, `mss` what the ends of a TCP connection agreed on; each 0
    where there is none. `sent_whole` and `received_whole` are whether TCP segments of that size
    crossed, which any `size` of a question asks for; None where that is not reported."""

    answered: bool
    refused: bool
    seconds: float
    source_port: int
    too_big: int = 0
    mss: int = 0
    sent_whole: bool | None = None
    received_whole: bool | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Streamed:
    """`longest_gap` is the longest time between two answers, in seconds."""

    sent: int
    answered: int
    longest_gap: float
