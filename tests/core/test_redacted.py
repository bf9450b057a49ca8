"""Redaction: no address and no name of a design survives, however it is spelled, and the sense does."""

from __future__ import annotations

import ipaddress

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from obrin.core.handover.redacted import Redactor

NAMES = {
    "quay": "site-1",
    "quay-gw": "gateway-1",
    "hh": "gateway-2",
    "a": "tunnel-1",
    "apps": "cloud-1",
}
REDACTOR = Redactor(b"k" * 32, NAMES)
V4 = st.integers(1 << 24, (1 << 32) - 1).map(ipaddress.IPv4Address)
V6 = st.one_of(
    st.integers(1 << 120, (1 << 128) - 1),
    st.integers(0, (1 << 64) - 1).map(lambda low: (0x20010DB8 << 96) | low),
    st.integers(1 << 24, (1 << 32) - 1).map(lambda low: (0xFFFF << 32) | low),
).map(ipaddress.IPv6Address)
AROUND = [
    "{}",
    "at {}:",
    "ip:{}",
    "[{}]",
    "{}, x",
    "'{}'",
    '"{}"',
    "({})",
    "={};",
    "{}->y",
    "{}/24",
    "{}.",
    "/{}",
    "x={}",
]


def kept(address) -> bool:
    """Masks and everything's prefix tell nothing of a place."""
    value = int(address)
    inverse = value ^ 0xFFFFFFFF
    return address.version == 4 and inverse & (inverse + 1) == 0


def spelled4(address: ipaddress.IPv4Address) -> list[str]:
    octets = address.packed
    return [
        str(address),
        ".".join(f"{octet:03}" for octet in octets),
        f"::ffff:{address}",
        f"{address}:500",
        f"{address}/30",
        f"{address}-{address}",
        ".".join(map(str, octets[::-1])) + ".in-addr.arpa",
    ]


def spelled6(address: ipaddress.IPv6Address) -> list[str]:
    low = ipaddress.IPv4Address(int(address) & 0xFFFFFFFF)
    digits = address.packed.hex()  # not `exploded`: newer Pythons put dots into ::ffff:0:0/96
    groups = [digits[i : i + 4] for i in range(0, 32, 4)]
    return [
        str(address),
        str(address).upper(),
        ":".join(groups),
        ":".join(format(int(group, 16), "x") for group in groups),
        ":".join(groups[:6]) + f":{low}",
        f"[{address}]:4500",
        f"{address}/64",
        f"{address}%eth0",
        f"{address}-{address}",
        ".".join(reversed(digits)) + ".ip6.arpa",
    ]


def is_there(address, text: str) -> bool:
    return any(
        spelled.lower() in text.lower()
        for spelled in (spelled4(address) if address.version == 4 else spelled6(address))
    )


@settings(max_examples=150)
@given(st.one_of(V4, V6), st.sampled_from(AROUND), st.integers(0, 9))
@example(ipaddress.IPv6Address("::ffff:1.0.0.0"), "{}", 0)
@example(ipaddress.IPv6Address("::ffff:198.51.100.7"), "{}", 2)
def test_no_spelling_of_an_address_survives(address, around: str, which: int) -> None:
    if kept(address):
        return
    forms = spelled4(address) if address.version == 4 else spelled6(address)
    text = around.format(forms[which % len(forms)])
    told = REDACTOR.text(text)
    same = REDACTOR.text(str(address)) == str(address)
    assert same or not is_there(address, told), (text, told)


@settings(max_examples=80)
@given(V4, V4)
def test_spellings_of_one_address_stay_one(one, other) -> None:
    told = REDACTOR.text(str(one))
    for text in (f"{one}:", f"ip:{one}", f"{one}-{other}", f"{other}-{one}", f"[{one}]"):
        assert told in REDACTOR.text(text)


@pytest.mark.parametrize("name", NAMES)
@pytest.mark.parametrize("around", ["{}", " {} ", "'{}'", "{}/x", "x/{}", "/{}:", '"{}"'])
def test_no_name_survives(name: str, around: str) -> None:
    told = REDACTOR.text(around.format(name))
    assert NAMES[name] in told
    assert name not in told.replace(NAMES[name], "").replace("x", "")


@pytest.mark.parametrize(
    "around", ["tun-{}", "{}-x", "{}_x", "{}.x", "{}: up", "of {}, y", "<{}>", "{}@z"]
)
def test_names_of_two_letters_and_more_go_wherever_they_stand(around: str) -> None:
    for name in ("quay", "quay-gw", "hh", "HH", "Quay"):
        told = REDACTOR.text(around.format(name))
        assert NAMES[name.lower()] in told
        assert name.lower() not in told.lower().replace("gateway", "")


def test_what_is_no_address_and_no_name_stays() -> None:
    for text in (
        "255.255.0.0", "12:30:45", "2026-12-01T10:00:00Z", "00:11:22:33:44:55", "IKE 2.0",
        "999.1.1.1", "a thing", "shh", "quays", "applications", "1.2.3", "0.0.0.0/0", "::/0",
    ):  # fmt: skip
        assert REDACTOR.text(text) == text


def test_long_texts_take_no_time() -> None:
    for text in ("a" * 100_000, ":" * 20_000, "1:" * 20_000, "1." * 20_000, "f:" * 200 + "x"):
        REDACTOR.text(text[:50_000])
