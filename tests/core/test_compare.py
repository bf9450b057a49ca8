"""Values entered beside values meant: whatever is right is found right however it is written, and the
mistakes that people make are named for what they are."""

from __future__ import annotations

import itertools
import random
import re
from collections.abc import Callable, Iterator

import pytest

from obrin.core.address.prefix import Address
from obrin.core.compare.differences import Sheet, differences
from obrin.core.compare.follows import follows
from obrin.core.compare.reading import (
    ADDRESSES,
    ALGORITHM,
    NUMBER,
    SECONDS,
    SWITCH,
    addresses,
    mask_length,
    read,
)
from obrin.core.compare.spelling import algorithm
from obrin.core.handover.pack import gateways_of
from obrin.core.handover.sheet.blocks import values_of
from obrin.core.handover.sheet.sheet import value_sheet
from obrin.core.ipsec.registry import ALGORITHMS, Kind
from tests.doubles import settled_of
from tests.healthy import Healthy


def sheets(first: int, last: int) -> Iterator[tuple[int, str, Sheet]]:
    for seed in range(first, last):
        settled = settled_of(str(Healthy(seed)))
        for place in gateways_of(settled):
            yield seed, place, Sheet(list(values_of(value_sheet(settled, place))))


# Right, written in other ways


def otherwise(sheet: Sheet, name: str, draw: random.Random) -> str:
    """The same value as somebody else would write it."""
    text, reading = sheet.values[name].text, sheet.readings[name]
    ways = [text, f" {text} ", text.upper() if reading.kind != ADDRESSES else text]
    row = name.split(".")[1] if "." in name else name
    if reading.kind == SECONDS:
        number = reading.value
        ways += [f"{number:g}", f"{number:g} sec", f"{number:g}s", f"{number / 60:.12g} min"]
        if number >= 1000 and number == int(number):
            ways.append(f"{int(number):,}")
    elif reading.kind == NUMBER and " " not in text:
        ways += [f"{reading.value:.0f}"]
        if "as-number" in name:
            ways.append(f"{int(reading.value) >> 16}.{int(reading.value) & 0xFFFF}")
            ways += [f"AS{reading.value:.0f}", f"AS {reading.value:.0f}"]
        if text.endswith(" bytes"):
            ways.append(text.removesuffix(" bytes"))
    elif reading.kind == SWITCH:
        ways += ["No", "disabled", "none"] if reading.value is False else ["yes", "Enabled"]
        if row == "extended-sequence-numbers":
            ways += ["ESN"] if reading.value else ["No ESN", "32-bit"]
    elif reading.kind == ALGORITHM:
        plain = str(reading.value)
        ways += [plain.lower(), plain.replace("-", ""), plain.replace("-", "_").lower()]
        found = next(a for a in ALGORITHMS if a.name == plain)
        if found.kind is Kind.GROUP:
            ways += [f"group {found.number}", f"DH{found.number}", str(found.number)]
            family, _, size = plain.partition("-")
            if family == "MODP":
                ways += [f"{size}-bit MODP Group", f"modp{size}"]
            if family == "ECP":
                ways += [f"{size}-bit random ECP group", f"ecp{size}", f"secp{size}r1"]
        if found.kind is Kind.ENCRYPTION and plain.startswith("AES-") and plain.count("-") > 2:
            _, mode, icv, bits = plain.split("-")
            ways.append(f"ENCR_AES_{mode}_{icv} ({bits})")
        if found.kind is Kind.ENCRYPTION and plain.startswith("AES-CBC-"):
            ways.append(f"ENCR_AES_CBC ({plain[-3:]} bits)")
    elif reading.kind == ADDRESSES:
        held = addresses(re.sub(r"\([^)]*\)", "", text.lower()))
        shuffled = draw.sample(held, len(held))
        ways.append(", ".join(_written(one.address, one.length, draw) for one in shuffled))
    elif row == "authentication":
        ways += ["PSK", "Preshared Key"] if "key" in text else ["Certificate", "Digital Signature"]
    return draw.choice(ways)


