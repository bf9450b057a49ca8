"""Findings that are accepted in the design, and equal ones told together."""

from __future__ import annotations

import pytest

from tests.cli.program import Folder
from tests.doubles import DESIGN

ONE = DESIGN.replace("      b: {gateway: quay-gw, uplink: radio, instance: 2}\n", "")


@pytest.fixture
def folder(tmp_path) -> Folder:
    made = Folder(tmp_path)
    made.write("design.yaml", ONE)
    made.obrin("settle").good()
    return made


def accept(folder: Folder, **filled: str) -> None:
    """What the program prints, filled in and put into the design."""
    folder.write("design.yaml", ONE)
    lines = folder.obrin("check", "--accept", "one-tunnel").good().out
    values = {"because": "a home lab", "by": "Ann", "until": ""} | filled
    for key, value in values.items():
        lines = "\n".join(
            f"    {key}: {value}" if line.strip().startswith(f"{key}:") else line
            for line in lines.splitlines()
        )
    folder.write("design.yaml", ONE + lines + "\n")


def test_what_is_accepted_is_shown_and_counts_no_more(folder: Folder) -> None:
    folder.obrin("check").bad(1, "ERROR  one-tunnel", "1 error")
    folder.obrin("check", "--accept", "one-tunnel").good()
    accept(folder)
    run = folder.obrin("check").good()
    assert "accepted by Ann: error one-tunnel design.yaml:20:5: a home lab" in run.out
    assert "0 errors" in run.out
    assert "1 accepted" in run.out
    found = {f["code"]: f["accepted"] for f in folder.obrin("check", "--json").good().json}
    assert found["one-tunnel"] == {"because": "a home lab", "by": "Ann", "until": None}
    folder.obrin("handover").good()
    for name in ("quay-gw", "apps"):
        sheet = (folder.path / "packs" / "design" / name / "sheet.md").read_text()
        assert "Accepted finding" in sheet
        assert "a home lab" in sheet


def test_it_is_back_when_its_day_is_over_or_what_was_found_is_something_else(
    folder: Folder,
) -> None:
    accept(folder, until="2030-01-31")
    folder.obrin("check", OBRIN_TODAY="2030-01-31").good()
    folder.obrin("check", OBRIN_TODAY="2030-02-01").bad(1, "ERROR  one-tunnel")
    accept(folder, seen="'00000000'")
    folder.obrin("check").bad(1, "ERROR  one-tunnel")
    accept(folder, at="links.elsewhere.tunnels")
    folder.obrin("check").bad(1, "ERROR  one-tunnel", "acceptance-unused")


def test_levels_are_for_scripts(folder: Folder) -> None:
    accept(folder, at="links.elsewhere.tunnels")
    folder.write("design.yaml", (folder.path / "design.yaml").read_text().replace(ONE, DESIGN))
    folder.obrin("settle").good()
    folder.obrin("check", "--level", "warning").good()
    folder.obrin("check", "--level", "note").bad(1, "NOTE  acceptance-unused")
    folder.obrin("check", "--accept", "nothing-such").bad(2, "nothing of that code")


def test_equal_findings_are_reported_together_and_a_screen_is_not_flooded(tmp_path) -> None:
    folder = Folder(tmp_path)
    text = DESIGN.replace("provider: two", "provider: one")
    site, link = text.index("  quay:\n"), text.index("  quay-apps:\n")
    clouds, wishes = text.index("clouds:\n"), text.index("expectations:\n")
    sites, links = text[site:clouds], text[link:wishes]
    more = range(2, 14)
    text = (
        text[:clouds]
        + "".join(
            sites.replace("quay", f"quay{n}")
            .replace("192.0.2.10", f"192.0.2.{n + 20}")
            .replace("198.51.100.20", f"198.51.100.{n + 20}")
            .replace("10.20.", f"10.{n + 20}.")
            for n in more
        )
        + text[clouds:wishes]
        + "".join(links.replace("quay", f"quay{n}") for n in more)
        + text[wishes:]
    )
    folder.write("design.yaml", text)
    run = folder.obrin("check").bad(1, "shared-provider  at 13 places", "and 5 more")
    assert run.out.count("shared-provider") == 1
    assert "13 errors" in run.out
    assert len(folder.obrin("check", "--json").json) >= 13
