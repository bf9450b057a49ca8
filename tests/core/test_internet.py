"""The internet as the end of a flow: the site's own way, a cloud's, a hub's, and who is led there."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
import yaml

from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.check.whole import check
from obrin.core.design.places import INTERNET, NetworkRef
from obrin.core.drill.sweep import Sweep
from obrin.core.errors import DesignError
from obrin.core.handover.pack import make_pack
from obrin.core.reach.filters import filter_of
from obrin.core.reach.model import ReachModel
from obrin.core.reach.paths import path_there_and_back
from obrin.core.reach.trace import there_and_back
from obrin.core.settled.model import Settled
from tests.core.test_healthy import secrets_of
from tests.doubles import DESIGN, settled_of, swap

OUT = "  - {from: quay/desks, to: internet, flow: tcp/443, must: work}\n"
CLOUD_OUT = "  - {from: apps/web, to: internet, flow: tcp/443, must: work}\n"


def with_site(text: str, internet: str) -> str:
    return text.replace("  quay:\n", f"  quay:\n    internet: {internet}\n")


def told(settled: Settled) -> dict[str, str]:
    found = check(settled, PRACTICE_CLOUD, secrets_of(settled))
    return {f.code: f"{f.cause} | {f.consequence} | {f.fix}" for f in found}


def reasons(settled: Settled) -> Iterator[str]:
    for wish in settled.expectations:
        there, back = there_and_back(ReachModel(settled), wish)
        yield there.dropped or (back.dropped if back is not None else "nothing came back")


def test_a_site_and_a_cloud_lead_there_by_themselves_where_nothing_else_is_said() -> None:
    settled = settled_of(DESIGN + OUT + CLOUD_OUT)
    assert set(told(settled)) == {"one-gateway"}
    site, cloud = (there_and_back(ReachModel(settled), w) for w in settled.expectations[-2:])
    assert site[0].hops[-1] == "the internet, from quay on its own way"
    assert cloud[0].hops[-1] == "the internet, from apps on its own way"
    assert site[1] is not None
    assert site[1].hops == ("the internet answers, by the same way",)
    # No rule of the tunnels is made for it, and no failure of a tunnel takes it.
    assert filter_of(settled, "quay-gw") == filter_of(settled_of(), "quay-gw")
    assert len(Sweep(settled).flows) == len(Sweep(settled_of()).flows)


@pytest.mark.parametrize(
    ("internet", "words"),
    [
        ("false", "quay has no way to the internet of its own"),
        ("{networks: [guests]}", "quay/desks is not among the networks that use the internet"),
        ("{exempt: 0.0.0.0/0}", "leaves 0.0.0.0/0 alone, so it goes out with 10.20.0.10"),
    ],
)
def test_what_keeps_a_site_from_it_is_named(internet: str, words: str) -> None:
    settled = settled_of(with_site(DESIGN + OUT, internet))
    assert words in told(settled)["expectation-unmet"]


def test_source_translation_takes_what_it_is_not_told_to_leave() -> None:
    settled = settled_of(with_site(DESIGN + OUT, "{exempt: 192.168.0.0/16}"))
    found = told(settled)
    assert "source translation at quay takes what tunnels" in found["translation-takes"]
    assert "source translation at quay takes it: 10.64.0.10" in found["expectation-unmet"]
    assert "correct 'exempt'" in found["expectation-unmet"]
    # Who is not translated is not taken; nor are the answers to what the cloud begins.
    other = settled_of(with_site(DESIGN, "{exempt: 192.168.0.0/16, networks: [guests]}"))
    assert set(told(other)) == {"one-gateway"}
    back = DESIGN.replace("from: quay/desks, to: apps/web", "from: apps/web, to: quay/desks")
    assert list(reasons(settled_of(with_site(back, "{exempt: 192.168.0.0/16}"))))[:2] == ["", ""]
    right = settled_of(with_site(DESIGN + OUT, "{exempt: 10.64.0.0/16}"))
    assert set(told(right)) == {"one-gateway"}


def test_a_default_route_into_a_tunnel_takes_the_internet_access_with_it() -> None:
    everything = (
        "    bgp: {hold-time: 6 s}",
        "    bgp: {hold-time: 6 s, cloud-summaries: 0.0.0.0/0}",
    )
    found = told(settled_of(swap(everything)))
    assert "its internet access too, and stops at apps" in found["default-route"]
    found = told(settled_of(swap(everything, text=DESIGN + OUT)))
    assert "no subnet with 192.0.2.254 behind apps" in found["expectation-unmet"]
    assert "default-route" not in found
    # Half of it lies where no network of the cloud is, and is not told.
    halves = (everything[0], everything[1].replace("0.0.0.0/0", "[0.0.0.0/1, 128.0.0.0/1]"))
    assert (
        "or half of one (0.0.0.0/1)"
        in told(settled_of(swap(halves, text=DESIGN + OUT)))["default-route"]
    )


def test_a_cloud_that_a_site_leads_out() -> None:
    """The cloud's default route leads to the site, and out by its own way."""
    advertised = ("    bgp: {hold-time: 6 s}", "    bgp: {hold-time: 6 s, summaries: 0.0.0.0/0}")
    settled = settled_of(swap(advertised, text=DESIGN + CLOUD_OUT))
    there, back = there_and_back(ReachModel(settled), settled.expectations[-1])
    assert there.ways == ("quay-apps/a",)
    assert there.hops[-1] == "the internet, from quay on its own way"
    assert back is not None
    assert back.ways == there.ways
    assert "default-route" not in told(settled)
    alone = settled_of(with_site(swap(advertised, text=DESIGN), "false"))
    assert "its internet access too, and stops at quay" in told(alone)["default-route"]


