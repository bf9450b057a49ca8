"""Sheets of designs with other addresses and names."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from obrin.core.address.prefix import Address, parse_address, parse_prefix
from obrin.core.handover.redacted import Redactor, names_of
from tests.doubles import settled_of
from tests.live.buildable import Drawn

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
