"""All checks of a settled design, one theme after the other."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from types import MappingProxyType

from obrin.core.catalogue.offering import PRACTICE_CLOUD, Offered
from obrin.core.check import clouds
from obrin.core.check.finding import Finding
from obrin.core.check.flows import expectations, failures, redundancy, routing
from obrin.core.check.space import addresses, inside, numbers, ranges, spaces, summaries
from obrin.core.check.space.beyond import beyond
from obrin.core.check.tunnels import algorithms, devices, keys, sizes
from obrin.core.check.tunnels.lifetimes import lifetimes
from obrin.core.check.tunnels.sessions import sessions
from obrin.core.check.upkeep.accepting import OF_CHANGE, answered
from obrin.core.check.upkeep.dates import ended
from obrin.core.check.upkeep.owners import owners
from obrin.core.check.upkeep.settled_file import settled_file
from obrin.core.check.upkeep.texts import placeholders
from obrin.core.handover.secrets import Secrets
from obrin.core.settle.choices import Choices
from obrin.core.settle.drift import Drift
from obrin.core.settled.model import Settled

NO_SECRETS = Secrets()


def check(
    settled: Settled,
    offering: Offered = PRACTICE_CLOUD,
    secrets: Secrets = NO_SECRETS,
    now: datetime | None = None,
    choices: Choices = MappingProxyType({}),
    moved: tuple[Drift, ...] = (),
    change: Iterable[Finding] | None = None,
) -> list[Finding]:
    """All findings, the most severe first, otherwise in the order of the themes; those that are
    accepted come last.

    `now` (aware) is for what ends; without it, dates are not judged. `choices` are those that the
    settled design was built from, `moved` where `settle` would choose something else, `change` is
    what goes wrong on the way there from what is built, where somebody looked.
    """
    found = [
        *settled_file(choices, moved),
        *spaces.overlaps(settled),
        *spaces.translations(settled),
        *spaces.known_differently(settled),
        *ranges.ranges(settled),
        *ranges.left_out(settled),
        *clouds.cloud_networks(settled, offering),
        *clouds.classes(settled, offering),
        *clouds.limits(settled, offering),
        *numbers.as_numbers(settled),
        *addresses.public_addresses(settled),
        *inside.inside_blocks(settled, offering),
        *inside.loopbacks(settled),
        *algorithms.suites(settled, secrets.prints),
        *sizes.inner_sizes(settled),
        *sizes.lines(settled),
        *lifetimes(settled),
        *devices.devices(settled),
        *redundancy.redundancy(settled),
        *redundancy.same_ends(settled),
        *routing.routing(settled),
        *sessions(settled),
        *summaries.summaries(settled),
        *summaries.into_itself(settled),
        *beyond(settled),
        *keys.keys(settled, secrets.keys, secrets.beside),
        *(_certificates(settled, secrets, now) if now is not None else ()),
        *(ended(settled, secrets.made, now.date()) if now is not None else ()),
        *expectations.expectations(settled),
        *failures.wider(settled),
        *failures.overloads(settled, offering),
        *owners(settled),
        *placeholders(settled),
        *(() if change is None else change),
    ]
    unlooked = OF_CHANGE if change is None else None
    marked = answered(settled, found, None if now is None else now.date(), unlooked)
    return sorted(marked, key=lambda finding: (finding.accepted is not None, -finding.severity))


def _certificates(settled: Settled, secrets: Secrets, now: datetime) -> Iterable[Finding]:
    """What reads certificates takes as long to import as a small design to check."""
    if not settled.certified():
        return ()
    from obrin.core.check.tunnels.certificates import certificates

    return certificates(settled, secrets, now)