def _written(address, length: int, draw: random.Random) -> str:
    if length == address.bits:
        return str(address)
    if draw.random() < 0.2:
        return f"{address} / {length}"
    if draw.random() < 0.3 and length >= 8:
        last = address.value | (1 << (address.bits - length)) - 1
        if address.value & (1 << (address.bits - length)) - 1 == 0:
            return f"{address}-{Address(address.bits, last)}"
    if address.bits == 32 and draw.random() < 0.5:
        mask = (0xFFFFFFFF << (32 - length)) & 0xFFFFFFFF
        return f"{address} {'.'.join(str(mask >> s & 255) for s in (24, 16, 8, 0))}"
    return f"{address}/{length}"


@pytest.mark.parametrize("first", range(0, 40, 10))
def test_a_right_sheet_written_differently_has_no_difference(first: int) -> None:
    draw = random.Random(first)
    for seed, place, sheet in sheets(first, first + 10):
        for _ in range(8):
            entered = {name: otherwise(sheet, name, draw) for name in sheet.values}
            assert differences(sheet, entered) == [], (seed, place)


@pytest.mark.slow
@pytest.mark.parametrize("first", range(100, 460, 40))
def test_a_thousand_right_sheets_have_no_difference(first: int) -> None:
    for seed, place, sheet in sheets(first, first + 40):
        draw = random.Random(seed)
        entered = {name: otherwise(sheet, name, draw) for name in sheet.values}
        assert differences(sheet, entered) == [], (seed, place)


# Wrong, in the ways of people


Mistake = Callable[[Sheet, str, random.Random], tuple[dict[str, str], str] | None]
"""What is entered instead, by name, and words that have to be said of it."""


def blank(sheet: Sheet, name: str, draw: random.Random):
    return {name: "  "}, "nothing is entered"


def wrong_unit(sheet: Sheet, name: str, draw: random.Random):
    reading = sheet.readings[name]
    if reading.kind != SECONDS or reading.value < 60 or reading.value % 60:
        return None
    return {name: f"{reading.value / 60:g}"}, "number in minutes"


def exchanged_ends(sheet: Sheet, name: str, draw: random.Random):
    other = sheet.turned(name)
    if not other or sheet.readings[other] == sheet.readings[name]:
        return None
    texts = {name: sheet.values[other].text, other: sheet.values[name].text}
    return texts, "exchanged"


def other_tunnel(sheet: Sheet, name: str, draw: random.Random):
    for other in sheet.beside(name):
        if sheet.readings[other] != sheet.readings[name] and sheet.readings[other].telling:
            return {name: sheet.values[other].text}, "that "
    return None


def row_above(sheet: Sheet, name: str, draw: random.Random):
    for side, other in sheet.next_to(name):
        one, two = sheet.readings[name], sheet.readings[other]
        same = read(name, sheet.values[other].text) == one
        if side == "above" and not same and one.telling and two.telling:
            return {name: sheet.values[other].text}, "that "
    return None


def other_mask(sheet: Sheet, name: str, draw: random.Random):
    held = addresses(sheet.values[name].text.lower())
    if len(held) != 1 or not 8 < held[0].length < 30:
        return None
    return {name: f"{held[0].address}/{held[0].length + 1}"}, "mask is /"


def one_digit(sheet: Sheet, name: str, draw: random.Random):
    held = addresses(sheet.values[name].text.lower())
    if len(held) != 1 or held[0].length != 32:
        return None
    digits = str(held[0].address)
    last = str((int(digits[-1]) + 5) % 10)
    return {name: digits[:-1] + last}, ""


def weaker(sheet: Sheet, name: str, draw: random.Random):
    if sheet.readings[name].kind != ALGORITHM:
        return None
    found = next(a for a in ALGORITHMS if a.name == sheet.readings[name].value)
    other = draw.choice([a for a in ALGORITHMS if a.kind is found.kind and a is not found])
    return {name: other.name}, "instead of|that is the value"


def turned_off(sheet: Sheet, name: str, draw: random.Random):
    if sheet.readings[name].kind == SWITCH:
        return {name: "off" if sheet.readings[name].value else "on"}, "turned o|exchanged"
    return None


MISTAKES = (blank, wrong_unit, exchanged_ends, other_tunnel, row_above, other_mask)
MISTAKES += (one_digit, weaker, turned_off)


