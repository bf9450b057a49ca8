"""What check says of a settled file that somebody changed, or that the design has left behind."""

from __future__ import annotations

from obrin.core.check.finding import Severity
from obrin.core.check.upkeep.settled_file import settled_file
from obrin.core.settle.choices import Choice
from obrin.core.settle.drift import drifts

KEY = "clouds.apps.gateway.addresses"


def test_values_changed_by_hand_and_values_that_no_longer_fit() -> None:
    held = {
        KEY: Choice(["192.0.2.1", "192.0.2.2"], "why", by_hand=True),
        "ula": Choice("fd00::/48", ""),
    }
    anew = {KEY: held[KEY], "ula": Choice("fd01::/48", ""), "clouds.new.space": Choice("x", "")}
    by_hand, stale = settled_file(held, drifts(held, anew))
    assert (by_hand.code, by_hand.severity) == ("settled-by-hand", Severity.NOTE)
    assert "192.0.2.1, 192.0.2.2" in by_hand.cause
    assert by_hand.place == ("clouds", "apps", "gateway", "addresses")
    assert (stale.code, stale.place) == ("settled-stale", ("ula",))
    assert "fd01::/48" in stale.consequence
    assert drifts(held, held) == ()
