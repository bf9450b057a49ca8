"""The services sheet of a site, and what of it changed."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obrin.core.address.prefix import Address, Prefix, parse_prefix
from obrin.core.handover.sheet.blocks import changed_values, markdown, values_csv, values_of
from obrin.core.handover.sheet.services import MOST_ZONES, reverse_zones, services_sheet
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


def test_what_changed_for_the_people_around_is_reported() -> None:
    before = values_csv(services_sheet(settled_of(), "quay"))
    assert changed_values(before, before) == []
    other = settled_of(swap(("tcp/443", "tcp/636")))
    now = values_csv(services_sheet(other, "quay"))
    told = changed_values(before, now)
    assert any(text.startswith("crossing.directory") and "tcp/636" in text for text in told)
    assert changed_values('"', now) == []
