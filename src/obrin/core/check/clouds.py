"""Cloud networks: capacity class, gateway subnet, subnets, and what the cloud forbids."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.address.prefix import Prefix
from obrin.core.catalogue.offering import Offered, Offering
from obrin.core.check.finding import Finding, Severity
from obrin.core.design.reader import Location
from obrin.core.quantity import plain
from obrin.core.settle.blank import cloud_key, suffix
from obrin.core.settle.classes import judge_classes
from obrin.core.settle.work import gateway_subnet_length
from obrin.core.settled.clouds import SettledCloud, SettledCloudGateway
from obrin.core.settled.model import Settled


def cloud_networks(settled: Settled, offering: Offered) -> Iterator[Finding]:
    for name, cloud in settled.clouds.items():
        if cloud.gateway is not None:
            yield from _gateway(cloud, cloud.gateway, offering.of(name))
            yield from _assigned_later(cloud, cloud.gateway)
        yield from _outside(cloud)
        yield from _overlapping(cloud)


def _gateway(
    cloud: SettledCloud, gateway: SettledCloudGateway, offered: Offering
) -> Iterator[Finding]:
    """Findings about the gateway's class and the size of its subnet."""
    here: Location = ("clouds", cloud.name, "gateway")
    count = len(gateway.instances)
    found = offered.find_class(gateway.gateway_class)
    if found is None:
        known = ", ".join(c.name for c in offered.classes)
        yield Finding(
            Severity.ERROR,
            "class-unknown",
            (*here, "class"),
            f"the cloud offers no class '{gateway.gateway_class}'",
            "the gateway cannot be built",
            f"use one of {known}, or leave it blank",
        )
        return
    subnet = gateway.subnet.ipv4
    if subnet is None:
        return
    needed = gateway_subnet_length(found.name, offered, count)
    if subnet.length > needed:
        yield Finding(
            Severity.ERROR,
            "gateway-subnet-small",
            (*here, "subnet"),
            f"{subnet} is smaller than the /{needed} that class {found.name} needs with "
            f"{count} instances",
            "the cloud refuses to build the gateway, after the network exists",
            f"give it a /{needed} or leave it blank",
        )
    elif _exchanged(cloud, subnet.length, needed):
        yield Finding(
            Severity.WARNING,
            "gateway-subnet-large",
            (*here, "subnet"),
            f"{subnet} is larger than any subnet for workloads; class {found.name} needs a "
            f"/{needed}",
            "room for workloads stands empty: most often the two sizes were exchanged",
            f"give the gateway a /{needed}, or leave it blank",
        )


def _assigned_later(cloud: SettledCloud, gateway: SettledCloudGateway) -> Iterator[Finding]:
    """Addresses that stand in for the cloud's own, which nobody knows yet."""
    what = {
        "addresses": ("public addresses", ", ".join(map(str, cloud.addresses))),
        "peers": ("BGP addresses", ", ".join(map(str, cloud.own_addresses))),
    }
    for name in sorted(gateway.unknown):
        words, held = what[name]
        yield Finding(
            Severity.NOTE,
            "address-stands-in",
            ("clouds", cloud.name, "gateway", "assigns"),
            f"the {words} of {cloud.name} are chosen by the cloud; {held} stand in for them",
            "whoever enters these from a sheet enters addresses that will be others",
            "let 'obrin connect' build the gateway and take them back, before sheets go out",
        )


def _exchanged(cloud: SettledCloud, own: int, needed: int) -> bool:
    """Whether a gateway has far more room than it needs, and more than all workloads."""
    workloads = [s.prefix.ipv4.length for s in cloud.subnets.values() if s.prefix.ipv4 is not None]
    return bool(workloads) and own <= needed - 3 and own < min(workloads)


def _parts(cloud: SettledCloud, bits: int) -> Iterator[tuple[Location, str, Prefix]]:
    """The gateway subnet, then the others, with the prefix of a family where they have one."""
    here: Location = ("clouds", cloud.name)
    own = None if cloud.gateway is None else cloud.gateway.subnet.of(bits)
    if own is not None:
        yield (*here, "gateway", f"subnet{suffix(bits)}"), "the gateway subnet", own
    for name, subnet in cloud.subnets.items():
        prefix = subnet.prefix.of(bits)
        if prefix is not None:
            yield (*here, "subnets", name, f"prefix{suffix(bits)}"), name, prefix


