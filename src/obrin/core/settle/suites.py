"""The suite of each link: the strongest that every end can do, or one made for their devices."""

from __future__ import annotations

from collections.abc import Mapping

from obrin.core.design.abilities import Able, ends_of
from obrin.core.design.model import Design
from obrin.core.design.references import crypto_policy
from obrin.core.ipsec.compose import ENOUGH, compose, parse_spelled, spell
from obrin.core.ipsec.policy import CryptoPolicy, outdated
from obrin.core.ipsec.suite import SHIPPED, Suite
from obrin.core.settle.blank import link_key
from obrin.core.settle.choices import Value
from obrin.core.settle.work import Work


def common_suites(
    design: Design, link_name: str, suites: Mapping[str, Suite], ends: list[Able] | None = None
) -> list[str]:
    """Names of the suites that every end of a link offers: within the policy first, then the
    strongest, then in order."""
    ends = ends or list(ends_of(design, link_name))
    order = ends[-1].offers or (suites if ends[-1].described else SHIPPED)
    both = [name for name in order if all(end.may(suites[name]) for end in ends)]
    if len(both) < 2:
        return both
    policy = crypto_policy(design)
    # What the policy and the standards allow comes first, then the strongest.
    return sorted(both, key=lambda name: _rank(suites[name], policy))


def _rank(suite: Suite, policy: CryptoPolicy) -> tuple[bool, bool, int]:
    return not policy.allows(suite), outdated(suite), -min(suite.strength, ENOUGH)


def composed_name(link: str) -> str:
    """What a suite is called that was made for one link."""
    return f"for-{link}"


def suite_of(link: str, choice: Value, suites: Mapping[str, Suite]) -> Suite | None:
    """The suite behind a choice: a name, or one spelled out. None when it means nothing."""
    if ";" not in str(choice):
        return suites.get(str(choice))
    try:
        return parse_spelled(composed_name(link), str(choice))
    except ValueError:
        return None


def _composed(ends: list[Able], name: str, policy: CryptoPolicy) -> Suite | None:
    """Compose only for ends that are described, and free to use all that they can do."""
    if not any(end.described for end in ends) or any(end.offers is not None for end in ends):
        return None
    return compose(composed_name(name), [end.profile for end in ends], policy)


def settle_suites(work: Work) -> None:
    policy = crypto_policy(work.design)
    for name, link in work.design.links.items():
        key = link_key(name, "suite")
        if link.suite is not None:
            continue
        ends = list(ends_of(work.design, name))
        common = common_suites(work.design, name, work.suites, ends)

        def fits(
            value: Value, name: str = name, common: list[str] = common, ends: list[Able] = ends
        ) -> bool:
            suite = suite_of(name, value, work.suites)
            spelled = ";" in str(value)
            able = suite is not None and all(end.profile.can(suite) for end in ends)
            return able if spelled else value in common

        made = _composed(ends, name, policy)
        best = work.suites[common[0]] if common else None
        if best is None and made is None:
            # Nothing to choose; the check says which end lacks what.
            fallback = (ends[0].offers or tuple(SHIPPED))[0]
            work.choose(key, fallback, "no suite is common to both ends; the cloud's first")
        elif work.keep(key, fits):
            continue
        elif made is not None and (best is None or _rank(made, policy) < _rank(best, policy)):
            why = f"made of the strongest that both ends can do ({made.strength} bits)"
            work.choose(key, spell(made), why)
        elif best is not None:
            why = f"the strongest suite that both ends offer ({best.strength} bits)"
            work.choose(key, best.name, why)
