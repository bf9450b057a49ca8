"""A routing table as text, against the model: by a template of the user's own."""

from __future__ import annotations

from pathlib import Path

import pytest

from obrin.core.routing.model import state_of
from obrin.core.routing.tables import IN_USE, SHARES, table_rows
from tests.cli.program import Folder
from tests.doubles import DESIGN, settled_of

TEMPLATE = """\
Value PREFIX (\\S+)
Value NEXTHOP (\\S+)
Value INTERFACE (\\S+)

Start
  ^${PREFIX} via ${NEXTHOP} dev ${INTERFACE} -> Record
"""
SETTLED = settled_of()


def table(changed: str = "", gone: str = "") -> str:
    """What the model has quay-gw use, as a device prints it."""
    inside = {leg.label: leg.cloud_inside for leg in SETTLED.legs_at("quay-gw")}
    lines = ["routing table of quay-gw"]
    for row in table_rows(SETTLED, "quay-gw", state_of(SETTLED)):
        if row.state in (IN_USE, SHARES) and str(row.prefix) != gone:
            label = "quay-apps/b" if str(row.prefix) == changed else row.via
            lines.append(f"{row.prefix} via {inside.get(label, '0.0.0.0')} dev vlan7")
    return "\n".join(lines) + "\n"


@pytest.fixture
def folder(tmp_path: Path) -> Folder:
    made = Folder(tmp_path)
    made.write("design.yaml", DESIGN)
    made.write("routes.fsm", TEMPLATE)
    made.obrin("settle").good()
    return made


SEEN = ("routes", "quay-gw", "--seen", "table.txt", "--template", "routes.fsm")


def test_a_table_as_text_is_held_against_the_model(folder: Folder) -> None:
    folder.write("table.txt", table())
    assert "no differences from the model" in folder.obrin(*SEEN).good().out
    space = str(SETTLED.clouds["apps"].all_spaces[0])
    folder.write("table.txt", table(gone=space))
    assert "the device has no route there" in " ".join(folder.obrin(*SEEN).bad(1).out.split())
    folder.write("table.txt", table(changed=space))
    assert "leads to quay-apps/b" in " ".join(folder.obrin(*SEEN).bad(1).out.split())


def test_what_is_not_a_route_is_named_and_nothing_is_never_good(folder: Folder) -> None:
    folder.write("table.txt", table() + "10.20.4.0/99 via 169.254.1.1 dev x\n")
    run = folder.obrin(*SEEN).bad(1, "not compared: 10.20.4.0/99 169.254.1.1 x:")
    assert "no differences" in run.out
    folder.write("table.txt", "nothing that fits\n")
    folder.obrin(*SEEN).bad(2, "it finds no routes in table.txt")
    folder.write("routes.fsm", "Value (\n")
    folder.obrin(*SEEN).bad(2, "the template does not work")
    folder.obrin("routes", "quay-gw", "--template", "x").bad(2, "--template goes with --seen")