@pytest.mark.parametrize("mistake", MISTAKES, ids=lambda m: m.__name__)
def test_every_field_with_every_mistake_is_named(mistake: Mistake) -> None:
    draw, made = random.Random(mistake.__name__), 0
    for seed, place, sheet in sheets(0, 6):
        right = {name: value.text for name, value in sheet.values.items()}
        for name in sheet.values:
            wrong = None if "secret" in name else mistake(sheet, name, draw)
            if wrong is None:
                continue
            made += 1
            found = {d.name: d for d in differences(sheet, right | wrong[0])}
            assert found.keys() == {n for n in wrong[0] if "secret" not in n}, (seed, place, name)
            assert re.search(wrong[1], found[name].what), (seed, place, name, found[name])
            assert found[name].what
    assert made >= 20


def test_what_follows_is_what_the_engines_say() -> None:
    settled = settled_of()
    sheet = Sheet(list(values_of(value_sheet(settled, "quay-gw"))))
    right = {name: value.text for name, value in sheet.values.items()}

    def said(ending: str, text: str) -> str:
        name = next(n for n in right if n.endswith(ending))
        (found,) = differences(sheet, {**right, name: text})
        return follows(settled, "quay-gw", [found])[name]

    assert "NO_PROPOSAL_CHOSEN" in said(".encryption.ike-sa", "aes128")
    assert "after" in said(".dh-group-pfs.child-sa-esp", "off")
    assert "AUTHENTICATION_FAILED" in said(".remote-identity.quay-apps/a", "198.51.100.9")
    for row, text in (
        (".bgp-peer-address.", "169.254.77.1"),
        (".bgp-source-address.", "169.254.77.2"),
        (".remote-inside-address.", "169.254.77.1"),
        (".inside-address.", "169.254.77.2/30"),
    ):
        assert "BGP session fails at once" in said(f"{row}quay-apps/a", text), row
    assert "both ends take the lower, 3 s" in said(".hold-time.quay-apps/a", "3")
    assert "the lower of both ends counts" in said(".hold-time.quay-apps/a", "90")
    assert "Unacceptable Hold Time" in said(".hold-time.quay-apps/a", "2")
    assert "never noticed" in said(".hold-time.quay-apps/a", "0")
    assert "Bad Peer AS" in said(".peer-s-as-number.quay-apps/a", "64999")
    assert "the other end does it before" in said(".lifetime.ike-sa", "100 h")
    often = said(".lifetime.child-sa-esp", "60 s")
    assert "rekeys the child SA after 60 s instead of" in often
    assert "times as often" in often
    assert "no IKE_SA_INIT response" in said(".remote-address.quay-apps/a", "203.0.113.77")
    assert "AUTHENTICATION_FAILED" in said(".local-identity.quay-apps/b", "quay.example")
    for end in ("local", "remote"):
        assert said(f".{end}-traffic-selector.quay-apps/a", "10.99.0.0/16")
    assert said(".extended-sequence-numbers.child-sa-esp", "off")
    assert said(".encryption.child-sa-esp", "no such cipher")
    assert said(".prf.ike-sa", "PRF-HMAC-SHA2-256")
    assert said(".mode.child-sa-esp", "transport")


def test_what_follows_from_another_key_is_what_the_engine_says() -> None:
    settled = settled_of()
    sheet = Sheet(list(values_of(value_sheet(settled, "quay-gw"))))
    right = {name: value.text for name, value in sheet.values.items()}
    name = next(n for n in right if "secret:" in n and n.endswith("quay-apps/b"))
    (found,) = differences(sheet, {**right, name: "x"}, prints={"quay-apps/b": "y-y-y-y"})
    words = follows(settled, "quay-gw", [found])[name]
    assert words.startswith("quay-apps/b: IKE_AUTH fails at once")
    assert "AUTHENTICATION_FAILED" in words


def test_what_follows_at_the_cloud_is_judged_for_every_link_of_it() -> None:
    settled = settled_of()
    sheet = Sheet(list(values_of(value_sheet(settled, "apps"))))
    right = {name: value.text for name, value in sheet.values.items()}
    name = next(n for n in right if n.endswith(".encryption.child-sa-esp"))
    (found,) = differences(sheet, {**right, name: "aes128"})
    assert "NO_PROPOSAL_CHOSEN" in follows(settled, "apps", [found])[name]


