"""Two ends, the exchanges between them, and what keeps them apart: the words of predictions."""

from __future__ import annotations

from dataclasses import dataclass, replace

from obrin.core.ipsec.proposal import Proposal, mismatch
from obrin.core.ipsec.registry import Kind
from obrin.core.ipsec.selectors import ANY_IPV4, Selector, narrow, pairs
from obrin.core.ipsec.suite import Suite

WORDS = {
    Kind.ENCRYPTION: "encryption",
    Kind.PRF: "PRF",
    Kind.INTEGRITY: "integrity",
    Kind.GROUP: "DH groups",
    Kind.ESN: "sequence number sizes",
}
NO_PROPOSAL, AUTH_FAILED = "NO_PROPOSAL_CHOSEN", "AUTHENTICATION_FAILED"
OTHER_VERSION, SELECTORS_APART = "INVALID_MAJOR_VERSION", "TS_UNACCEPTABLE"


@dataclass(frozen=True, slots=True, kw_only=True)
class End:
    """One end: its name, and the suites it is configured with, preferred first.

    `sends` is the identity that it presents, `expects` the one that it wants; empty: the other
    end's. `local` and `remote` are its traffic selectors; with `each_pair` it holds one pair of
    them in a child SA.
    """

    name: str
    suites: tuple[Suite, ...]
    sends: str = ""
    expects: str = ""
    local: tuple[Selector, ...] = (ANY_IPV4,)
    remote: tuple[Selector, ...] = (ANY_IPV4,)
    reauthenticates: bool = False
    each_pair: bool = False

    @property
    def versions(self) -> frozenset[int]:
        return frozenset(suite.ike_version for suite in self.suites)

    def speaking(self, version: int) -> End:
        """The same end with the suites of one IKE version only."""
        if self.versions == {version}:
            return self
        return replace(self, suites=tuple(s for s in self.suites if s.ike_version == version))


@dataclass(frozen=True, slots=True)
class Step:
    """One exchange. `earliest` and `latest` are seconds after the start; `notify` is empty when it
    succeeds."""

    earliest: float
    latest: float
    exchange: str
    text: str
    notify: str = ""

    @property
    def good(self) -> bool:
        return not self.notify


def stranger(who: End, other: End) -> str:
    """Why `other` does not take `who` for its peer; empty when it does (section 2.15)."""
    if not who.sends or not other.expects or who.sends == other.expects:
        return ""
    return f"{who.name} says that it is {who.sends}, {other.name} expects {other.expects}"


def selected(one: End, two: End) -> str | None:
    """Return None when the traffic selectors do not meet; otherwise what to say of narrowing."""
    near = narrow(one.local, two.remote)
    far = narrow(one.remote, two.local)
    if not near or not far:
        return None
    several, count = "", child_count(one, two)
    if count > 1:
        holder = one if one.each_pair else two
        several = f"; {count} child SAs, since {holder.name} holds one pair in each"
    if set(near) == set(one.local) and set(far) == set(one.remote):
        return several
    listed = [" and ".join(map(str, found)) for found in (near, far)]
    narrowed = f"; {two.name} narrows the traffic selectors to {listed[0]} there, {listed[1]} here"
    return narrowed + several


def child_count(one: End, two: End) -> int:
    """How many child SAs there will be: one for each pair of selectors, if an end holds no more."""
    near, far = narrow(one.local, two.remote), narrow(one.remote, two.local)
    count = sum(1 for _ in pairs(near, far))
    return count if one.each_pair or two.each_pair else min(count, 1)


def first_refused(one: End, two: End) -> str:
    """The pair that `one` asks for first, holding one in a child SA, if `two` does not have it."""
    first = next(pairs(one.local, one.remote), None) if one.each_pair else None
    if first is None or (narrow(first[0], two.remote) and narrow(first[1], two.local)):
        return ""
    (mine,), (theirs,) = first
    return f"{mine} and {theirs}"


def names(proposal: Proposal) -> str:
    return ", ".join(str(t) for t in proposal.transforms)


def apart(offered: tuple[Proposal, ...], accepted: tuple[Proposal, ...], by: End) -> str:
    kinds = mismatch(offered, accepted)
    words = ", ".join(WORDS[kind] for kind in kinds)
    common = f"nothing in common for {words}" if kinds else "no combination in common"
    return f"{by.name} accepts none of what is offered: {common}"
