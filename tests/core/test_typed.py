"""What people are handed is typed by somebody who has the paper only: the device then is what a device is
that was given the standard data."""

from __future__ import annotations

import csv
import io
import re
from pathlib import Path

import pytest

from obrin.core.handover.configured import device_config
from obrin.core.handover.pack import gateways_of, make_pack
from obrin.core.handover.secrets import Secrets
from obrin.core.settled.model import Settled
from tests.doubles import DESIGN, settled_of, swap
from tests.live.buildable import Drawn
from tests.live.virtual_world import certificates_of, keys_of
from tests.typist.alike import differences, normal
from tests.typist.device import configured
from tests.typist.screen import Screen, as_printed, part_of, typed

DEMO = Path(__file__).parents[2] / "src" / "obrin" / "demo"
TWO_BOXES = swap(
    ("          radio:", "      quay-gw2:\n        uplinks:\n          radio:"),
    ("      b: {gateway: quay-gw,", "      b: {gateway: quay-gw2,"),
    ("    gateways:\n      quay-gw:\n", "    internal-bgp: true\n    gateways:\n      quay-gw:\n"),
)
DESIGNS = {
    "doubles": DESIGN,
    "two boxes": TWO_BOXES,
    "hosts that let in nothing": swap(
        ("desks: 10.20.0.0/22", "desks: {prefix: 10.20.0.0/22, hosts-accept: []}")
    ),
    **{
        name: (DEMO / f"{name}.yaml").read_text(encoding="utf-8")
        for name in ("design", "ledger", "crossing")
    },
}
REMARKS = {
    "Name", "Region", "Site", "Address space", "Capacity class", "Gateway subnet", "Attached to hub",
    "Order of preference", "Secret: entry in keys.json", "Kept awake by", "Don't Fragment bit outside",
    "Largest TCP segment (MSS), both directions", "Keepalive", "Provider", "Own AS number", "Mode",
    "Lifetime in bytes", "Tunnel interface", "Remote inside address","Public address of instance", "Peer's AS number",
}  # fmt: skip
"""Values that the standard data of a device does not hold, or that another value says as well."""


NOT_CONFIGURED = {"Allow", "Table", "Member", "Translator", "Destination left alone"}
"""Lists of what is entered elsewhere, or is the cloud's own."""


def packs_of(settled: Settled):
    secrets = Secrets(keys_of(settled), certificates_of(settled))
    return {place: make_pack(settled, place, secrets) for place in gateways_of(settled)}


def faults(settled: Settled) -> list[str]:
    found = []
    for place, pack in packs_of(settled).items():
        screen = typed(pack.sheet)
        meant = normal(device_config(settled, place))
        found += [f"{place}{text}" for text in differences(normal(configured(screen)), meant)]
        found += [
            f"{place}: the table of values differs: {t}"
            for t in csv_faults(as_printed(pack.sheet), pack.values)
        ]
        found += [f"{place}: no step for {one}" for one in not_in_steps(screen, pack.steps)]
    return found


def csv_faults(screen: Screen, text: str) -> list[str]:
    """Every cell of the sheet stands in the table of values, and nothing else does."""
    rows = list(csv.DictReader(io.StringIO(text)))
    cells = {
        (part_of(r["part"]), "" if r["column"] == "Enter" else r["column"], r["row"]): r["value"]
        for r in rows
    }
    held = {key: text for key, text in cells.items() if key in screen.values}
    missing = [f"{key}" for key, value in screen.values.items() if held.get(key) != value]
    listed = {(r["row"], r["value"]) for r in rows}
    for table in screen.rows.values():
        for row in table:
            whole = [row[:keys] for keys in range(1, len(row) + 1)]
            if not any(
                (" ".join(keys), value) in listed for keys in whole for value in (*row, "present")
            ):
                missing.append(f"{row}")
    return missing


def not_in_steps(screen: Screen, steps: str) -> list[str]:
    """Parts of the sheet, and tunnels on it, that no step has one enter."""
    parts = [
        re.findall(r"\(sheet, ([^)]*)\)", step) and step
        for step in re.split(r"\n\d+\. ", steps)[1:]
    ]
    lines = [step.split("*Check:*")[0] for step in parts if step]
    rest = [line for line in lines if "sheet, 5" in line]
    found = [
        f"tunnel {t}"
        for t in screen.columns("Tunnels")
        if not any("2 and 3" in x and t in x for x in lines)
    ]
    found += [
        f"routing of {t}"
        for t in screen.columns("Routing")
        if not any("sheet, 4" in x and t in x for x in lines)
    ]
    for _, through, *_ in screen.rows.get("Destination", []):
        if not any(
            "sheet, 4" in line and through.removeprefix("tunnel-") in line.replace("/", "-")
            for line in lines
        ):
            found.append(f"routes through {through}")
    found += [
        f"circuit {c}"
        for c in screen.columns("Circuits")
        if not any(f"circuit {c}" in x for x in lines)
    ]
    found += [
        f"session with {row[0]}"
        for row in screen.rows.get("Neighbour", [])
        if not any(row[0] in x for x in lines)
    ]
    found += ["the filter"] if screen.rows.get("Rule") and not rest else []
    found += (
        ["translation"]
        if screen.rows.get("At") and not any("translation at" in x for x in rest)
        else []
    )
    return found


@pytest.mark.parametrize("name", DESIGNS)
def test_a_device_into_which_the_sheet_was_typed_is_what_its_data_says(name: str) -> None:
    assert faults(settled_of(DESIGNS[name])) == []


@pytest.mark.parametrize("seeds", [range(start, start + 10) for start in range(0, 60, 10)])
def test_drawn_sheets(seeds: range) -> None:
    assert [text for seed in seeds for text in faults(settled_of(Drawn(seed).text))] == []


@pytest.mark.slow
@pytest.mark.parametrize("seeds", [range(start, start + 100) for start in range(1000, 3000, 100)])
def test_many_drawn_sheets(seeds: range) -> None:
    assert [text for seed in seeds for text in faults(settled_of(Drawn(seed).text))] == []


@pytest.mark.parametrize("name", ["crossing", "two boxes"])
def test_no_value_on_the_sheet_is_without_effect(name: str) -> None:
    """A typist who leaves a value out, or enters that of another tunnel, makes another device."""
    for place, pack in packs_of(settled_of(DESIGNS[name])).items():
        screen = typed(pack.sheet)
        right = normal(configured(screen))
        for key in screen.values:
            remark = any(word in key[2] for word in REMARKS)
            if not remark and screen.values[key] not in ("", "does not apply", "none"):
                wrong = screen.copy()
                del wrong.values[key]
                assert _other(wrong, right), (place, key)
        for table, rows in screen.rows.items():
            for row in rows if table not in NOT_CONFIGURED else ():
                wrong = screen.copy()
                wrong.rows[table].remove(row)
                assert row[0] == "everything-else" or table == "Network" or _other(wrong, right), (
                    place,
                    row,
                )


def _other(wrong: Screen, right: object) -> bool:
    try:
        return normal(configured(wrong)) != right
    except (KeyError, ValueError, AssertionError, IndexError):
        return True