def hub(routes: str, *, leads: bool) -> str:
    data = yaml.safe_load(DESIGN + CLOUD_OUT)
    data["clouds"]["apps"]["tables"] = {"out": {"routes": {"0.0.0.0/0": routes}}}
    data["clouds"]["apps"]["subnets"]["web"]["table"] = "out"
    data["clouds"]["middle"] = {"hub": {"members": ["apps"]}, "internet": leads}
    return yaml.safe_dump(data, sort_keys=False)


@pytest.mark.parametrize(
    ("routes", "leads", "reason"),
    [
        ("middle", True, ""),
        ("middle", False, "middle has no way to the internet"),
        ("gateway", True, "no route to 192.0.2.254 at apps"),
        ("nowhere", True, "sends it nowhere"),
    ],
)
def test_a_subnet_goes_where_its_default_route_leads(routes: str, leads: bool, reason: str) -> None:
    settled = settled_of(hub(routes, leads=leads))
    found = [*reasons(settled)][-1]
    assert (reason in found) if reason else found == ""
    codes = set(told(settled))
    assert ("default-nowhere" in codes) is (reason != "" and routes != "nowhere")
    assert ("expectation-unmet" in codes) is (reason != "")


def test_guests_must_not_get_there() -> None:
    text = DESIGN + OUT.replace("quay/desks", "quay/guests").replace("must: work", "must: not")
    assert "expectation-leak" in told(settled_of(text))
    assert "expectation-leak" not in told(settled_of(with_site(text, "{networks: [desks]}")))


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (
            DESIGN + OUT.replace("quay/desks, to: internet", "internet, to: quay/desks"),
            "nothing comes",
        ),
        (
            DESIGN.replace("quay:", "internet:").replace("quay/", "internet/"),
            "Give it another name",
        ),
        (with_site(DESIGN, "{networks: [tables]}"), "there is no network of quay 'tables'"),
    ],
)
def test_what_cannot_be_meant_is_refused(text: str, words: str) -> None:
    with pytest.raises(DesignError) as raised:
        settled_of(text)
    assert words in str(raised.value)


def test_a_trace_and_the_sheet_tell_of_it() -> None:
    settled = settled_of(with_site(DESIGN + OUT, "{networks: [desks]}"))
    ends = (NetworkRef("quay", "desks"), None), (NetworkRef(INTERNET), None)
    found = path_there_and_back(ReachModel(settled), *ends, settled.expectations[-1].flow)
    assert found.good
    assert found.mtu == 0
    assert found.warnings == ()
    sheet = str(make_pack(settled, "quay-gw", secrets_of(settled)).sheet)
    assert "Traffic to the internet of desks goes on as before" in sheet
    none = settled_of(with_site(DESIGN, "false"))
    sheet = str(make_pack(none, "quay-gw", secrets_of(none)).sheet)
    assert "no way to the internet of its own: nothing else is translated" in sheet
