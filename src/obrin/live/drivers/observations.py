"""What drivers report of the world, in the same values whatever stands behind them."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.address.prefix import Address, Prefix


@dataclass(frozen=True, slots=True, kw_only=True)
class EndStatus:
    """One end of a tunnel or circuit as it sees itself; `problem` when it cannot be asked. On a
    circuit `ike` is `none`, and `child` is whether it carries.

    `refusal_age`, `bgp_error_age`, `idle_in` and `idle_out` are seconds since the refusal, since
    the session ended, since a packet last came out of the tunnel and since one went in; None when
    none ever did. They and the counters belong to the IKE SA that is there. `refused_rekey` is what
    was to be rekeyed when that was refused. Of the last `counted` packets that the peer sent, by
    their sequence numbers, so many are `missing`. `inside` and `inside_of_peer` are the addresses
    inside the tunnel, `outside_of_peer` is where it expects the peer; empty where it is not
    reported. `unreported` are those of IKE_SA, SESSION, RECEIVED and ANNOUNCED of which it says
    nothing, so that what stands there means nothing.
    """

    ike: str = "unknown"
    child: str = "unknown"
    packets_in: int = 0
    packets_out: int = 0
    bgp: str = "none"
    received: tuple[str, ...] = ()
    announced: tuple[str, ...] = ()
    rejected: tuple[str, ...] = ()
    refusal: str = ""
    refusal_age: int | None = None
    refused_rekey: str = ""
    outside_of_peer: str = ""
    inside: str = ""
    inside_of_peer: str = ""
    bgp_error: str = ""
    bgp_error_age: int | None = None
    idle_in: int | None = None
    idle_out: int | None = None
    counted: int = 0
    missing: int = 0
    problem: str = ""
    unreported: tuple[str, ...] = ()


IKE_SA, SESSION, RECEIVED, ANNOUNCED = "IKE SA", "BGP", "received", "announced"
NOT_ASKED = EndStatus(problem="it is configured by hand, and cannot be asked")
NOT_FOUND = EndStatus(problem="it reports interfaces, and this tunnel has none")
UNKNOWABLE = frozenset({NOT_ASKED.problem, NOT_FOUND.problem})
"""Nothing is wrong with an end that has one of these problems: nobody can ask it."""
NO_IKE = "none"
NOT_CONFIGURED = EndStatus(ike="not configured", child="not configured")


@dataclass(frozen=True, slots=True, kw_only=True)
class RouteSeen:
    """A route that a device uses; `via` is a tunnel's label or the name of a network."""

    prefix: Prefix
    via: str
    kind: str


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
    where there is none."""

    answered: bool
    refused: bool
    seconds: float
    source_port: int
    too_big: int = 0
    mss: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class Streamed:
    """`longest_gap` is the longest time between two answers, in seconds."""

    sent: int
    answered: int
    longest_gap: float
