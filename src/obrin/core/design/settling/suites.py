"""The suite of each link: the strongest that every end offers."""

from __future__ import annotations

from obrin.core.design.model import Design
from obrin.core.design.references import crypto_policy
from obrin.core.design.settling.work import Work
from obrin.core.ipsec.policy import outdated
from obrin.core.ipsec.suite import SHIPPED, Suite


def common_suites(design: Design, link_name: str, suites: dict[str, Suite]) -> list[str]:
    """Names of the suites that every end of a link offers: within the policy first, then the
    strongest, then in order."""
    link = design.links[link_name]
    site, cloud = design.sites[link.site], design.clouds[link.cloud]
    default = list(SHIPPED)
    ends = [cloud.gateway.offers or default]
    for name in dict.fromkeys(t.gateway for t in link.tunnels.values()):
        ends.append(site.gateways[name].offers or default)
    both = [name for name in ends[-1] if all(name in end for end in ends)]
    if len(both) < 2:
        return both
    policy = crypto_policy(design)
    # What the policy and the standards allow comes first, then the strongest.
    return sorted(
        both,
        key=lambda name: (
            not policy.allows(suites[name]), outdated(suites[name]), -suites[name].strength,
        ),
    )  # fmt: skip


def settle_suites(work: Work) -> None:
    for name, link in work.design.links.items():
        key = f"links.{name}.suite"
        if link.suite is not None:
            continue
        common = common_suites(work.design, name, work.suites)
        if not common:
            # Nothing to choose; the check says which end lacks what.
            fallback = (work.design.clouds[link.cloud].gateway.offers or list(SHIPPED))[0]
            work.choose(key, fallback, "no suite is common to both ends; the cloud's first")
        elif not work.keep(key, common.__contains__):
            best = common[0]
            strength = work.suites[best].strength
            work.choose(key, best, f"the strongest suite that both ends offer ({strength} bits)")
