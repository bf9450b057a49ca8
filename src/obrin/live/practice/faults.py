"""What can be made to go wrong on purpose: one list for the practice world and for rehearsals."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from obrin.core.address.prefix import parse_address
from obrin.core.design.values import parse_duration
from obrin.core.errors import AddressError, ObrinError
from obrin.core.handover.standard.device import DeviceConfig
from obrin.core.naming import those_near
from obrin.core.settled.model import Settled
from obrin.live.practice.internet.weather import ADDRESS, LARGE, Trouble, narrowing, with_more

UPLINK, GATEWAY, CLOUD = "uplink", "gateway", "cloud"
RESTART, FULL, AHEAD, BEHIND = "restart", "full", "ahead", "behind"
RETYPE, RETYPED = "retype", ("filter", "liveness")
THROTTLE, FAIL, DRIFT = "throttle", "fail", "drift"
FULL_WORDS = "there is no room left to keep it"


@dataclass(frozen=True, slots=True)
class FaultKind:
    """`where` it is: at an uplink, a gateway or the cloud. `example` is a value, empty where it
    has none; `does` says what happens, in words."""

    name: str
    where: str
    example: str
    does: str


KINDS = {
    kind.name: kind
    for kind in (
        FaultKind("loss", UPLINK, "5%", "that share of packets is lost"),
        FaultKind("double", UPLINK, "5%", "that share comes twice"),
        FaultKind("delay", UPLINK, "80ms", "every packet comes later"),
        FaultKind("jitter", UPLINK, "40ms", "by up to so much more, so that they overtake"),
        FaultKind("one-way", UPLINK, "out", "only what leaves passes, or 'in'"),
        FaultKind("block", UPLINK, "udp/4500", "that is dropped, or 'esp'"),
        FaultKind(
            LARGE,
            UPLINK,
            "silent",
            "over 1,280 bytes is lost; 'icmp': the sender gets an ICMP error",
        ),
        FaultKind(ADDRESS, UPLINK, "192.0.2.77", "its provider gives it another address"),
        FaultKind("forget", UPLINK, "", "its translator forgets who asked whom, once"),
        FaultKind(RESTART, GATEWAY, "", "it loses everything but its configuration, once"),
        FaultKind(RETYPE, GATEWAY, "filter", "somebody takes a rule away; 'liveness': asks later"),
        FaultKind(FULL, GATEWAY, "", "it has no room to keep another configuration"),
        FaultKind(BEHIND, GATEWAY, "2h", "its clock is behind by that"),
        FaultKind(AHEAD, GATEWAY, "2h", "its clock is ahead by that"),
        FaultKind(THROTTLE, CLOUD, "2", "it takes so many requests in a second"),
        FaultKind(FAIL, CLOUD, "tunnels", "the next of that kind, or name, fails half built"),
        FaultKind(DRIFT, CLOUD, "filters/timetable", "somebody changes a thing there, once"),
    )
}


@dataclass(frozen=True, slots=True)
class Fault:
    """`where` is the name of an uplink (GATEWAY/UPLINK) or gateway, or `cloud`."""

    kind: str
    where: str
    value: str = ""

    def __str__(self) -> str:
        return " ".join(part for part in (self.kind, self.where, self.value) if part)


def parse_fault(text: str) -> Fault:
    """`loss hh-east/fibre 5%`. Raises ObrinError for what is not a fault at all."""
    kind, _, rest = text.strip().partition(" ")
    where, _, value = rest.strip().partition(" ")
    if not where:
        raise ObrinError(f"'{text}' is not a fault; write for example 'loss hh-east/fibre 5%'")
    return Fault(kind, where, value.strip().replace(" ", ""))


def judge_fault(settled: Settled, fault: Fault) -> None:
    """Raises ObrinError for one that this design has no place for, or a value that cannot be."""
    kind = KINDS.get(fault.kind)
    if kind is None:
        raise ObrinError(f"there is no fault '{fault.kind}'. There are: {', '.join(KINDS)}")
    known = {
        UPLINK: [f"{g.name}/{u}" for g in settled.gateways.values() for u in g.uplinks],
        GATEWAY: list(settled.gateways),
        CLOUD: [CLOUD],
    }[kind.where]
    if fault.where not in known:
        raise ObrinError(
            f"'{fault.kind}' is a fault of {_A[kind.where]}, and there is no {kind.where} "
            f"'{fault.where}'. There are: {those_near(fault.where, known)}"
        )
    if fault.value and not kind.example:
        raise ObrinError(f"'{fault.kind}' has no value")
    if not fault.value and kind.example and fault.kind != LARGE:
        raise ObrinError(f"'{fault.kind}' wants a value, for example '{kind.example}'")
    try:
        _VALUES.get(fault.kind, _nothing)(fault)
    except (ValueError, AddressError) as error:
        raise ObrinError(f"{fault}: {error}; write for example '{kind.example}'") from None


_A = {UPLINK: "an uplink", GATEWAY: "a gateway", CLOUD: "the cloud"}


def seconds_wrong(fault: Fault) -> float:
    """Seconds by which the fault sets a clock wrong. Raises ValueError."""
    return parse_duration(fault.value) * (1 if fault.kind == AHEAD else -1)


def _weather(fault: Fault) -> None:
    with_more(Trouble(), fault.kind, fault.value)


def _rate(fault: Fault) -> None:
    if not 0.1 <= float(fault.value) <= 1000:
        raise ValueError(f"'{fault.value}' is not between 0.1 and 1000")


def _retyped(fault: Fault) -> None:
    if fault.value not in RETYPED:
        raise ValueError(f"'{fault.value}' is nothing that somebody retypes")


def retyped(config: DeviceConfig, what: str) -> DeviceConfig:
    """Change it as somebody would by hand: a rule less, or another liveness. Raises
    ValueError where there is nothing of it."""
    if what == "filter" and config.filter.rules:
        return replace(config, filter=replace(config.filter, rules=config.filter.rules[:-1]))
    if what == "liveness" and config.tunnels:
        first, *others = config.tunnels
        first = replace(first, liveness=replace(first.liveness, delay=first.liveness.delay + 5))
        return replace(config, tunnels=(first, *others))
    raise ValueError(f"there is no {what} to change")


def _nothing(fault: Fault) -> None:
    pass


_VALUES: dict[str, Callable[[Fault], object]] = {
    **dict.fromkeys(("loss", "double", "delay", "jitter", "one-way", "block"), _weather),
    LARGE: lambda fault: narrowing(fault.value),
    ADDRESS: lambda fault: parse_address(fault.value),
    AHEAD: seconds_wrong,
    BEHIND: seconds_wrong,
    THROTTLE: _rate,
    RETYPE: _retyped,
}
