"""Suites: do the two ends meet, and is what they agree on still held to be sound?"""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.check.finding import Finding, Severity
from obrin.core.design.reader import Location
from obrin.core.ipsec.ends import WORDS
from obrin.core.ipsec.proposal import choose, mismatch
from obrin.core.ipsec.registry import Kind, Standing
from obrin.core.ipsec.suite import Suite
from obrin.core.settled.links import SettledLink
from obrin.core.settled.model import Settled


def suites(settled: Settled) -> Iterator[Finding]:
    for name, link in settled.links.items():
        yield from _ends_meet(settled, link)
        yield from _deprecated(name, link.suite)
        yield from _policy(settled, name, link.suite)
        unspoken = link.suite.unspoken()
        if unspoken:
            yield Finding(
                Severity.WARNING,
                "suite-not-practised",
                ("links", name, "suite"),
                f"the practice world does not speak {', '.join(dict.fromkeys(unspoken))}",
                "this link can be planned and handed over, but not tried out here",
                "use a suite of the practice world to rehearse it",
            )
        if link.suite.esp.group is None:
            yield Finding(
                Severity.WARNING,
                "suite-no-pfs",
                ("links", name, "suite"),
                f"suite {link.suite.name} rekeys without a new key exchange",
                "whoever learns one key of the IKE SA can read all of its child SAs",
                "give its esp part a 'pfs' group",
            )


def _policy(settled: Settled, name: str, suite: Suite) -> Iterator[Finding]:
    breaches = list(settled.standards.policy.breaches(suite))
    if breaches:
        yield Finding(
            Severity.ERROR,
            "policy-broken",
            ("links", name, "suite"),
            f"suite {suite.name} is not within the policy: {'; '.join(breaches)}",
            "an audit finds it, and the link has to be changed while it is in use",
            "choose another suite, leave it blank, or change 'policy'",
        )
    if suite.ike_version == 1:
        yield Finding(
            Severity.ERROR,
            "ike-version",
            ("links", name, "suite"),
            f"suite {suite.name} is for IKEv1, which is deprecated (RFC 9395)",
            "weak defaults, no answer to floods, and newer devices refuse it",
            "use IKEv2; if the device cannot, replace it or put a gateway in front",
        )


def _ends_meet(settled: Settled, link: SettledLink) -> Iterator[Finding]:
    """What each end can do and offers against the link's suite, by the rules of the engine."""
    suite, known = link.suite, settled.standards.suites
    here: Location = ("links", link.name, "suite")
    for end in settled.ends_of(link):
        lacks = list(end.profile.lacks(suite))
        if lacks:
            yield Finding(
                Severity.ERROR,
                "suite-no-match",
                here,
                f"{end.name} ({end.profile.name}) cannot do suite '{suite.name}': it has no "
                f"{', no '.join(lacks)}",
                "the tunnel does not come up, or does not stay",
                "leave the suite blank and settle: the strongest that both can do is taken, "
                "if there is any",
            )
            continue
        accepted = [known[n] for n in end.offers] if end.offers else [suite]
        ike = [s.ike.proposal() for s in accepted]
        esp = [s.esp.proposal(with_group=True) for s in accepted]
        missing = {
            what: mismatch([wanted], has)
            for what, wanted, has in (
                ("IKE", suite.ike.proposal(), ike),
                ("ESP", suite.esp.proposal(with_group=True), esp),
            )
            if choose([wanted], has) is None
        }
        if missing:
            words = [f"{_listed(kinds)} of {what}" for what, kinds in missing.items()]
            yield Finding(
                Severity.ERROR,
                "suite-no-match",
                here,
                f"{end.name} does not offer suite '{suite.name}': "
                f"{', and '.join(words)} do not intersect",
                _when(missing),
                "choose a suite that both ends offer, or leave it blank and settle",
            )


def _listed(kinds: tuple[Kind, ...]) -> str:
    return ", ".join(WORDS[kind] for kind in kinds) or "the combination"


def _when(missing: dict[str, tuple[Kind, ...]]) -> str:
    if "IKE" in missing:
        return "the first message fails with NO_PROPOSAL_CHOSEN"
    if missing["ESP"] == (Kind.GROUP,):
        return "it comes up, and the first rekey fails with NO_PROPOSAL_CHOSEN"
    return "IKE_AUTH comes back with NO_PROPOSAL_CHOSEN and no child SA"


def _deprecated(name: str, suite: Suite) -> Iterator[Finding]:
    for standing in (Standing.MUST_NOT, Standing.SHOULD_NOT):
        found = [a for a in dict.fromkeys(suite.algorithms()) if a.standing is standing]
        if found:
            listed = ", ".join(f"{a.name} ({a.strength} bits)" for a in found)
            yield Finding(
                Severity.ERROR if standing is Standing.MUST_NOT else Severity.WARNING,
                "suite-deprecated",
                ("links", name, "suite"),
                f"{standing.value} be used any more (RFC 8247, RFC 8221): {listed}",
                "what is recorded today may be read tomorrow; auditors will ask",
                "replace them: suite 'modern' or 'high' fits most devices",
            )
