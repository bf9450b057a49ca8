"""The BGP decision process (RFC 4271 section 9.1.2.2) as one ordered list of rules.

The wire engine and the model call the same `decide`, which also says by which rule each loser
lost. MED is compared only between paths from the same neighbouring AS; a missing one counts as 0.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from obrin.core.routing.path import Candidate

Rule = tuple[str, Callable[[Candidate], int]]

RULES: tuple[Rule, ...] = (
    ("higher local preference", lambda c: -c.path.local_pref),
    ("shorter AS path", lambda c: len(c.path.as_path)),
    ("lower origin", lambda c: c.path.origin),
    ("lower multi-exit discriminator", lambda c: c.path.med or 0),
    ("external over internal", lambda c: 0 if c.peer.external else 1),
    ("nearer next hop", lambda c: c.cost),
    ("lower router identifier", lambda c: c.peer.router_id),
    ("lower peer address", lambda c: c.peer.address.value),
)
_MED = "lower multi-exit discriminator"
_SAME = "the same in every rule"
_TIES = ("lower router identifier", "lower peer address", _SAME)


@dataclass(frozen=True, slots=True)
class Decision:
    """The winner, and for each loser the name of the rule that excluded it.

    `equals` are losers that only the last rules told apart, by identifier and address: paths as
    good as the winner's, over which traffic may be shared.
    """

    winner: Candidate
    losers: tuple[tuple[Candidate, str], ...]

    @property
    def equals(self) -> tuple[Candidate, ...]:
        return tuple(
            loser
            for loser, rule in self.losers
            if rule in _TIES and loser.path.as_path == self.winner.path.as_path
        )


_VALUES: dict[str, tuple[str, Callable[[Candidate], object]]] = {
    "higher local preference": ("lower local preference", lambda c: c.path.local_pref),
    "shorter AS path": ("longer AS path", lambda c: len(c.path.as_path)),
    "lower origin": ("higher origin", lambda c: c.path.origin),
    _MED: ("higher multi-exit discriminator", lambda c: c.path.med or 0),
    "nearer next hop": ("farther next hop", lambda c: c.cost),
}
_PLAIN = {
    "external over internal": "internal, and the winner is external",
    "lower router identifier": "higher router identifier",
    "lower peer address": "higher peer address",
}


def why_lost(loser: Candidate, winner: Candidate, rule: str) -> str:
    """The rule from the loser's side, with both values: `lower local preference, 198 to 199`."""
    if rule in _VALUES:
        words, value = _VALUES[rule]
        return f"{words}, {value(loser)} to {value(winner)}"
    return _PLAIN.get(rule, rule)


def decide(candidates: Sequence[Candidate]) -> Decision:
    """Choose among one or more candidates for one prefix."""
    if len(candidates) == 1:
        return Decision(candidates[0], ())
    left = list(candidates)
    lost: list[tuple[Candidate, str]] = []
    for name, key in RULES:
        if len(left) == 1:
            break
        if name == _MED:
            keep = [c for c in left if not _beaten_by_med(c, left)]
        else:
            best = min(map(key, left))
            keep = [c for c in left if key(c) == best]
        lost += [(c, name) for c in left if c not in keep]
        left = keep
    return Decision(left[0], tuple(lost + [(c, _SAME) for c in left[1:]]))


def _beaten_by_med(candidate: Candidate, others: Sequence[Candidate]) -> bool:
    neighbour = candidate.path.as_path[:1]
    return any(
        other.path.as_path[:1] == neighbour and (other.path.med or 0) < (candidate.path.med or 0)
        for other in others
    )
