"""Workbooks, tables and JSON that are made to break or to fill whoever reads them."""

from __future__ import annotations

import io
import random
import resource
import subprocess
import sys
import textwrap
import zipfile
from collections.abc import Callable
from pathlib import Path

import openpyxl
import pytest

from obrin.core.csv_text import MOST_CELL, csv_rows
from obrin.core.errors import DesignError, ObrinError
from obrin.core.json_text import JsonError, parse_json
from obrin.live.drivers.places import read_places
from obrin.live.entered_files import read_entered
from obrin.live.exports import gathered
from obrin.live.workbooks import read_workbook

SHEET = "xl/worksheets/sheet1.xml"
STRINGS = "xl/sharedStrings.xml"


def workbook(**parts: bytes) -> bytes:
    """A workbook of one text and one number; parts are put in place of its own, by their role."""
    book = openpyxl.Workbook()
    book.active.append(["name", "value"])
    book.active.append(["a", 1])
    out = io.BytesIO()
    book.save(out)
    names = {"sheet": SHEET, "strings": STRINGS, "book": "xl/workbook.xml"}
    given = {names[role]: data for role, data in parts.items()}
    made = io.BytesIO()
    with zipfile.ZipFile(out) as old, zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as new:
        for name in old.namelist():
            new.writestr(name, given.pop(name, old.read(name)))
        for name, data in given.items():
            new.writestr(name, data)
    return made.getvalue()


HEAD = b'<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main">'


def cells(inner: bytes, dimension: bytes = b"A1:B2") -> bytes:
    return HEAD + b'<dimension ref="%b"/><sheetData>%b</sheetData></worksheet>' % (dimension, inner)


ROW = b'<row r="1"><c r="A1" t="inlineStr"><is><t>x</t></is></c></row>'
ENTITY = b'<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;">]>'
FAR = b'<row r="1"><c r="A1"><v>1</v></c><c r="XFD1"><v>1</v></c></row>'
WORKBOOKS: dict[str, tuple[Callable[[], bytes], str]] = {
    "no archive": (lambda: b"PK\3\4nothing", "not a workbook that can be read"),
    "not XML": (lambda: workbook(sheet=b"<worksheet><row>"), "not a workbook that can be read"),
    "no XML at all": (lambda: workbook(sheet=b"\0\1\2"), "not a workbook that can be read"),
    "entities": (lambda: workbook(sheet=ENTITY + cells(ROW)), "declares entities"),
    "one cell of 300 MB": (
        lambda: workbook(
            sheet=cells(
                b'<row r="1"><c t="inlineStr"><is><t>' + b"x" * (300 << 20) + b"</t></is></c></row>"
            )
        ),
        "when it is unpacked",
    ),
    "one long cell": (
        lambda: workbook(
            sheet=cells(
                b'<row r="1"><c t="inlineStr"><is><t>' + b"x" * 70000 + b"</t></is></c></row>"
            )
        ),
        "a cell of more than",
    ),
    "millions of strings": (
        lambda: workbook(strings=b"<sst>" + b"<si><t>x</t></si>" * 3_000_000 + b"</sst>"),
        "bytes of strings",
    ),
    "a far column": (lambda: workbook(sheet=cells(FAR)), "1,000 columns"),
    "rows without end": (lambda: workbook(sheet=cells(b"<row/>" * 210_000)), "200,000 rows"),
    "a date that is none": (
        lambda: workbook(sheet=cells(b'<row r="1"><c r="A1" t="d"><v>99999-99-99</v></c></row>')),
        "not a workbook that can be read",
    ),
    "a damaged part": (lambda: b"", "not a workbook that can be read"),
}
"""What makes a workbook, since some are large, and words of the message about it."""


def damaged() -> bytes:
    """One byte of a compressed part changed: its checksum does not fit."""
    data = bytearray(workbook())
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        part = archive.getinfo(SHEET)
    data[part.header_offset + 30 + len(SHEET) + 20] ^= 0x55
    return bytes(data)


@pytest.mark.long
@pytest.mark.parametrize("name", WORKBOOKS)
def test_a_workbook_that_claims_too_much_is_one_message(name: str, tmp_path: Path) -> None:
    make, words = WORKBOOKS[name]
    with pytest.raises(DesignError) as caught:
        read_workbook(tmp_path / "x.xlsx", make() or damaged())
    text = str(caught.value)
    assert words in text
    assert len(text) < 700


def test_a_sheet_is_as_large_as_its_rows_and_not_as_it_says(tmp_path: Path) -> None:
    """1.7 KB that claim the last row and column cost what two cells cost."""
    data = workbook(sheet=cells(ROW, b"A1:XFD1048576"))
    assert read_workbook(tmp_path / "x.xlsx", data) == [["x"]]
    assert read_workbook(tmp_path / "x.xlsx", workbook()) == [["name", "value"], ["a", "1"]]
    infinite = workbook(sheet=cells(b'<row r="1"><c r="A1"><v>1e999</v></c></row>'))
    assert read_workbook(tmp_path / "x.xlsx", infinite) == [["inf"]]


