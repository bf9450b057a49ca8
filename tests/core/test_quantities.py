"""Quantities as text: every parser reads what its formatter writes, and no digit is lost."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import obrin
from obrin.core.compare.reading import SECONDS, read
from obrin.core.design.document import load_design
from obrin.core.design.model import Design
from obrin.core.design.values import (
    LONGEST,
    format_duration,
    format_growth,
    format_rate,
    parse_duration,
    parse_growth,
)
from obrin.core.handover.sheet.words import seconds
from obrin.core.quantity import exact, plain
from tests.doubles import DESIGN
from tests.live.buildable import Drawn

SOURCE = Path(obrin.__file__).parent
DEMOS = sorted((SOURCE / "demo").glob("*.yaml"))


@given(st.floats(allow_nan=False, allow_infinity=False))
def test_exact_text_is_the_same_number_again(number: float) -> None:
    assert float(exact(number)) == number
    assert "e" not in exact(number).lower()


@given(st.integers(-(10**12), 10**12), st.integers(0, 6))
def test_plain_text_has_all_digits_of_what_a_person_writes(whole: int, decimals: int) -> None:
    number = whole / 10**decimals
    assert float(plain(number)) == pytest.approx(number, abs=1e-9)
    assert plain(float(whole)) == str(whole)
    assert plain(0.1 + 0.2) == "0.3"


@given(st.integers(0, int(LONGEST) * 1000).map(lambda ms: ms / 1000))
def test_times_are_read_back(value: float) -> None:
    assert parse_duration(format_duration(value)) == value


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (1_234_567.0, "1234567 s"),
        (365 * 86400.0, "365 d"),
        (3650 * 86400.0, "3650 d"),
        (28_800.0, "8 h"),
        (86_400.0, "24 h"),
        (3_600.0, "1 h"),
        (600.0, "10 min"),
        (90.0, "90 s"),
        (60.0, "60 s"),
        (0.3, "0.3 s"),
        (0.0, "0 s"),
        (1.5, "1.5 s"),
    ],
)
def test_times_are_in_the_unit_that_a_person_would_choose(value: float, text: str) -> None:
    assert format_duration(value) == text


RATE = st.one_of(
    st.integers(0, 10**12).map(float),
    st.decimals(0, 10**6, places=9, allow_nan=False).map(float),
    st.integers(1, 10**9).map(lambda n: n / 10**12),
)


@given(RATE)
def test_rates_are_read_back(value: float) -> None:
    text = format_rate(value)
    rate = load_design(
        DESIGN.replace("address: 192.0.2.10", f"address: 192.0.2.10, rate: {text}"), "x"
    )
    uplinks = rate.design.sites["quay"].gateways["quay-gw"].uplinks
    assert next(iter(uplinks.values())).rate == value


@given(st.one_of(st.integers(0, 10_000), st.decimals(0, 1000, places=2).map(float)))
def test_growths_are_read_back(percent: float) -> None:
    factor = parse_growth(f"{exact(percent)} %")
    assert parse_growth(format_growth(factor)) == pytest.approx(factor, rel=1e-12)


@given(st.integers(1, 3_155_760_000), st.sampled_from([None, "s", "min", "h"]))
def test_what_a_sheet_says_of_a_time_is_read_as_that_time(value: int, unit: str | None) -> None:
    assert read("suite.ike.lifetime", seconds(float(value), unit)) == (SECONDS, value)


@pytest.mark.parametrize("path", DEMOS, ids=lambda path: path.stem)
def test_every_demo_design_is_itself_again_when_it_is_dumped(path: Path) -> None:
    text = path.read_text(encoding="utf-8")
    if "obrin: 1" not in text or "{" in text.partition("sites:")[0]:
        pytest.skip("not a design")
    same_again(load_design(text, path.name).design)


@pytest.mark.parametrize("seed", range(12))
def test_so_is_every_drawn_one(seed: int) -> None:
    same_again(load_design(Drawn(seed, widely=True).text, "x").design)


def same_again(design: Design) -> None:
    """As `space remedies` tries changes of it."""
    dumped = design.model_dump(by_alias=True, exclude_unset=True, mode="json")
    assert Design.model_validate(json.loads(json.dumps(dumped))) == design


def test_no_number_is_written_with_six_digits() -> None:
    """`:g` and its kin round; what is shown rounded says how many decimals it has."""
    for path in SOURCE.rglob("*.py"):
        if path.name != "quantity.py":
            assert not re.search(r":\.?\d*[gGeE]\}", path.read_text(encoding="utf-8")), path
