"""What a responder may answer to an offer, and what cannot be made a child SA."""

from __future__ import annotations

from dataclasses import replace

import pytest

from obrin.core.ipsec.offers import child_offers, ike_offers
from obrin.core.ipsec.proposal import Proposal, Transform
from obrin.core.ipsec.registry import Kind, by_name
from obrin.core.ipsec.suite import SHIPPED
from obrin.wire.ike.codec.errors import IkeFormatError
from obrin.wire.ike.exchanges.negotiate import accept_answer, with_spi

SUITES = (SHIPPED["high"], SHIPPED["wide"])
OFFERED = child_offers(SUITES, with_group=True)
ONE = OFFERED[0]


@pytest.mark.parametrize("offered", [OFFERED, ike_offers(SUITES)])
def test_every_offer_is_a_good_answer_to_itself(offered: tuple[Proposal, ...]) -> None:
    for proposal in offered:
        assert accept_answer((proposal,), offered) == proposal
    assert {p.spi for p in with_spi(offered, b"spi.")} == {b"spi."}


STRANGE = Transform.of(by_name(Kind.ENCRYPTION, "3DES"))


@pytest.mark.parametrize(
    ("answer", "words"),
    [
        ((), "not offered"),
        (OFFERED, "not offered"),
        ((replace(ONE, transforms=(STRANGE,)),), "not offered"),
        ((replace(ONE, transforms=()),), "not offered"),
        ((replace(ONE, transforms=(*ONE.transforms, ONE.transforms[0])),), "more than one"),
    ],
)
def test_an_answer_that_was_not_offered_is_refused(answer, words: str) -> None:
    with pytest.raises(IkeFormatError, match=words):
        accept_answer(answer, OFFERED)
