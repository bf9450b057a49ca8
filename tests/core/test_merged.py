"""What hosts saw at several places: the cause that fits all of it, and only then."""

from __future__ import annotations

from dataclasses import replace

import pytest

from obrin.core.reach.merged import InsideSeen, Seen, verdicts

YES, NO = (True, True, True), (False, False, False)


def seen(source: str = "quay/desks", destination: str = "apps/web", **more) -> Seen:
    usual = {"flow": "tcp/443", "family": "IPv4", "must": "work", "answers": NO}
    return Seen(source=source, destination=destination, **{**usual, **more})


SILENT = seen()
CASES = {
    "works one way": ([SILENT, seen("apps/web", "quay/desks", answers=YES)], []),
    "and tcp/443 does not get there": ([SILENT, seen(flow="icmp", answers=YES)], []),
    "apps/web alone is missing": ([SILENT, seen(destination="apps/db", answers=YES)], []),
    "the way back to quay/desks alone": ([SILENT, seen("quay/guests", answers=YES)], []),
    "only the tunnel's own addresses answer": ([SILENT], [InsideSeen("quay", "quay-apps/a", True)]),
    "packets cross: apps at quay-apps/a": (
        [seen(path=("quay-gw at quay-apps/a", "apps at quay-apps/a"))],
        [],
    ),
    "The last that answers is quay-gw at quay-apps/a": (
        [seen(path=("quay-gw at quay-apps/a",))],
        [],
    ),
    "nothing of apps answers to quay": (
        [SILENT, seen(destination="ledger/accounts", answers=YES)],
        [InsideSeen("quay", "quay-apps/a", False)],
    ),
    "nothing answers to quay at all": ([SILENT, seen(destination="ledger/accounts")], []),
    "the host itself refuses": ([seen(refused=True)], []),
    "it answers, and nobody may": ([seen(must="not", answers=YES)], []),
    "small ones pass and large ones hang: 200 bytes are answered, 1400 are not": (
        [seen(flow="icmp", answers=YES, sizes=((200, True), (1400, False)))],
        [],
    ),
    "no ping sockets": ([seen(answers=(), problem="no ping sockets")], []),
}


@pytest.mark.parametrize("words", CASES)
def test_the_cause_that_fits(words: str) -> None:
    found = verdicts(*CASES[words])
    assert words in found[0].cause
    assert not found[0].seen.met


@pytest.mark.parametrize(
    "right",
    [
        seen(answers=YES),
        seen(must="not"),
        seen(must="not", refused=True),
        seen(flow="icmp", answers=YES, sizes=((200, True), (1400, True))),
    ],
)
def test_what_is_as_wished_has_no_cause(right: Seen) -> None:
    (verdict,) = verdicts([right], [])
    assert (verdict.cause, verdict.note) == ("", "")
    assert verdict.seen.met


def test_a_first_packet_that_is_lost_is_noted() -> None:
    late = seen(answers=(False, False, True))
    (verdict,) = verdicts([late], [])
    assert verdict.seen.met
    assert "the first 2 of 3 questions were lost: the tunnel slept" in verdict.note
    assert verdicts([replace(late, must="not")], [])[0].note == ""
