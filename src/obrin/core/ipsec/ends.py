"""Two ends, the exchanges between them, and what keeps them apart: the words of predictions."""

from __future__ import annotations

from dataclasses import dataclass, replace

from obrin.core.ipsec.proposal import Proposal, mismatch
from obrin.core.ipsec.registry import Kind
from obrin.core.ipsec.selectors import ANY_IPV4, Selector, narrow
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
    end's. `local` and `remote` are its traffic selectors.
    """

    name: str
    suites: tuple[Suite, ...]
    sends: str = ""
    expects: str = ""
    local: tuple[Selector, ...] = (ANY_IPV4,)
    remote: tuple[Selector, ...] = (ANY_IPV4,)
    reauthenticates: bool = False

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
    """None when the traffic selectors do not meet; otherwise what to say of narrowing."""
    near = narrow(one.local, two.remote)
    far = narrow(one.remote, two.local)
    if not near or not far:
        return None
    if set(near) == set(one.local) and set(far) == set(one.remote):
        return ""
    listed = [" and ".join(map(str, found)) for found in (near, far)]
    return f"; {two.name} narrows the traffic selectors to {listed[0]} there, {listed[1]} here"


def names(proposal: Proposal) -> str:
    return ", ".join(str(t) for t in proposal.transforms)


def apart(offered: tuple[Proposal, ...], accepted: tuple[Proposal, ...], by: End) -> str:
    kinds = mismatch(offered, accepted)
    words = ", ".join(WORDS[kind] for kind in kinds)
    common = f"nothing in common for {words}" if kinds else "no combination in common"
    return f"{by.name} accepts none of what is offered: {common}"
