"""The network as a picture, measured in the SVG: nothing over anything, and what is known is said."""

from __future__ import annotations

import itertools
import re
import xml.etree.ElementTree as ElementTree
from pathlib import Path
from typing import NamedTuple

import pytest
from matplotlib import font_manager
from PIL import ImageFont

import obrin
from obrin.cli.figures.network import network_bytes
from obrin.cli.figures.network_text import network_lines
from obrin.core.picture.network import DOWN, LOST, ODD, REST, UP, picture
from tests.cli.program import Folder
from tests.core.test_picture import many_sites
from tests.doubles import DESIGN, settled_of
from tests.healthy import Healthy

CROSSING = (Path(obrin.__file__).parent / "demo" / "crossing.yaml").read_text()
SVG = "{http://www.w3.org/2000/svg}"
LEAST = 11.0
"""Points between the middles of two rows of this size."""


class Rect(NamedTuple):
    left: float
    top: float
    right: float
    bottom: float

    def meets(self, other: Rect) -> bool:
        across = self.left < other.right and other.left < self.right
        return across and self.top < other.bottom and other.top < self.bottom

    def holds(self, x: float, y: float) -> bool:
        return self.left + 0.5 < x < self.right - 0.5 and self.top < y < self.bottom


def numbers(path: str) -> list[float]:
    return [float(text) for text in re.findall(r"-?\d+\.?\d*", path)]


def rect_of(path: str) -> Rect:
    found = numbers(path)
    return Rect(min(found[::2]), min(found[1::2]), max(found[::2]), max(found[1::2]))


def curve(path: str) -> list[tuple[float, float]]:
    """Points on it."""
    ends = list(itertools.batched(numbers(path)[:8], 2)) if hasattr(itertools, "batched") else None
    if ends is None:
        found = numbers(path)[:8]
        ends = [(found[n], found[n + 1]) for n in range(0, 8, 2)]
    points = []
    for step in range(61):
        t = step / 60
        shares = (1 - t) ** 3, 3 * t * (1 - t) ** 2, 3 * t * t * (1 - t), t**3
        points.append(
            tuple(sum(s * p[i] for s, p in zip(shares, ends, strict=True)) for i in (0, 1))
        )
    return points


def measured(svg: bytes) -> tuple[int, int]:
    """Raises AssertionError for what is over something else; how many boxes and lines there are."""
    root = ElementTree.fromstring(svg)
    boxes: dict[str, Rect] = {}
    rows: dict[str, list[Rect]] = {}
    lines = []
    for group in root.iter(f"{SVG}g"):
        kind, _, name = group.get("id", "").partition("-")
        if kind == "box":
            boxes[name] = rect_of(group.find(f"{SVG}path").get("d"))
        elif kind == "line":
            lines.append(curve(group.find(f"{SVG}path").get("d")))
        elif kind == "row":
            rows.setdefault(name.rpartition("-")[0], []).append(text_of(group))
    for one, other in itertools.combinations(boxes.values(), 2):
        assert not one.meets(other)
    assert rows.keys() == boxes.keys()
    for name, held in rows.items():
        box = boxes[name]
        for row in held:
            assert box.left < row.left, name
            assert row.right < box.right, name
            assert box.top < row.top, name
            assert row.bottom < box.bottom, name
        for one, other in itertools.pairwise(sorted(held, key=lambda r: r.top)):
            assert other.top - one.top >= LEAST, name
    for points in lines:
        assert not any(box.holds(*point) for box in boxes.values() for point in points)
    return len(boxes), len(lines)


def text_of(group: ElementTree.Element) -> Rect:
    """Where a row of text stands, by another measure than the program's own."""
    text = group.find(f"{SVG}text")
    assert text is not None
    size = float(re.search(r"(\d+\.?\d*)px", text.get("style", "")).group(1))
    bold = "bold" in text.get("style", "") or "700" in text.get("style", "")
    where = font_manager.findfont(
        font_manager.FontProperties(family="DejaVu Sans", weight="bold" if bold else "normal")
    )
    width = ImageFont.truetype(where, 100).getlength(text.text) * size / 100
    x, y = float(text.get("x")), float(text.get("y"))
    return Rect(x, y - size * 0.75, x + width, y + size * 0.25)


@pytest.mark.parametrize(
    "text", [DESIGN, CROSSING, many_sites(200)], ids=["one", "crossing", "200"]
)
def test_no_line_crosses_a_box_and_no_text_leaves_its_own(text: str) -> None:
    settled = settled_of(text)
    drawn = picture(settled, {})
    boxes, lines = measured(network_bytes(drawn, "svg", "a note"))
    assert (boxes, lines) == (len(drawn.boxes), len(drawn.lines))
    assert boxes <= 12
    assert sum(box.stands_for for box in drawn.boxes) == len(settled.sites) + len(settled.clouds)
    assert all(len(line) <= 80 for line in network_lines(drawn))


@pytest.mark.parametrize("seeds", [range(12), pytest.param(range(12, 60), marks=pytest.mark.long)])
def test_whatever_is_drawn_is_readable(seeds: range) -> None:
    for seed in seeds:
        measured(network_bytes(picture(settled_of(str(Healthy(seed))), {}), "svg", ""))


def test_states_are_said_and_drawn_and_keep_a_site_apart() -> None:
    settled = settled_of(many_sites(20))
    labels = [t.label for t in settled.tunnels()]
    whole = picture(settled, dict.fromkeys(labels, UP))
    odd = {"kiosk-3/a": DOWN, "kiosk-5/b": REST, "kiosk-7/a": ODD, "kiosk-8/a": LOST}
    drawn = picture(settled, dict.fromkeys(labels, UP) | odd)
    assert {b.name for b in drawn.boxes} - {b.name for b in whole.boxes} == {
        "kiosk-3",
        "kiosk-5",
        "kiosk-7",
        "kiosk-8",
    }
    rows = [row.text for box in drawn.boxes for row in box.rows]
    for state in (DOWN, REST, ODD, LOST):
        assert any(text.endswith(f": {state}") for text in rows)
    text = "\n".join(network_lines(drawn))
    assert "-X- a: line, two, active, preference 1: DOWN" in text
    assert "... b: line, two, standby, preference 2: at rest" in text
    svg = network_bytes(drawn, "svg", "")
    measured(svg)
    assert svg.count(b"stroke-dasharray") >= 4


@pytest.mark.long
def test_the_command(tmp_path) -> None:
    folder = Folder(tmp_path)
    folder.write("design.yaml", CROSSING)
    folder.obrin("settle").good()
    folder.obrin("draw", "network", "--to", "n.svg").good()
    measured((tmp_path / "n.svg").read_bytes())
    folder.obrin("draw", "network", "--to", "n.png").good()
    assert (tmp_path / "n.png").read_bytes().startswith(b"\x89PNG")
    run = folder.obrin("draw", "network", "--text", "--without", "hub:crossing").good()
    assert "~~~" not in run.out.rpartition("\n---")[0].replace("-X-", "")
    assert "timetable: lost" in run.out or "attached to crossing: lost" in run.out
    folder.obrin("draw", "network", "--without", "hub:none").bad(2, "hub:crossing")
    folder.obrin("draw", "network", "--live").bad(2, "no practice world runs here")