def test_whatever_is_changed_in_a_workbook_is_a_message(tmp_path: Path) -> None:
    rng, whole = random.Random(3), workbook()
    for _ in range(150):
        data = bytearray(whole)
        for _ in range(rng.randint(1, 6)):
            data[rng.randrange(len(data))] = rng.randrange(256)
        try:
            read_workbook(tmp_path / "x.xlsx", bytes(data[: rng.randrange(1, len(data) + 1)]))
        except DesignError:
            pass


@pytest.mark.skipif(not hasattr(resource, "RLIMIT_AS"), reason="no limit of memory here")
def test_none_of_it_takes_the_memory_of_the_machine(tmp_path: Path) -> None:
    """In a process of its own that may have half a gigabyte more than Python needs."""
    (tmp_path / "x.xlsx").write_bytes(workbook(sheet=cells(ROW, b"A1:XFD200000")))
    (tmp_path / "s.xlsx").write_bytes(WORKBOOKS["millions of strings"][0]())
    code = textwrap.dedent("""
        import resource, sys
        from pathlib import Path
        import openpyxl
        from obrin.core.errors import DesignError
        from obrin.live.workbooks import read_workbook
        now = int(open("/proc/self/statm").read().split()[0]) * 4096
        resource.setrlimit(resource.RLIMIT_AS, (now + (512 << 20),) * 2)
        for path in map(Path, sys.argv[1:]):
            try:
                read_workbook(path, path.read_bytes())
            except DesignError as error:
                print(error)
    """)
    files = [str(tmp_path / name) for name in ("x.xlsx", "s.xlsx")]
    done = subprocess.run(
        [sys.executable, "-c", code, *files], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
    assert "bytes of strings" in done.stdout


JSON = {
    "[" * 1_000_000: "nested too deeply",
    '{"a":' * 200_000: "nested too deeply",
    '{"a": 1e999}': "1e999 is not a number",
    '{"a": -1e999}': "-1e999 is not a number",
    '{"a": NaN}': "NaN is not a number",
    "[Infinity, -Infinity]": "Infinity is not a number",
    "9" * 5000: "digits",
    "": "1:1: Expecting value",
    '{"a": 1,}': "1:9",
}


@pytest.mark.parametrize("text", JSON, ids=lambda text: text[:12])
def test_json_is_a_value_or_one_error(text: str) -> None:
    with pytest.raises(JsonError) as caught:
        parse_json(text)
    assert JSON[text] in str(caught.value)
    with pytest.raises(JsonError, match="is not UTF-8"):
        parse_json(b'"\xff"')
    assert parse_json(b'\xef\xbb\xbf{"a": [1, 2.5, null]}') == {"a": [1, 2.5, None]}


def test_csv_is_rows_or_one_error() -> None:
    assert csv_rows("\na;b\n1;2\n", "x") == [(1, []), (2, ["a", "b"]), (3, ["1", "2"])]
    assert csv_rows('a\n"' + "x" * 200_000 + '"\n', "x")[1][1] == ["x" * 200_000]
    for text, words in (
        ("a\n" + "x" * (MOST_CELL + 1), "field larger than field limit"),
        ('a\n"b', "unexpected end of data"),
        ('a\n"b"c\n', "expected after"),
    ):
        with pytest.raises(DesignError, match=words):
            csv_rows(text, "x.csv")


@pytest.mark.parametrize(
    ("name", "data"),
    [
        ("x.json", b"[" * 1_000_000),
        ("x.json", b'{"links.a": 1e999}'),
        ("x.csv", b"name,value\na," + b"x" * (2 << 20)),
        ("x.csv", b"name,value\n\0\n"),
        ("x.xlsx", b"PK\3\4"),
    ],
)
def test_what_was_entered_is_a_table_or_one_message(tmp_path: Path, name: str, data: bytes) -> None:
    path = tmp_path / name
    path.write_bytes(data)
    try:
        read_entered(path, None)
    except DesignError as error:
        assert str(path) in str(error)


def test_an_export_that_breaks_is_named_with_its_file(tmp_path: Path) -> None:
    for name, data in (
        ("x.json", b"[" * 1_000_000),
        ("x.xlsx", b"PK\3\4nothing"),
        ("x.csv", b"a\n" + b"x" * (2 << 20)),
    ):
        (tmp_path / name).write_bytes(data)
        (tmp_path / "map.yaml").write_text(
            f"read:\n  t: {{file: {name}, columns: {{a: a}}}}\ndesign: {{name: '{{a}}'}}\n"
        )
        with pytest.raises(DesignError, match=name):
            gathered(tmp_path / "map.yaml")


@pytest.mark.parametrize(
    "text", ["a: " + "9" * 5000, "[" * 100_000, "!!python/object:os.system x", "a: *b"]
)
def test_a_file_of_places_is_read_or_one_message(tmp_path: Path, text: str) -> None:
    (tmp_path / "d.places.yaml").write_text(text)
    with pytest.raises(ObrinError, match=r"d\.places\.yaml"):
        read_places(tmp_path / "d.places.yaml")
