"""What would avoid that a change loses something, by the reason of the loss."""

from __future__ import annotations

from collections.abc import Collection

from obrin.core.change.outlook import ONE_SESSION, ROUTED_APART, TRANSLATED_APART
from obrin.core.change.plan import Plan

BESIDE = "let another way carry these flows meanwhile: a link to a hub or a circuit"
STAYS = "keep a second tunnel, uplink or gateway as it is meanwhile"
_BY_REASON = {
    TRANSLATED_APART: "give the network its new range beside the old one first, and take that one "
    "away later",
    ROUTED_APART: "make two changes of it: first how tunnels are protected, then how they route",
    ONE_SESSION: "give each tunnel a session of its own first, between the addresses inside",
}


def advice_for(reasons: Collection[str]) -> str:
    """What to do first, for the gravest of the reasons."""
    return next((text for reason, text in _BY_REASON.items() if reason in reasons), STAYS)


def advice(plan: Plan) -> str:
    """What to do before the change, so that nothing is lost in between."""
    return advice_for({reason for planned in plan.steps for _, reason in planned.lost})