@pytest.mark.parametrize(
    ("text", "name"),
    [
        ("aes256gcm16", "AES-GCM-16-256"),
        ("AES-256-GCM", "AES-GCM-16-256"),
        ("ENCR_AES_GCM_16 256", "AES-GCM-16-256"),
        ("aes128gcm8", "AES-GCM-8-128"),
        ("aes256-gcm128", "AES-GCM-16-256"),
        ("AES256", "AES-CBC-256"),
        ("Triple DES", "3DES"),
        ("nothing of the kind", None),
    ],
)
def test_ciphers_in_the_spellings_of_screens(text: str, name: str | None) -> None:
    found = algorithm(Kind.ENCRYPTION, text)
    assert (None if found is None else found.name) == name


def test_every_algorithm_is_known_by_its_own_name_in_four_spellings() -> None:
    for one in ALGORITHMS:
        if one.kind is Kind.ESN:
            continue
        for text in (
            one.name,
            one.name.lower(),
            one.name.replace("-", "_"),
            one.name.replace("-", ""),
        ):
            assert algorithm(one.kind, text) is one, text


def test_masks() -> None:
    assert [mask_length(m) for m in ("255.255.252.0", "0.0.3.255", "255.255.255.255")] == [
        22,
        22,
        32,
    ]
    with pytest.raises(ValueError, match="not a mask"):
        mask_length("255.0.255.0")
    assert read("x", "10.0.0.0 255.0.255.0").kind != ADDRESSES


# What was done, in a word


def swapped_inside(sheet: Sheet, name: str, draw: random.Random):
    """The two addresses of a tunnel's block, each with the mask that stands beside it."""
    words = name.split(".")
    if len(words) != 3 or words[1] != "inside-address":
        return None
    other = sheet.turned(name)
    mine, theirs = (addresses(sheet.values[n].text.lower()) for n in (name, other))
    if len(mine) != 1 or len(theirs) != 1:
        return None
    mask = "" if mine[0].length == mine[0].address.bits else f"/{mine[0].length}"
    return {name: f"{theirs[0].address}{mask}", other: str(mine[0].address)}, "ends exchanged"


def group_off(sheet: Sheet, name: str, draw: random.Random):
    if ".dh-group-pfs." not in name or sheet.readings[name].kind != ALGORITHM:
        return None
    return {name: draw.choice(["off", "none", "No PFS", "disabled"])}, "switched"


def one_entry_less(sheet: Sheet, name: str, draw: random.Random):
    held = addresses(re.sub(r"\([^)]*\)", "", sheet.values[name].text.lower()))
    if len(held) < 2 or name.startswith("translation."):
        return None
    left = draw.sample(held, len(held) - 1)
    return {name: ", ".join(_written(h.address, h.length, draw) for h in left)}, "lacks entries"


def private_identity(sheet: Sheet, name: str, draw: random.Random):
    held = addresses(sheet.values[name].text.lower())
    public = len(held) == 1 and held[0].address.bits == 32 and str(held[0].address)[:3] in ("192", "198", "203")  # fmt: skip
    if "-identity." not in name or not public:
        return None
    return {name: "10.255.17.9"}, "private address"


def shifted_rows(sheet: Sheet, name: str, draw: random.Random):
    """From one row on, four rows have what belongs in the row above."""
    value = sheet.values[name]
    column = [
        n for n, v in sheet.values.items() if (v.part, v.column) == (value.part, value.column)
    ]
    at = column.index(name)
    run = column[at : at + 4]
    texts = [" ".join(sheet.values[n].text.split()) for n in column[max(at - 1, 0) : at + 4]]
    readings = [sheet.readings[n] for n in column[max(at - 1, 0) : at + 4]]
    alike = any(one == two for one, two in itertools.pairwise(readings))
    alike |= any(
        read(n, sheet.values[column[at + k - 1]].text) == sheet.readings[n]
        for k, n in enumerate(run)
    )
    if at == 0 or len(run) < 4 or any("secret" in n for n in run) or alike or len({*texts}) < 5:
        return None
    return {n: sheet.values[column[at + k - 1]].text for k, n in enumerate(run)}, "row"


KINDS_OF_MISTAKES = (swapped_inside, group_off, one_entry_less, private_identity, shifted_rows)


