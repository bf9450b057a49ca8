"""What a person enters, step by step: rows of the value sheet, and nothing more."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial

from obrin.core.check.space.assigned import wrong_with
from obrin.core.handover.sheet.blocks import Value, values_of
from obrin.core.handover.sheet.sheet import value_sheet
from obrin.core.settle.blank import cloud_key
from obrin.core.settled.model import Settled
from obrin.live.drivers.by_hand.person import HandStep, Question

NETWORK, GATEWAY, SUITES, TUNNEL, REST = "network", "gateway", "algorithms", "tunnel", "rest"
_OF_GATEWAY = ("capacity-class", "gateway-subnet", "bgp-")
_LOOK = {
    NETWORK: "the list of networks and subnets, with their ranges",
    GATEWAY: "its state: it is built, and both instances run",
    SUITES: "that no other algorithm is offered",
    TUNNEL: "the state of this tunnel alone; it comes up when the other end has it, too",
    REST: "the list of rules and routes, beside the sheet",
}
_TITLES = {
    NETWORK: "the network",
    GATEWAY: "its gateway",
    SUITES: "algorithms and lifetimes",
    REST: "routes, filters and what is on the internet side",
}


@dataclass(frozen=True, slots=True)
class Part:
    """A step with what has to come before it, and the tunnel that it makes."""

    step: HandStep
    needs: frozenset[str] = frozenset()
    tunnel: str = ""


def parts_of(settled: Settled, place: str, who: str, barred: frozenset[str]) -> list[Part]:
    """Parts of the work at a place, in the order in which they are done."""
    groups: dict[str, list[tuple[str, str]]] = {}
    labels = [
        t.label
        for t in settled.tunnels()
        if place in (t.gateway, t.cloud) and not barred & {t.gateway, t.cloud}
    ]
    for value in values_of(value_sheet(settled, place)):
        for group in _groups(value, labels):
            groups.setdefault(group, []).append((_called(value, group), value.text))
    found: list[Part] = []
    before: frozenset[str] = frozenset()
    for group in (NETWORK, GATEWAY, SUITES):
        if group in groups:
            questions = tuple(_questions(settled, place)) if group == GATEWAY else ()
            step = _step(settled, place, group, groups[group], who, questions)
            found.append(Part(step, before))
            before = frozenset({step.name})
    for label in labels:
        group = f"{TUNNEL}/{label}"
        if group in groups:
            found.append(Part(_step(settled, place, group, groups[group], who), before, label))
    if REST in groups:
        found.append(Part(_step(settled, place, REST, groups[REST], who), before))
    return found


def _step(
    settled: Settled,
    place: str,
    group: str,
    lines: list[tuple[str, str]],
    who: str,
    questions: tuple[Question, ...] = (),
) -> HandStep:
    kind = group.partition("/")[0]
    title = _TITLES.get(kind) or f"tunnel {group.partition('/')[2]}"
    return HandStep(
        name=f"{place}/{group}",
        title=f"{place}: {title}",
        lines=tuple(lines),
        look=_LOOK[kind],
        who=who,
        questions=questions,
    )


def _groups(value: Value, labels: list[str]) -> Iterator[str]:
    first, _, rest = value.name.partition(".")
    if first == "gateway" and rest.startswith("public-address"):
        return  # the cloud assigns it
    if first == "gateway":
        yield GATEWAY if rest.startswith(_OF_GATEWAY) else NETWORK
    elif first.startswith("suite-"):
        yield SUITES
    elif value.column in labels:
        yield f"{TUNNEL}/{value.column}"
    elif first in ("tunnels", "routing"):
        return  # of a tunnel that is not built
    else:
        yield REST


def _called(value: Value, group: str) -> str:
    if group.startswith(TUNNEL) or value.column in ("", "Enter"):
        return value.row
    return f"{value.row}, {value.column}"


def _questions(settled: Settled, place: str) -> Iterator[Question]:
    """What only the cloud knows; a site's gateway chooses nothing itself."""
    cloud = settled.clouds.get(place)
    if cloud is None or cloud.gateway is None:
        return
    own, here = cloud.gateway, cloud_key(place, "gateway")
    for bits, key in ((32, "addresses"), (128, "addresses6")):
        held = [str(a) for instance in cloud.instances for a in instance if a.bits == bits]
        if held:
            yield Question(
                place=f"{here}.{key}",
                about=f"public IPv{4 if bits == 32 else 6} addresses of its instances, in order",
                usual=tuple(held),
                stands_in="addresses" in own.unknown,
                given="addresses" in own.given,
                judge=partial(wrong_with, settled, f"{here}.{key}"),
            )
    if "peers" in own.assigns or own.peers:
        yield Question(
            place=f"{here}.peers",
            about="addresses in the gateway subnet from which they speak BGP",
            usual=tuple(map(str, cloud.own_addresses)),
            stands_in="peers" in own.unknown,
            given="peers" in own.given,
            judge=partial(wrong_with, settled, f"{here}.peers"),
        )
