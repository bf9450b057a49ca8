"""What stands at the ends is brought into the design by the keys that make it so, and no others."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

import pytest

from obrin.core.handover.configured import device_config
from obrin.core.handover.secrets import Secrets
from obrin.core.handover.standard.device import encode
from obrin.core.settled.model import Settled
from obrin.live.drivers.differing import differing, of_data
from obrin.live.drivers.practice_cloud.cloud_steps import cloud_steps
from obrin.live.drivers.practice_cloud.driver import PracticeCloud
from obrin.live.drivers.protocol import Done, Ends
from obrin.live.edited import edited
from obrin.live.project import Project
from obrin.live.reshape.drift import Drifted, place_of_step
from obrin.live.reshape.taking import Taken, taking
from tests.doubles import DESIGN, settled_of, swap

BGP = "    bgp: {hold-time: 6 s}\n"
CHANGES = {
    "liveness": (BGP, BGP + "    liveness: {delay: 20 s}\n"),
    "tries": (BGP, BGP + "    liveness: {tries: 3}\n"),
    "hold time": ("hold-time: 6 s", "hold-time: 12 s"),
    "propagation": ("web: {hosts: 100}", "web: {hosts: 100, propagation: false}"),
    "watched": (BGP, BGP + "    bfd: {interval: 1 s}\n"),
    "always encapsulated": (BGP, BGP + "    encapsulation: always\n"),
    "a cloud's AS": ("  apps:\n", "  apps:\n    gateway: {as: 65020}\n"),
    "another region": ("  apps:\n", "  apps:\n    region: west-1\n"),
    "fragments": (BGP, BGP + "    oversize: fragment\n"),
    "a subnet's range": ("web: {hosts: 100}", "web: {hosts: 100, prefix: 10.65.9.0/25}"),
}
NO_KEY = {"watched"}
"""A whole that is not there yet has no key of its own."""


def secrets_of(settled: Settled) -> Secrets:
    return Secrets({tunnel.label: "k" * 20 for tunnel in settled.tunnels()})


def bodies(settled: Settled) -> dict[str, Any]:
    steps = cloud_steps(settled, list(settled.clouds), secrets_of(settled))
    return {step.name: step for step in steps}


def drifts(before: Settled, after: Settled) -> list[Drifted]:
    """As if somebody had made all of one design out of the other, by hand."""
    found = []
    old, new = bodies(before), bodies(after)
    for name in (name for name in old if name in new):
        if parts := differing(new[name].body, old[name].body):
            place, at = place_of_step(before, old[name]), old[name].cloud
            found.append((name, at, parts, place))
    for name, gateway in before.gateways.items():
        held, wanted = (encode(device_config(s, name)) for s in (after, before))
        if parts := of_data(held, wanted):
            found.append((name, name, parts, ("sites", gateway.site, "gateways", name)))
    mend = partial(lambda _: Done(False, ""))
    return [
        Drifted(name=n, at=at, differing=parts, place=place, mend=mend)
        for n, at, parts, place in found
    ]


def take(tmp_path: Path, after: str, before: str = DESIGN) -> tuple[Taken, Settled]:
    path = tmp_path / "design.yaml"
    path.write_text(before)
    project = Project(path)
    settled, wanted = settled_of(before), settled_of(after)
    driver = PracticeCloud(None, 1.0)  # type: ignore[arg-type]
    ends = Ends(dict.fromkeys(settled.clouds, driver), {})
    return taking(project, drifts(settled, wanted), ends, secrets_of(settled)), wanted


@pytest.mark.parametrize("name", CHANGES)
def test_the_key_that_makes_it_so_is_found_and_written(tmp_path: Path, name: str) -> None:
    taken, wanted = take(tmp_path, swap(CHANGES[name]))
    if name in NO_KEY:
        assert taken.text == DESIGN
        assert taken.left
        return
    made = settled_of(taken.text)
    assert {n: s.body for n, s in bodies(made).items()} == {
        n: s.body for n, s in bodies(wanted).items()
    }
    assert encode(device_config(made, "quay-gw")) == encode(device_config(wanted, "quay-gw"))


def test_several_at_once(tmp_path: Path) -> None:
    several = [CHANGES[name] for name in ("propagation", "hold time", "another region")]
    taken, wanted = take(tmp_path, swap(*several))
    assert len(taken.changes) == 3
    assert not taken.left
    assert drifts(settled_of(taken.text), wanted) == []


def test_what_no_key_says_is_left_and_told(tmp_path: Path) -> None:
    less = swap(("  - {from: quay/guests, to: apps/web, flow: tcp/443, must: not}\n", ""))
    fewer = less.replace("  - {from: quay/desks, to: apps/web, flow: icmp, must: work}\n", "")
    taken, _ = take(tmp_path, fewer)
    assert taken.text == DESIGN
    assert {name for name, _ in taken.left} == {"filters/apps", "quay-gw"}


def test_nothing_is_taken_where_nothing_differs(tmp_path: Path) -> None:
    assert take(tmp_path, DESIGN)[0] == Taken((), (), DESIGN)


def test_lists_stay_where_they_stand_in_a_text_that_is_edited() -> None:
    from obrin.core.gather.since import ABSENT, Change

    change = [Change(("name",), ABSENT, "other", "")]
    for lists in ("expectations:\n  - a   # why\n", "expectations:\n- a\n"):
        text = f"name: test   # this\n{lists}"
        assert edited(text, change, "x", "") == text.replace("test  ", "other ")
