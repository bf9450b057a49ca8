"""Check suites: that both ends have one in common, and that its algorithms are sound."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from types import MappingProxyType

from obrin.core.check.finding import Finding, Severity
from obrin.core.design.abilities import Able
from obrin.core.design.reader import Location
from obrin.core.handover.ends.agreed import (
    Agreement,
    agreements,
    edit_words,
    nothing_common,
)
from obrin.core.handover.ends.said import SESSION
from obrin.core.ipsec.ends import WORDS, Step
from obrin.core.ipsec.proposal import choose, mismatch
from obrin.core.ipsec.registry import Kind, Standing
from obrin.core.ipsec.suite import Suite
from obrin.core.quantity import plain
from obrin.core.settle.blank import link_key
from obrin.core.settled.links import SettledLink
from obrin.core.settled.model import Settled
from obrin.core.settled.telling import announced_by_cloud, announced_by_site


def suites(settled: Settled, prints: Mapping[str, str] = MappingProxyType({})) -> Iterator[Finding]:
    """`prints` are fingerprints of the right keys, by tunnel."""
    played: dict[str, list[Agreement]] = {}
    for agreement in agreements(settled, prints):
        played.setdefault(agreement.tunnel.link, []).append(agreement)
    for name, link in settled.links.items():
        yield from _ends_meet(settled, link, played.get(name, ()))
        yield from _not_compared(name, played.get(name, ()))
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


def _not_compared(link: str, played: Sequence[Agreement]) -> Iterator[Finding]:
    """What is said to be entered, and cannot be held against the right value."""
    for agreement in played:
        for text in agreement.unknown:
            what, _, cure = text.partition(": ")
            reason, _, cure = cure.partition(". ")
            yield Finding(
                Severity.NOTE,
                "entered-not-known",
                ("links", link, "entered"),
                f"it is not known {what} ({agreement.tunnel.label}): {reason}",
                "that both ends agree cannot be said: where it is another, IKE_AUTH fails",
                cure[:1].lower() + cure[1:],
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


def _ends_meet(
    settled: Settled, link: SettledLink, played: Sequence[Agreement]
) -> Iterator[Finding]:
    """What each end lacks of the suite; what follows, and when, is for the agreement to say."""
    here: Location = ("links", link.name, "suite")
    bad = next((a for a in played if not a.good), None)
    if link.entered:
        yield from _entered(link, bad)
        return
    if bad is not None and link_key(link.name, "suite") in settled.chosen:
        yield Finding(
            Severity.ERROR,
            "suite-no-match",
            here,
            f"nothing is common to the ends of {bad.tunnel.label}: {nothing_common(bad)}",
            _follows(bad),
            edit_words(bad),
        )
        return
    mismatch_found = False
    for end in settled.ends_of(link):
        cause = _lacking(end, link.suite, settled.standards.suites)
        if cause:
            mismatch_found = True
            of_end = (a for a in played if end.name in (a.tunnel.gateway, a.tunnel.cloud))
            agreement = next((a for a in of_end if not a.good), None)
            yield Finding(
                Severity.ERROR,
                "suite-no-match",
                here,
                cause,
                _ANOTHER if agreement is None else _follows(agreement),
                "choose a suite that both ends offer, or leave it blank and settle: the strongest "
                "that both can do is taken, if there is any",
            )
    if bad is not None and not mismatch_found:
        yield Finding(
            Severity.ERROR,
            "suite-no-match",
            here,
            f"the ends of {bad.tunnel.label} do not agree: {_failed(bad)[0].text}",
            _follows(bad),
            f"'obrin agree {link.name}' shows both ends line by line",
        )


def _entered(link: SettledLink, bad: Agreement | None) -> Iterator[Finding]:
    """What is said to be entered at the ends, played through; and what it leaves out."""
    here: Location = ("links", link.name, "entered")
    ends = " and ".join(link.entered)
    if bad is not None:
        yield Finding(
            Severity.ERROR,
            "entered-differs",
            here,
            f"with what is entered at the {ends}, {bad.tunnel.label} fails: {_failed(bad)[0].text}",
            _follows(bad),
            f"enter what the sheets say; 'obrin agree {link.name}' shows both ends line by line",
        )
    elif link.selection == "policy":
        for end, found in link.entered.items():
            mine, others = announced_by_site(link), announced_by_cloud(link)
            mismatch_found = (mine, others) if end == "site" else (others, mine)
            missing = [
                str(prefix)
                for held, wanted in zip((found.local, found.remote), mismatch_found, strict=True)
                for prefix in (wanted if held is not None else ())
                if not any(selector.covers(prefix) for selector in held or ())
            ]
            if missing:
                yield Finding(
                    Severity.ERROR,
                    "entered-differs",
                    (*here, end),
                    f"the traffic selectors entered at the {end} leave out {', '.join(missing)}",
                    "the tunnel comes up, and nothing from or to there goes through it",
                    "enter all selectors that the sheet says",
                )


_ANOTHER = "the tunnel comes up with something else than the design says"


def _lacking(end: Able, suite: Suite, known: Mapping[str, Suite]) -> str:
    """What an end cannot do or does not offer of a suite; empty when it does all of it."""
    lacks = list(end.profile.lacks(suite))
    if lacks:
        listed = ", no ".join(lacks)
        return f"{end.name} ({end.profile.name}) cannot do suite '{suite.name}': it has no {listed}"
    accepted = [known[n] for n in end.offers] if end.offers else [suite]
    wanted = {
        "IKE": (suite.ike.proposal(), [s.ike.proposal() for s in accepted]),
        "ESP": (
            suite.esp.proposal(with_group=True),
            [s.esp.proposal(with_group=True) for s in accepted],
        ),
    }
    words = [
        f"{_listed(mismatch([one], has))} of {what}"
        for what, (one, has) in wanted.items()
        if choose([one], has) is None
    ]
    if not words:
        return ""
    return (
        f"{end.name} does not offer suite '{suite.name}': {', and '.join(words)} do not intersect"
    )


def _listed(kinds: tuple[Kind, ...]) -> str:
    return ", ".join(WORDS[kind] for kind in kinds) or "the combination"


def _failed(agreement: Agreement) -> list[Step]:
    return [step for step in agreement.steps if not step.good]


def _follows(agreement: Agreement) -> str:
    """Which exchange fails, with what, and at what second."""
    first, *rest = _failed(agreement)
    if first.exchange == SESSION:
        return "the tunnel comes up, and its BGP session never does: nobody learns a route from it"
    if first.latest == 0:
        return f"{first.exchange} fails with {first.notify}: the tunnel does not come up"
    when = f"after {plain(first.earliest)} to {plain(first.latest)} s"
    end = f"; {rest[0].text}" if rest else ""
    return f"it comes up, and {when} the {first.exchange} fails with {first.notify}{end}"


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
