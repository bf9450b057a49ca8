"""Compare what was entered at one end with its sheet: what differs, and what was not compared."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType

from obrin.core.compare.comparison import Comparison, Left
from obrin.core.compare.differences import SECRET_ROW, Sheet, differences
from obrin.core.handover.sheet.stand_ins import NOT_YET_KNOWN
from obrin.core.ipsec.profile import Profile

NO_PRINT = "no fingerprint of the key is entered ('obrin keys compare' prints one)"
NOT_KNOWN = "the fingerprint of the right key is not known here ('obrin keys compare' notes it)"
NOT_GIVEN = "FILE does not have it"
NOT_ASSIGNED = "the right value is not known yet: the cloud assigns it"


def against(
    sheet: Sheet,
    entered: Mapping[str, str],
    lines: Mapping[str, int] = MappingProxyType({}),
    prints: Mapping[str, str] = MappingProxyType({}),
    defaults: Mapping[str, float] = MappingProxyType({}),
) -> Comparison:
    """Compare with `differences`; every value of the sheet that was not compared is listed."""
    open_ones = {n for n, value in sheet.values.items() if NOT_YET_KNOWN in value.text}
    entered = {name: text for name, text in entered.items() if name not in open_ones}
    left = [
        Left(name, sheet.where(name), why)
        for name in sheet.values
        if (why := _why_not(sheet, entered, prints, name))
    ]
    found = differences(sheet, entered, lines, prints, defaults)
    return Comparison(tuple(found), len(sheet.values) - len(left), tuple(left))


def device_defaults(profile: Profile, sheet: Sheet) -> dict[str, float]:
    """Lifetimes that a device takes where nothing is entered, in seconds, by name of the value; as
    far as its profile says."""
    found = {}
    for name in sheet.values:
        words = name.split(".")
        if len(words) > 2 and words[1] == "lifetime" and words[0].startswith("suite-"):
            ike = words[2].startswith(("ike", "phase-1"))
            usual = (profile.ike if ike else profile.esp).lifetime.default
            if usual is not None:
                found[name] = usual
    return found


def _why_not(sheet: Sheet, entered: Mapping[str, str], prints: Mapping[str, str], name: str) -> str:
    value = sheet.values[name]
    if NOT_YET_KNOWN in value.text:
        return NOT_ASSIGNED
    if name not in entered:
        return NOT_GIVEN
    if SECRET_ROW not in name or value.text == "certificate":
        return ""
    if entered[name].strip() in ("", value.text):
        return NO_PRINT
    return "" if value.column in prints else NOT_KNOWN