def _outside(cloud: SettledCloud) -> Iterator[Finding]:
    for bits in (32, 128):
        held = ", ".join(map(str, cloud.spaces.of(bits) or ()))
        for here, name, prefix in _parts(cloud, bits):
            if not cloud.holds(prefix):
                yield Finding(
                    Severity.ERROR,
                    "gateway-subnet-outside" if here[2] == "gateway" else "subnet-outside",
                    here,
                    f"{prefix} of {name} is not inside the space {held}",
                    "the cloud refuses the subnet",
                    "choose it from the space, or leave it blank",
                )


def _overlapping(cloud: SettledCloud) -> Iterator[Finding]:
    for bits in (32, 128):
        seen: list[tuple[str, Prefix]] = []
        for here, name, prefix in _parts(cloud, bits):
            for other, theirs in seen:
                if theirs.overlaps(prefix):
                    yield Finding(
                        Severity.ERROR,
                        "subnet-overlap",
                        here,
                        f"{prefix} of {name} overlaps {theirs} of {other}",
                        "the cloud refuses the second of them; a gateway subnet holds no workloads",
                        "move one of them, or leave it blank",
                    )
            seen.append((name, prefix))


def classes(settled: Settled, offering: Offered) -> Iterator[Finding]:
    """A class that the design gives, against what it asks."""
    for name, cloud in settled.clouds.items():
        if cloud.gateway is None:
            continue
        here: Location = ("clouds", name, "gateway", "class")
        given = cloud.gateway.gateway_class
        judged = judge_classes(cloud.gateway.demand, offering.of(name))
        mine = next((j for j in judged if j.entry.name == given), None)
        if cloud_key(name, "gateway", "class") in settled.chosen or mine is None:
            continue
        if mine.lacks:
            yield Finding(
                Severity.ERROR,
                "class-short",
                here,
                f"class {given} {mine.lacks}",
                "it shows when the gateway is built and loaded, and another takes as long again",
                "leave the class blank, or see 'obrin classes' for one that does it",
            )
            continue
        best = next(j.entry for j in judged if not j.lacks)
        if best.monthly < mine.entry.monthly:
            yield Finding(
                Severity.NOTE,
                "class-dear",
                here,
                f"class {given} costs {plain(mine.entry.monthly)} credits a month; "
                f"{best.name} does all that is asked for {plain(best.monthly)}",
                f"{plain(mine.entry.monthly - best.monthly)} credits a month buy nothing asked for",
                f"use {best.name}, or ask for what {given} can do more",
            )


def limits(settled: Settled, offering: Offered) -> Iterator[Finding]:
    """What the cloud does not allow: sizes, and ranges nobody may use."""
    for name, cloud in settled.clouds.items():
        offered = offering.of(name)
        for space in cloud.spaces.ipv4 or ():
            if space.length < offered.largest_space:
                yield Finding(
                    Severity.ERROR,
                    "space-size",
                    ("clouds", name, "space"),
                    f"{space} is larger than the /{offered.largest_space} that the cloud allows",
                    "the cloud refuses the network",
                    f"use prefixes of a /{offered.largest_space} or longer",
                )
        for subnet in cloud.subnets.values():
            held = subnet.prefix.ipv4
            if held is None:
                continue
            length = held.length
            if not offered.largest_subnet <= length <= offered.smallest_subnet:
                yield Finding(
                    Severity.ERROR,
                    "subnet-size",
                    ("clouds", name, "subnets", subnet.name),
                    f"{held} is not between a /{offered.largest_subnet} and a "
                    f"/{offered.smallest_subnet}, which is what the cloud allows",
                    "the cloud refuses the subnet",
                    "choose another size, or leave it blank",
                )
        for prefix in cloud.all_spaces:
            for forbidden in offered.forbidden:
                if forbidden.overlaps(prefix):
                    yield Finding(
                        Severity.ERROR,
                        "space-forbidden",
                        ("clouds", name, "space"),
                        f"{prefix} overlaps {forbidden}, which the cloud does not allow",
                        "the cloud refuses the network",
                        "use another range, or leave it blank",
                    )
