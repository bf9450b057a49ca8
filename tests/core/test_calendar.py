"""What ends on which day, and what follows when it has."""

from __future__ import annotations

from datetime import UTC, date, datetime

import pytest

from obrin.core.calendar.endings import Dated, endings
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.check.flows.expectations import expectations
from obrin.core.check.upkeep.dates import ended
from obrin.core.design.places import NetworkRef
from obrin.core.errors import DesignError, Misfit
from obrin.core.handover.pack import gateways_of
from obrin.core.reach.filters import filter_of
from obrin.core.settle.settle import settle
from obrin.core.settled.building import build_settled
from obrin.live.ical import as_icalendar
from tests.doubles import DESIGN, design_of, swap

LAST = date(2027, 1, 31)
UNTIL = ("flow: tcp/443, must: work}", "flow: tcp/443, must: work, until: 2027-01-31}")
LIFE = ("obrin: 1", "obrin: 1\npolicy: {key-life: 90 d}")
MADE = {"quay-apps/a": "2026-11-23", "quay-apps/b": "2026-01-01"}


def on(day: date, *changes: tuple[str, str]):
    design = design_of(swap(*changes))
    return build_settled(design, settle(design, {}, PRACTICE_CLOUD), day)


def test_granted_access_ends_by_itself() -> None:
    before, after = on(LAST, UNTIL), on(date(2027, 2, 1), UNTIL)
    assert [w.must for w in before.expectations][:1] == ["work"]
    assert [w.must for w in after.expectations][:1] == ["not"]
    assert "desks-to-apps-web-tcp-443" in {rule.name for rule in filter_of(before, "quay-gw")}
    assert "desks-to-apps-web-tcp-443" not in {rule.name for rule in filter_of(after, "quay-gw")}
    assert not list(expectations(after))  # and the model proves that it is gone
    assert [f.code for f in ended(after, {}, date(2027, 2, 1))] == ["access-ended"]
    assert list(ended(before, {}, LAST)) == []


def test_a_link_that_ended_is_in_no_pack() -> None:
    link = ("    cloud: apps\n", "    cloud: apps\n    until: 2027-01-31\n")
    assert gateways_of(on(LAST, link)) == ["quay-gw", "apps"]
    over = on(date(2027, 2, 1), link)
    assert gateways_of(over) == []
    assert [f.place for f in ended(over, {}, date(2027, 2, 1))] == [("links", "quay-apps", "until")]
    (ending,) = endings(on(LAST, LIFE, link), {}, [])
    assert (ending.day, ending.what) == (LAST, "link quay-apps ends")


def test_days_that_cannot_be_meant() -> None:
    today = date(2026, 12, 1)
    far = (UNTIL[0], UNTIL[1].replace("2027", "2117"))
    assert [f.code for f in ended(on(today, far), {}, today)] == ["day-far"]
    link = ("    cloud: apps\n", "    cloud: apps\n    until: 2027-01-15\n")
    (found,) = ended(on(today, UNTIL, link), {}, today)
    assert found.code == "access-outlives-link"
    assert "quay-apps ends on 2027-01-15" in found.cause
    both = (UNTIL[0], UNTIL[1] + "\n  - {from: quay/desks, to: apps/web, flow: tcp/440-450}")
    (found,) = ended(on(today, both), {}, today)
    assert found.code == "access-kept-open"
    whole = ("    cloud: apps\n", "    cloud: apps\n    until: 2027-01-31\n")
    assert list(ended(on(today, UNTIL, whole), {}, today)) == []


def test_keys_have_an_age_when_the_policy_says_so() -> None:
    today = date(2026, 12, 1)
    assert [f.code for f in ended(on(today, LIFE), MADE, today)] == ["key-old"]
    assert list(ended(on(today), MADE, today)) == []
    assert endings(on(today), MADE, []) == []


def test_the_calendar_is_in_order_and_says_when_to_act() -> None:
    dated = [
        Dated("gateway", "quay-gw", date(2026, 12, 20)),
        Dated("root", "test", date(2036, 1, 1)),
    ]
    found = endings(on(LAST, UNTIL, LIFE), MADE, dated)
    assert [e.kind for e in found] == ["key", "certificate", "access", "key", "certificate"]
    states = [e.state(date(2026, 12, 1)) for e in found]
    assert states == ["ended", "act now", "later", "later", "later"]


def test_the_calendar_as_a_file_keeps_its_events_over_renewals() -> None:
    from icalendar import Calendar

    now = datetime(2026, 11, 23, 12, tzinfo=UTC)
    first = endings(on(LAST), {}, [Dated("gateway", "quay-gw", date(2026, 12, 20))])
    later = endings(on(LAST), {}, [Dated("gateway", "quay-gw", date(2027, 12, 20))])
    one, two = (Calendar.from_ical(as_icalendar("test", e, now)) for e in (first, later))
    (event,), (moved,) = one.walk("VEVENT"), two.walk("VEVENT")
    assert event["UID"] == moved["UID"]
    assert event.decoded("DTSTART") == date(2026, 12, 20)
    assert [a.decoded("TRIGGER").days for a in event.walk("VALARM")] == [-30, -7, -1]


def test_a_day_is_a_day() -> None:
    with pytest.raises(DesignError, match="is not a day"):
        design_of(DESIGN.replace("must: not}", "must: not, until: tomorrow}"))


def test_rules_of_filters_and_hosts_end_as_well() -> None:
    """What is left keeps its place; an emptied list lets nothing through."""
    changes = (
        (
            "        uplinks:\n          fibre:",
            "        filters:\n"
            "          - {allow: tcp/22, from: 192.0.2.99, to: quay/desks, until: 2027-01-31}\n"
            "          - {allow: any, from: quay, to: apps}\n"
            "        uplinks:\n          fibre:",
        ),
        (
            "{web: {hosts: 100}}",
            "{web: {hosts: 100, hosts-accept: [{allow: tcp/443, until: 2027-01-31}]}}",
        ),
    )
    before, after = on(LAST, *changes), on(date(2027, 2, 1), *changes)
    assert len(before.gateways["quay-gw"].filters) == 2
    assert [str(r.allow) for r in after.gateways["quay-gw"].filters] == ["any"]
    assert before.hosts_accept(NetworkRef("apps", "web")) != ()
    assert after.hosts_accept(NetworkRef("apps", "web")) == ()
    assert [(f.place, f.code) for f in ended(after, {}, date(2027, 2, 1))] == [
        (("sites", "quay", "gateways", "quay-gw", "filters", 0, "until"), "access-ended"),
        (("clouds", "apps", "subnets", "web", "hosts-accept", 0, "until"), "access-ended"),
    ]
    assert [e.what for e in endings(before, {}, [])] == [
        "the rule of quay-gw for tcp/22 from 192.0.2.99/32 to quay/desks ends",
        "the rule of the hosts in apps/web for tcp/443 ends",
    ]
    part = ("from: quay, to: apps", "from: quay, to: apps/web/10.9.9.9")
    with pytest.raises(Misfit) as caught:
        on(date(2027, 2, 1), *changes, part)
    assert caught.value.place[-3:] == ("filters", 1, "to")
