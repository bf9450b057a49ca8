"""Verdicts of a probe: a flow that must not work is kept out only where something shows it, and
what tunnels lost meanwhile is counted."""

from __future__ import annotations

from dataclasses import replace

import pytest

from obrin.core.known import NotKnown
from obrin.core.reach.model import ReachModel
from obrin.live.drivers.observations import Answer, Dropped, EndStatus
from obrin.live.drivers.protocol import Ends
from obrin.live.observe.must_not import judged
from obrin.live.observe.outcome import ANSWERED, NO_ANSWER, NOT_TRIED, REFUSED, Outcome
from obrin.live.observe.probe import _lost, probe_all
from obrin.live.observe.sizes import _of_segments
from obrin.live.observe.tunnel import TunnelStatus
from tests.doubles import settled_of, swap

MORE = swap(
    (
        "  - {from: quay/guests,",
        "  - {from: quay/desks, to: apps/web, flow: tcp/22, must: not}\n  - {from: quay/guests,",
    )
)
SETTLED = settled_of(MORE)
WORK, PING, SSH, GUESTS = SETTLED.own_expectations()
MODEL = ReachModel(SETTLED)


def of(wish, seen: str = NO_ANSWER, **more: str) -> Outcome:
    return Outcome(wish, seen, 0.1, **more)


def verdict(*outcomes: Outcome):
    return judged(MODEL, outcomes)[0].verdict


def test_what_must_work_works_or_does_not() -> None:
    assert verdict(of(WORK, ANSWERED)) is True
    assert verdict(of(WORK)) is False
    assert verdict(of(WORK, REFUSED)) is False
    assert isinstance(verdict(of(WORK, NOT_TRIED, problem="nobody is there")), NotKnown)


def test_a_refusal_by_the_host_itself_shows_that_nothing_keeps_it_out() -> None:
    outcome = judged(MODEL, [of(SSH, REFUSED)])[0]
    assert outcome.verdict is False
    assert "nothing on the way keeps it out" in outcome.why


@pytest.mark.parametrize(
    ("dropped", "good"),
    [
        ("quay-gw: no filter rule lets it through", True),
        ("apps: no filter rule lets it through (the answer)", True),
        ("quay-gw: not in the tunnel's traffic selectors", True),
        ("quay-gw: tunnel quay-apps/a has no child SA", None),
        ("cloud: apps@hub is down", None),
        ("quay-gw: no route to 10.64.0.10", None),
        ("quay-gw: time to live ran out", None),
    ],
)
def test_a_drop_is_proof_for_the_reason_of_the_design_alone(dropped: str, good) -> None:
    found = verdict(of(SSH, dropped=dropped))
    assert (None if isinstance(found, NotKnown) else found) is good


def test_silence_is_proof_only_beside_an_answer_between_the_same_two() -> None:
    assert isinstance(verdict(of(SSH)), NotKnown)
    assert isinstance(verdict(of(SSH), of(WORK), of(PING)), NotKnown)
    assert verdict(of(SSH), of(PING, ANSWERED)) is True
    assert isinstance(verdict(of(GUESTS), of(PING, ANSWERED)), NotKnown), "other networks"
    why = judged(MODEL, [of(SSH, unasked="quay-gw cannot be asked what they dropped")])[0].why
    assert "quay-gw cannot be asked" in why


UP = EndStatus(
    ike="established", child="up", bgp="established", packets_in=100, packets_out=100,
    received=(), announced=(), idle_in=0, idle_out=0,
)  # fmt: skip


def test_packets_that_were_lost_between_two_readings_are_counted_by_direction() -> None:
    def status(site: EndStatus, cloud: EndStatus) -> TunnelStatus:
        return TunnelStatus(tunnel="quay-apps/a", rank=1, site=site, cloud=cloud, speaks=True)

    before = status(UP, UP)
    after = status(
        replace(UP, packets_out=120, packets_in=110), replace(UP, packets_in=114, packets_out=110)
    )
    assert list(_lost(before, after)) == ["of 20 packets of the site, 6 did not come to the cloud"]
    anew = status(replace(UP, packets_out=3), UP)
    assert list(_lost(before, anew)) == [], "counters of another IKE SA"
    unsaid = status(replace(UP, packets_out=NotKnown("withheld")), UP)
    assert list(_lost(before, unsaid)) == []


class Silent:
    """A gateway that reports no drops, and a cloud that reports them."""

    def __init__(self, drops: list[Dropped] | None) -> None:
        self._drops = drops

    def tunnels(self, *_of: object) -> dict[str, EndStatus]:
        return {leg.label: UP for leg in SETTLED.legs()}

    def probe(self, question) -> Answer:
        return Answer(answered=False, refused=False, seconds=0.0, source_port=7)

    def drops(self, *_of: object) -> list[Dropped]:
        from obrin.core.errors import OutsideError

        if self._drops is None:
            raise OutsideError("it does not answer")
        return self._drops


def test_one_device_that_cannot_be_asked_hides_no_other() -> None:
    from obrin.core.reach.trace import probe_key

    key = probe_key(SETTLED, SSH)
    drop = Dropped(
        place="apps", reason="no filter rule lets it through", source=key.source,
        destination=key.destination, protocol=6, source_port=7, destination_port=22,
    )  # fmt: skip
    ends = Ends({"apps": Silent([drop])}, {"quay-gw": Silent(None)})
    found = {str(o.expectation.flow): o for o in probe_all(SETTLED, ends)}
    assert found["tcp/22"].verdict is True
    assert found["tcp/22"].dropped == "apps: no filter rule lets it through"
    assert "quay-gw cannot be asked what they dropped" in found["icmp"].why


@pytest.mark.parametrize(
    ("sent", "received", "verdict", "words"),
    [
        (True, True, True, "cross both ways"),
        (False, True, False, "lost on the way there"),
        (True, False, False, "lost on the way back"),
        (None, True, None, "is not reported"),
        (True, None, None, "is not reported"),
    ],
)
def test_the_size_of_tcp_is_that_of_segments_that_crossed(sent, received, verdict, words) -> None:
    answer = Answer(answered=True, refused=False, seconds=0.1, source_port=1, mss=1406,
                    sent_whole=sent, received_whole=received)  # fmt: skip
    found = _of_segments(WORK, 1446, answer)
    assert (None if isinstance(found.verdict, NotKnown) else found.verdict) is verdict
    assert words in (found.problem or found.lost or found.beyond)