@pytest.mark.parametrize("mistake", KINDS_OF_MISTAKES, ids=lambda m: m.__name__)
def test_the_kind_of_a_mistake_is_named_alone_and_beside_another(mistake: Mistake) -> None:
    draw, made = random.Random(mistake.__name__), 0
    for seed, place, sheet in sheets(0, 12):
        right = {name: value.text for name, value in sheet.values.items()}
        for name in sheet.values:
            wrong = None if "secret" in name else mistake(sheet, name, draw)
            if wrong is None:
                continue
            made += 1
            second = next(
                {n: "  "} for n in draw.sample([*right], len(right)) if n not in wrong[0] and "secret" not in n
            )  # fmt: skip
            for more in ({}, second):
                found = {d.name: d for d in differences(sheet, right | wrong[0] | more)}
                assert found.keys() == {*wrong[0], *more}, (seed, place, name)
                assert found[name].kind == wrong[1], (seed, place, name, found[name])
    assert made >= 4


def test_a_default_that_was_left_alone_is_named() -> None:
    for _, _, sheet in sheets(0, 3):
        name = next(n for n in sheet.values if ".lifetime.child-sa" in n)
        right = {n: value.text for n, value in sheet.values.items()}
        (found,) = differences(sheet, {**right, name: "1111 s"}, defaults={name: 1111.0})
        assert (found.kind, "the field was left alone" in found.what) == ("default", True)


def test_what_nothing_explains_is_said_to_be_not_known() -> None:
    sheet = next(sheets(0, 1))[2]
    name = next(n for n in sheet.values if ".remote-address." in n)
    right = {n: value.text for n, value in sheet.values.items()}
    (found,) = differences(sheet, {**right, name: "203.0.113.241"})
    assert found.kind == "not known"
    assert "the cause is not known" in found.what


def test_a_spare_that_will_fail_fails_once_the_others_have_failed() -> None:
    from tests.doubles import swap

    settled = settled_of(swap(("b: {gateway: quay-gw, uplink: radio, instance: 2}", "b: {gateway: quay-gw, uplink: radio, instance: 2, role: spare}")))  # fmt: skip
    sheet = Sheet(list(values_of(value_sheet(settled, "quay-gw"))))
    right = {n: value.text for n, value in sheet.values.items()}
    name = next(n for n in right if n.endswith(".remote-identity.quay-apps/b"))
    (found,) = differences(sheet, {**right, name: "198.51.100.9"})
    assert "once the others have failed" in follows(settled, "quay-gw", [found])[name]


def test_what_was_left_at_the_devices_own_value_is_known_from_its_profile() -> None:
    from dataclasses import replace as changed

    from obrin.core.compare.against import NOT_GIVEN, against, device_defaults

    settled = settled_of()
    sheet = Sheet(list(values_of(value_sheet(settled, "quay-gw"))))
    profile = settled.gateways["quay-gw"].profile
    hidden = changed(profile.esp.lifetime, default=1800.0)
    profile = changed(profile, esp=changed(profile.esp, lifetime=hidden))
    defaults = device_defaults(profile, sheet)
    assert set(defaults.values()) == {1800.0}
    (name,) = defaults
    right = {n: v.text for n, v in sheet.values.items()}
    made = against(sheet, {**right, name: "1800 s"}, defaults=defaults)
    assert [d.kind for d in made.differences] == ["default"]
    del right[name]
    left = {one.name: one.why for one in against(sheet, right).left}
    assert left[name] == NOT_GIVEN


@pytest.mark.parametrize(
    ("ending", "text", "kind"),
    [
        (".local-address.quay-apps/a", "10.1.2.3", "private address"),
        (".accept-from-it.quay-apps/a", "10.64.0.0/22, 10.99.0.0/16", "too many entries"),
        (".larger-packets.quay-apps/a", "refuzed, the sender is informed", "letters"),
        (".prf.ike-sa", "no such thing", "no algorithm"),
    ],
)
def test_kinds_of_single_mistakes(ending: str, text: str, kind: str) -> None:
    sheet = Sheet(list(values_of(value_sheet(settled_of(), "quay-gw"))))
    right = {n: value.text for n, value in sheet.values.items()}
    name = next(n for n in right if n.endswith(ending))
    (found,) = differences(sheet, {**right, name: text})
    assert found.kind in (kind, "slip") if kind == "letters" else found.kind == kind, found
