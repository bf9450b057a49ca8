"""What hosts saw at several places: the cause that fits all of it, and only then."""

from __future__ import annotations

from dataclasses import replace

import pytest

from obrin.core.known import NotKnown
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
    "the cause is not known: nothing else was tried": ([SILENT], []),
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
    found = verdicts(*CASES[words])[0]
    if isinstance(found.met, NotKnown):
        assert words in found.met.why
        assert found.cause is None
        return
    assert found.met is False
    assert found.cause is not None
    assert words in found.cause.text
    assert found.cause.settles
    assert found.cause.speaks_for or "the cause is not known" in words


@pytest.mark.parametrize("words", CASES)
def test_no_cause_rests_on_what_was_withheld(words: str) -> None:
    """Every observation but the flow itself is withheld in turn: the cause is another, or what is
    left speaks for it."""
    seen_all, inside = CASES[words]
    whole = verdicts(seen_all, inside)[0]
    for number in range(1, len(seen_all)):
        less = verdicts([o for n, o in enumerate(seen_all) if n != number], inside)[0]
        if less.cause is not None and whole.cause is not None:
            assert not set(less.cause.speaks_for) & {f"{seen_all[number].words} is answered"}
            assert less.cause.speaks_for or "the cause is not known" in less.cause.text


@pytest.mark.parametrize(
    "right",
    [
        [seen(answers=YES)],
        [seen(must="not", prohibited=True, unreachable="a filter says no")],
        [seen(must="not"), seen(flow="icmp", answers=YES)],
        [seen(flow="icmp", answers=YES, sizes=((200, True), (1400, True)))],
    ],
)
def test_what_is_as_wished_has_no_cause(right: list[Seen]) -> None:
    judged = verdicts(right, [])[0]
    assert (judged.met, judged.cause, judged.note) == (True, None, "")


@pytest.mark.parametrize(
    ("seen_all", "words"),
    [
        ([seen(must="not")], "nothing shows that packets cross"),
        ([seen(must="not"), seen(flow="icmp")], "nothing shows that packets cross"),
        ([seen(must="not", refused=True)], "by the host itself, which it reaches, or by a filter"),
        ([seen(must="not", flow="udp/53"), seen(answers=YES)], "a UDP service may be silent"),
        ([seen(must="not", problem="no ping sockets")], "no ping sockets"),
    ],
)
def test_silence_does_not_prove_that_a_flow_is_kept_out(seen_all: list[Seen], words: str) -> None:
    judged = verdicts(seen_all, [])[0]
    assert isinstance(judged.met, NotKnown)
    assert words in judged.met.why


def test_who_says_that_it_is_unreachable_is_named() -> None:
    says = "quay-gw at quay-apps/a says by ICMP that it is unreachable: no route to the network"
    judged = verdicts([seen(unreachable=says)], [])[0]
    assert judged.met is False
    assert judged.cause is not None
    assert judged.cause.text.startswith(says)


def test_a_first_packet_that_is_lost_is_noted() -> None:
    late = seen(answers=(False, False, True))
    (judged,) = verdicts([late], [])
    assert judged.met is True
    assert "the first 2 of 3 questions were lost: the tunnel slept" in judged.note
    assert verdicts([replace(late, must="not")], [])[0].note == ""
    (judged,) = verdicts([seen(answers=(True, False, True))], [])
    assert judged.met is True
    assert "1 of 3 questions were lost: packets are lost on the way" in judged.note
