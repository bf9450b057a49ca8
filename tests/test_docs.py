"""The state diagrams in the docs are those of the tables in the code."""

from __future__ import annotations

import enum
from pathlib import Path

from obrin.wire.bgp.fsm import TRANSITIONS as BGP
from obrin.wire.ike.transitions import TRANSITIONS as IKE

PAGE = Path(__file__).parents[1] / "docs" / "states.md"


def diagram(table: dict[enum.Enum, dict[enum.Enum, enum.Enum]]) -> str:
    """A Mermaid state diagram; an edge for every entry, those between the same states together."""
    edges: dict[tuple[str, str], list[str]] = {}
    for state, steps in table.items():
        for step, following in steps.items():
            pair = (state.name.lower(), following.name.lower())
            edges.setdefault(pair, []).append(step.name.lower().replace("_", " "))
    lines = [f"    {a} --> {b}: {', '.join(steps)}" for (a, b), steps in edges.items()]
    return "\n".join(["```mermaid", "stateDiagram-v2", "    [*] --> idle", *lines, "```"])


def page() -> str:
    return (
        "# States\n\n"
        "Drawn from the tables in the code; a test compares them.\n\n"
        f"## An IKE SA\n\n`wire/ike/transitions.py`\n\n{diagram(IKE)}\n\n"
        f"## A BGP session\n\n`wire/bgp/fsm.py` (RFC 4271 section 8.2.2)\n\n{diagram(BGP)}\n"
    )


def test_the_diagrams_are_the_tables() -> None:
    assert PAGE.read_text(encoding="utf-8") == page()
