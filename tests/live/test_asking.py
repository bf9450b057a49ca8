"""Many ends are asked side by side, and only those that matter."""

from __future__ import annotations

import threading
from datetime import UTC, datetime, timedelta

import pytest

from obrin.core.errors import OutsideError
from obrin.core.known import NotKnown
from obrin.live import http
from obrin.live.drivers import asking
from obrin.live.drivers.asking import side_by_side
from obrin.live.drivers.observations import EndStatus
from obrin.live.drivers.protocol import Ends
from obrin.live.observe.status import read_clocks, read_status
from obrin.live.observe.tunnel import UP
from tests.core.test_picture import many_sites
from tests.doubles import settled_of

SETTLED = settled_of(many_sites(20))
GOOD = EndStatus(ike="established", child="up", bgp="established")


class Place:
    """A cloud or a gateway whose tunnels are up, but for those of `ill`."""

    def __init__(self, name: str, asked: list[str], ill: str = "") -> None:
        self.name, self.asked, self.ill = name, asked, ill

    def tunnels(self, *_of: object) -> dict[str, EndStatus]:
        self.asked.append(self.name)
        if self.name == self.ill:
            raise OutsideError(f"{self.name} does not answer")
        return {leg.label: GOOD for leg in SETTLED.legs_at(self.name)}

    def close(self) -> None:
        pass


def ends_of(asked: list[str], ill: str = "") -> Ends:
    clouds = {name: Place(name, asked, ill) for name in SETTLED.clouds}
    return Ends(clouds, {name: Place(name, asked, ill) for name in SETTLED.gateways})


def test_all_are_asked_once_and_of_one_that_is_silent_it_is_not_known() -> None:
    asked: list[str] = []
    ill = next(iter(SETTLED.gateways))
    found = read_status(SETTLED, ends_of(asked, ill))
    assert [t.tunnel for t in found] == [leg.label for leg in SETTLED.legs()]
    of_it = {t.label for t in SETTLED.legs_at(ill)}
    assert {t.tunnel for t in found if isinstance(t.right, NotKnown)} == of_it
    assert {t.state for t in found} == {UP}, "a session that the cloud has established takes two"
    assert all(f"{ill} does not answer" in t.notes[0] for t in found if t.tunnel in of_it)
    places = {place for leg in SETTLED.legs() for place in (leg.gateway, leg.cloud)}
    assert sorted(asked) == sorted(places)


def test_of_one_link_nobody_else_is_asked() -> None:
    asked: list[str] = []
    link = list(SETTLED.links.values())[7]
    found = read_status(SETTLED, ends_of(asked), [link.name])
    assert [(t.tunnel, t.state) for t in found] == [(t.label, UP) for t in link.tunnels]
    assert sorted(asked) == sorted({link.cloud, *(t.gateway for t in link.tunnels)})


def test_a_clock_is_right_however_long_it_took_to_come_to_it(monkeypatch) -> None:
    monkeypatch.setattr(asking, "SIDE_BY_SIDE", 1)
    time, behind = [datetime(2026, 6, 1, tzinfo=UTC)], timedelta(hours=2)
    ends = ends_of([])
    late = list(ends.gateways)[3]
    for name, gateway in ends.gateways.items():

        def clock(name: str = name) -> datetime:
            time[0] += timedelta(seconds=20)
            return time[0] - behind if name == late else time[0]

        gateway.clock = clock
    assert read_clocks(ends, lambda: time[0]) == {late: -7200.0}


def test_a_clock_that_is_not_reported_is_not_known() -> None:
    now, ends = datetime(2026, 6, 1, tzinfo=UTC), ends_of([])
    mute, dead, *others = ends.gateways
    for name in others:
        ends.gateways[name].clock = lambda: now
    ends.gateways[mute].clock = lambda: None

    def refused() -> None:
        raise OutsideError("no answer")

    ends.gateways[dead].clock = refused
    found = {name: seen.why for name, seen in read_clocks(ends, lambda: now).items()}
    assert found == {mute: "it does not report its time", dead: "it does not answer"}


def test_answers_come_in_order_from_several_at_once() -> None:
    meet = threading.Barrier(asking.SIDE_BY_SIDE, timeout=10)

    def ask(number: int) -> int:
        meet.wait()
        return number

    numbers = list(range(3 * asking.SIDE_BY_SIDE))
    assert side_by_side(ask, numbers) == numbers


def test_whom_to_believe_is_read_once_and_nobody_is_where_nothing_is_proven(tmp_path) -> None:
    one, two = (http._trust("it", f"https://{n}.example", None) for n in "ab")
    assert one is two
    assert one.get_ca_certs()
    plain = http._trust("it", "http://127.0.0.1:1", None)
    assert not plain.get_ca_certs()
    assert plain.verify_mode.name == "CERT_REQUIRED"
    (tmp_path / "x.pem").write_text("nothing")
    with pytest.raises(http.ObrinError, match="cannot be read"):
        http._trust("it", "https://a.example", str(tmp_path / "x.pem"))
