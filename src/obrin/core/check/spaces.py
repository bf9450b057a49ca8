"""Address spaces: the same range at two places, and the gateway subnet."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.address.prefix import Prefix
from obrin.core.check.finding import Finding, Severity
from obrin.core.design.offering import Offering
from obrin.core.design.reader import Location
from obrin.core.design.settled import Settled

Owned = tuple[Prefix, str, Location]


def _owned(settled: Settled) -> Iterator[Owned]:
    design = settled.design
    for site, entity in design.sites.items():
        for name, prefix in entity.networks.items():
            yield prefix, f"{site}/{name}", ("sites", site, "networks", name)
    for name, cloud in settled.clouds.items():
        yield cloud.space, f"cloud {name}", ("clouds", name, "space")
    for name, prefix in design.elsewhere.items():
        yield prefix, f"{name} (elsewhere)", ("elsewhere", name)


def overlaps(settled: Settled) -> Iterator[Finding]:
    """A sorted walk: a prefix can only overlap the ones still open above it."""
    open_above: list[Owned] = []
    for owned in sorted(_owned(settled), key=lambda item: item[0]):
        prefix, owner, place = owned
        open_above = [
            o for o in open_above if o[0].bits == prefix.bits and o[0].last >= prefix.value
        ]
        for other, other_owner, _ in open_above:
            yield Finding(
                Severity.ERROR,
                "space-overlap",
                place,
                f"{prefix} of {owner} lies inside {other} of {other_owner}"
                if prefix != other
                else f"{owner} and {other_owner} both use {prefix}",
                "packets for one never reach the other: each side takes the range for its own",
                "give one of them another range, or leave a cloud's space blank and settle again",
            )
        open_above.append(owned)


def gateway_subnets(settled: Settled, offering: Offering) -> Iterator[Finding]:
    for name, cloud in settled.clouds.items():
        here: Location = ("clouds", name, "gateway", "subnet")
        found = next((c for c in offering.classes if c.name == cloud.gateway_class), None)
        if found is None:
            known = ", ".join(c.name for c in offering.classes)
            yield Finding(
                Severity.ERROR, "class-unknown", ("clouds", name, "gateway", "class"),
                f"the cloud offers no class '{cloud.gateway_class}'",
                "the gateway cannot be built", f"use one of {known}, or leave it blank",
            )  # fmt: skip
        elif cloud.gateway_subnet.length > found.subnet_length:
            yield Finding(
                Severity.ERROR, "gateway-subnet-small", here,
                f"{cloud.gateway_subnet} is smaller than the /{found.subnet_length} "
                f"that class {found.name} needs",
                "the cloud refuses to build the gateway, after the network exists",
                f"give it a /{found.subnet_length} or leave it blank",
            )  # fmt: skip
        if not cloud.space.covers(cloud.gateway_subnet):
            yield Finding(
                Severity.ERROR, "gateway-subnet-outside", here,
                f"{cloud.gateway_subnet} is not inside the space {cloud.space}",
                "the cloud refuses the subnet", "choose it from the space, or leave it blank",
            )  # fmt: skip
        yield from _subnets(settled, name)


def _subnets(settled: Settled, name: str) -> Iterator[Finding]:
    cloud = settled.clouds[name]
    seen: list[tuple[str, Prefix]] = [("the gateway subnet", cloud.gateway_subnet)]
    for subnet in cloud.subnets.values():
        here: Location = ("clouds", name, "subnets", subnet.name, "prefix")
        if not cloud.space.covers(subnet.prefix):
            yield Finding(
                Severity.ERROR, "subnet-outside", here,
                f"{subnet.prefix} is not inside the space {cloud.space}",
                "the cloud refuses the subnet", "choose it from the space, or leave it blank",
            )  # fmt: skip
        for other, prefix in seen:
            if prefix.overlaps(subnet.prefix):
                yield Finding(
                    Severity.ERROR, "subnet-overlap", here,
                    f"{subnet.prefix} of {subnet.name} overlaps {prefix} of {other}",
                    "the cloud refuses the second of them; a gateway subnet holds no workloads",
                    "move one of them, or leave it blank",
                )  # fmt: skip
        seen.append((subnet.name, subnet.prefix))
