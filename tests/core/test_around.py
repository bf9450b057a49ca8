"""The sheet for the people around, and texts with other addresses and names."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obrin.core.address.prefix import Address, Prefix, parse_address, parse_prefix
from obrin.core.handover.blocks import changed_values, markdown, values_csv, values_of
from obrin.core.handover.redacted import Redactor, names_of
from obrin.core.handover.services import MOST_ZONES, reverse_zones, services_sheet
from tests.doubles import settled_of, swap
from tests.live.buildable import Drawn


@pytest.mark.parametrize(
    ("prefix", "zones"),
    [
        ("10.64.0.0/16", ["64.10.in-addr.arpa"]),
        ("10.64.0.0/23", ["0.64.10.in-addr.arpa", "1.64.10.in-addr.arpa"]),
        ("10.64.3.64/26", ["3.64.10.in-addr.arpa"]),
        ("2001:db8:40::/44", ["4.0.0.8.b.d.0.1.0.0.2.ip6.arpa"]),
        (
            "2001:db8:40::/47",
            ["0.4.0.0.8.b.d.0.1.0.0.2.ip6.arpa", "1.4.0.0.8.b.d.0.1.0.0.2.ip6.arpa"],
        ),
    ],
)
def test_reverse_zones_are_whole_labels(prefix: str, zones: list[str]) -> None:
    assert reverse_zones(parse_prefix(prefix)) == zones


prefixes = st.builds(
    lambda v, n: Address(32, v).network(n), st.integers(0, 2**32 - 1), st.integers(8, 32)
)


@given(prefixes)
def test_every_address_has_its_zone(prefix: Prefix) -> None:
    zones = reverse_zones(prefix)
    if len(zones) > MOST_ZONES:
        return
    for address in (prefix.address_at(0), prefix.address_at(-1)):
        labels = str(address).split(".")[::-1]
        assert any(".".join([*labels, "in-addr.arpa"]).endswith("." + zone) for zone in zones)


def test_every_value_of_the_sheet_has_a_name_of_its_own() -> None:
    for seed in range(40):
        settled = settled_of(Drawn(seed, widely=True).text)
        for site in settled.sites:
            if not settled.bundles_of(site):
                continue
            sheet = services_sheet(settled, site)
            names = [value.name for value in values_of(sheet)]
            assert len(names) == len(set(names)), f"{seed} {site}"
            assert markdown(sheet)


def test_what_changed_for_the_people_around_is_told() -> None:
    before = values_csv(services_sheet(settled_of(), "quay"))
    assert changed_values(before, before) == []
    other = settled_of(swap(("tcp/443", "tcp/636")))
    now = values_csv(services_sheet(other, "quay"))
    told = changed_values(before, now)
    assert any(text.startswith("crossing.directory") and "tcp/636" in text for text in told)
    assert changed_values('"', now) == []


SETTLED = settled_of()
REDACTOR = Redactor(b"k" * 32, names_of(SETTLED))
addresses = st.builds(Address, st.just(32), st.integers(1, 2**32 - 1)) | st.builds(
    Address, st.just(128), st.integers(1, 2**128 - 1)
)


def shared(one: Address, other: Address) -> int:
    """How many first bits are the same."""
    return one.bits - (one.value ^ other.value).bit_length()


@given(addresses, st.integers(0, 127), st.integers(0, 2**128 - 1))
def test_neighbours_stay_neighbours_and_nobody_is_meant(address, at, noise) -> None:
    at %= address.bits
    other = Address(address.bits, address.value ^ (noise % (1 << (address.bits - at))))
    one, two = (parse_address(REDACTOR.text(str(a))) for a in (address, other))
    public = not str(one).startswith(("10.", "172.", "192.168.", "100.", "169.254.", "127.", "f"))
    if public and address.value and other.value and str(two)[:3] == str(one)[:3]:
        text = str(one)
        assert text.startswith(("24", "25", "3fff")) or text == str(address)
    if not public and shared(address, other) >= 16 and other.value:
        assert shared(one, two) == shared(address, other) or one == address
    assert REDACTOR.text(str(address)) == str(one)


def test_names_and_addresses_of_the_design_are_gone_and_the_sense_stays() -> None:
    text = "quay-apps/a: the site announced 10.20.0.0/16, quay-gw has 10.20.0.1 (mask 255.255.0.0), IKE 2.0"
    told = REDACTOR.text(text)
    for gone in ("quay", "apps", "10.20."):
        assert gone not in told
    assert "255.255.0.0" in told
    assert "IKE 2.0" in told
    net, host = (
        part.strip(", ")
        for part in (told.split("announced ")[1].split(" ")[0], told.split("has ")[1].split(" ")[0])
    )
    assert parse_prefix(net).holds(parse_address(host))
    assert REDACTOR.data({"quay": ["quay-gw", 7], "x": "10.0.0.0/8"}) == {
        "site-1": ["gateway-1", 7],
        "x": "10.0.0.0/8",
    }
    assert Redactor(b"x", {}).text("quay 192.0.2.1") != "quay 192.0.2.1"
    assert Redactor(b"x", {}).text("not 999.1.1.1 nor 12:30:45") == "not 999.1.1.1 nor 12:30:45"


def test_no_name_of_a_drawn_design_is_left_in_its_sheets() -> None:
    for seed in range(20):
        settled = settled_of(Drawn(seed, widely=True).text)
        names = names_of(settled)
        redactor = Redactor(b"y" * 32, names)
        for gateway in settled.gateways.values():
            for uplink in gateway.uplinks.values():
                assert str(uplink.address) not in redactor.text(
                    f"at {uplink.address} of {gateway.name}"
                )
        for leg in settled.legs():
            assert redactor.text(f"{leg.label}: down").split(":")[0] != leg.label
