"""Filling the blanks: deterministic, and stable because what was chosen once is kept if it fits.

Every blank is a `place` in the design. `settle` visits them in a fixed order: suites, AS numbers,
classes, address spaces, subnets, public addresses, inside blocks. At each it takes, in this order,
what the design says, what was chosen before if it still fits, the first value that fits.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from functools import partial

from obrin.core.address.allocate import first_free, largest_free, last_free, length_for
from obrin.core.address.prefix import (
    LINK_LOCAL_IPV4,
    PRIVATE_IPV4,
    Prefix,
    format_address,
    parse_ipv4,
    parse_prefix,
)
from obrin.core.design.choices import Choice, Choices, Value
from obrin.core.design.model import Cloud, Design
from obrin.core.design.offering import Demand, Offering
from obrin.core.design.references import all_suites
from obrin.core.errors import AddressError, SettleError
from obrin.core.ipsec.suite import SHIPPED, Suite

PRIVATE_AS = (range(64512, 65535), range(4200000000, 4294967295))  # RFC 6996
DEFAULT_HOSTS = 200
SPACE_POOLS = (parse_prefix("10.64.0.0/10"), *PRIVATE_IPV4)
"""Where cloud spaces come from: the middle of 10/8 first, since everybody begins at its start."""


@dataclass(slots=True)
class _Work:
    """What is known while the blanks are being filled."""

    design: Design
    previous: Choices
    offering: Offering
    suites: dict[str, Suite]
    chosen: dict[str, Choice] = field(default_factory=dict)

    def keep(self, key: str, fits: Callable[[Value], bool]) -> bool:
        """Take over an earlier choice when it still fits."""
        earlier = self.previous.get(key)
        if earlier is None:
            return False
        try:
            if not fits(earlier.value):
                return False
        except (AddressError, ValueError, TypeError, AttributeError):
            return False
        self.chosen[key] = earlier
        return True

    def choose(self, key: str, value: Value, why: str) -> None:
        self.chosen[key] = Choice(value, why)


def settle(design: Design, previous: Choices, offering: Offering) -> dict[str, Choice]:
    """A choice for every blank, by place. Raises SettleError naming the bottleneck."""
    work = _Work(design, previous, offering, all_suites(design))
    _suites(work)
    _as_numbers(work)
    for name, cloud in design.clouds.items():
        _gateway_class(work, name, cloud)
    _spaces(work)
    for name, cloud in design.clouds.items():
        _subnets(work, name, cloud)
    _public_addresses(work)
    _inside_blocks(work)
    return work.chosen


def common_suites(design: Design, link_name: str, suites: dict[str, Suite]) -> list[str]:
    """Names of the suites that every end of a link offers, strongest first, then in order."""
    link = design.links[link_name]
    site, cloud = design.sites[link.site], design.clouds[link.cloud]
    default = list(SHIPPED)
    ends = [cloud.gateway.offers or default]
    for name in dict.fromkeys(t.gateway for t in link.tunnels.values()):
        ends.append(site.gateways[name].offers or default)
    both = [name for name in ends[-1] if all(name in end for end in ends)]
    return sorted(both, key=lambda name: -suites[name].strength)


def _suites(work: _Work) -> None:
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


def _as_numbers(work: _Work) -> None:
    """A number for each cloud and each site; the gateways of one site share theirs."""
    design = work.design
    used: set[int] = {c.gateway.asn for c in design.clouds.values() if c.gateway.asn}
    used |= {g.asn for s in design.sites.values() for g in s.gateways.values() if g.asn}
    blanks: list[tuple[str, list[str]]] = [
        (f"cloud {name}", [f"clouds.{name}.gateway.as"])
        for name, cloud in design.clouds.items()
        if cloud.gateway.asn is None
    ]
    for name, site in design.sites.items():
        keys = [f"sites.{name}.gateways.{g}.as" for g, e in site.gateways.items() if e.asn is None]
        given = next((g.asn for g in site.gateways.values() if g.asn), None)
        if given is not None:
            for key in keys:
                work.choose(key, given, f"the same as the other gateways of {name}")
        elif keys:
            blanks.append((f"site {name}", keys))
    still_blank = []
    for owner, keys in blanks:
        if work.keep(keys[0], lambda value: isinstance(value, int) and value not in used):
            number = work.chosen[keys[0]].value
            used.add(int(str(number)))
            _share(work, keys[1:], number, work.chosen[keys[0]].why)
        else:
            still_blank.append((owner, keys))
    numbers = (n for pool in PRIVATE_AS for n in pool)
    for owner, keys in still_blank:
        number = next(n for n in numbers if n not in used)
        _share(work, keys, number, f"the lowest private AS number free for {owner}")


def _share(work: _Work, keys: list[str], number: Value, why: str) -> None:
    for key in keys:
        if not work.keep(key, number.__eq__):
            work.choose(key, number, why)


def _gateway_class(work: _Work, name: str, cloud: Cloud) -> None:
    if cloud.gateway.gateway_class is not None:
        return
    links = [link for link in work.design.links.values() if link.cloud == name]
    asked = Demand(
        cloud.gateway.throughput,
        sum(len(link.tunnels) for link in links),
        any(link.routing == "bgp" for link in links),
        cloud.gateway.instances,
    )
    key = f"clouds.{name}.gateway.class"
    reasons: list[str] = []
    for candidate in sorted(work.offering.classes, key=lambda c: c.monthly):
        lacks = candidate.lacks(asked)
        if not lacks:
            why = f"the cheapest that fits ({candidate.monthly} credits a month)"
            if reasons:
                why += "; " + "; ".join(reasons)
            work.choose(key, candidate.name, why)
            return
        reasons.append(f"{candidate.name} {lacks}")
    raise SettleError(
        f"clouds.{name}.gateway: no class serves this: {'; '.join(reasons)}. "
        "Ask less of one gateway, or add a second cloud network"
    )


def gateway_subnet_length(class_name: str, offering: Offering) -> int:
    """The prefix length that a class needs; an unknown class is given the largest."""
    for candidate in offering.classes:
        if candidate.name == class_name:
            return candidate.subnet_length
    return min(c.subnet_length for c in offering.classes)


def _chosen_class(work: _Work, name: str, cloud: Cloud) -> str:
    given = cloud.gateway.gateway_class
    return given if given is not None else str(work.chosen[f"clouds.{name}.gateway.class"].value)


def occupied(design: Design) -> Iterator[Prefix]:
    """Every range that a cloud space must stay clear of."""
    for site in design.sites.values():
        yield from site.networks.values()
    yield from design.elsewhere.values()


def _spaces(work: _Work) -> None:
    used = list(occupied(work.design))
    used += [cloud.space for cloud in work.design.clouds.values() if cloud.space]
    blanks = {n: c for n, c in work.design.clouds.items() if c.space is None}
    lengths = {name: _space_length(work, name, cloud) for name, cloud in blanks.items()}
    for name in blanks:
        key = f"clouds.{name}.space"
        if work.keep(key, partial(_fits_space, lengths[name], used)):
            used.append(parse_prefix(str(work.chosen[key].value)))
    for name, cloud in blanks.items():
        key = f"clouds.{name}.space"
        if key in work.chosen:
            continue
        length = lengths[name]
        inner = [s.prefix for s in cloud.subnets.values() if s.prefix]
        inner += [cloud.gateway.subnet] if cloud.gateway.subnet else []
        if inner:
            space = _around(inner, length)
            work.choose(key, str(space), "around the subnets given, with room for the others")
        else:
            found = first_free(length, SPACE_POOLS, used)
            if found is None:
                raise SettleError(_no_room(f"clouds.{name}.space", length, SPACE_POOLS, used))
            space = found
            why = f"the first private /{length} that no site, cloud or range elsewhere uses"
            work.choose(key, str(space), why)
        used.append(space)


def _fits_space(length: int, used: list[Prefix], value: Value) -> bool:
    prefix = parse_prefix(str(value))
    return prefix.length <= length and not any(prefix.overlaps(other) for other in used)


def _around(prefixes: list[Prefix], longest: int) -> Prefix:
    """The smallest prefix that covers all of them and is no longer than `longest`."""
    low, high = min(p.value for p in prefixes), max(p.last for p in prefixes)
    length = min(32 - (low ^ high).bit_length(), longest)
    return Prefix(32, low >> (32 - length) << (32 - length) if length else 0, length)


def _space_length(work: _Work, name: str, cloud: Cloud) -> int:
    """Room for every subnet and the gateway subnet, twice, so that the network can grow."""
    need = sum(1 << (32 - n) for n in _subnet_lengths(cloud, work.offering).values())
    class_name = _chosen_class(work, name, cloud)
    need += 1 << (32 - gateway_subnet_length(class_name, work.offering))
    return max(min(length_for(2 * need), 22), work.offering.largest_space)


def _subnet_lengths(cloud: Cloud, offering: Offering) -> dict[str, int]:
    return {
        name: subnet.prefix.length
        if subnet.prefix
        else min(
            length_for((subnet.hosts or DEFAULT_HOSTS) + offering.reserved),
            offering.smallest_subnet,
        )
        for name, subnet in cloud.subnets.items()
    }


def _no_room(place: str, length: int, pools: Iterable[Prefix], used: list[Prefix]) -> str:
    best = min((n for n in (largest_free(p, used) for p in pools) if n is not None), default=None)
    left = "nothing is free" if best is None else f"the largest free block is a /{best}"
    return (
        f"{place}: no free /{length}; {left}. "
        "Ask for fewer addresses, or free a range that stands in the way"
    )


def _subnets(work: _Work, name: str, cloud: Cloud) -> None:
    space = cloud.space or parse_prefix(str(work.chosen[f"clouds.{name}.space"].value))
    lengths = _subnet_lengths(cloud, work.offering)
    used = [s.prefix for s in cloud.subnets.values() if s.prefix]
    class_name = _chosen_class(work, name, cloud)
    gateway_length = gateway_subnet_length(class_name, work.offering)
    gateway_key = f"clouds.{name}.gateway.subnet"
    wanted: list[tuple[str, int]] = [
        (f"clouds.{name}.subnets.{n}.prefix", lengths[n])
        for n, s in cloud.subnets.items()
        if s.prefix is None
    ]
    if cloud.gateway.subnet is not None:
        used.append(cloud.gateway.subnet)
    else:
        wanted.append((gateway_key, gateway_length))
    for key, length in wanted:
        if work.keep(key, partial(_fits_subnet, length, space, used)):
            used.append(parse_prefix(str(work.chosen[key].value)))
    # Large before small, so that small ones do not break up the room of large ones.
    for key, length in sorted(wanted, key=lambda item: item[1]):
        if key in work.chosen:
            continue
        if key == gateway_key:
            found = last_free(length, space, used)
            why = f"the last free /{length} of the space; class {class_name} needs that size"
        else:
            found = first_free(length, [space], used)
            why = f"the first free /{length} of the space"
        if found is None:
            raise SettleError(_no_room(key, length, [space], used))
        work.choose(key, str(found), why)
        used.append(found)


def _fits_subnet(length: int, space: Prefix, used: list[Prefix], value: Value) -> bool:
    prefix = parse_prefix(str(value))
    return (
        prefix.length <= length
        and space.covers(prefix)
        and not any(prefix.overlaps(other) for other in used)
    )


def _public_addresses(work: _Work) -> None:
    design, pool = work.design, work.offering.public_pool
    used = {
        parse_ipv4(uplink.address)
        for site in design.sites.values()
        for gateway in site.gateways.values()
        for uplink in gateway.uplinks.values()
    }
    for cloud in design.clouds.values():
        used |= {parse_ipv4(text) for text in cloud.gateway.addresses or ()}
    blanks = {n: c for n, c in design.clouds.items() if c.gateway.addresses is None}

    def fits(count: int, value: Value) -> bool:
        if not isinstance(value, list) or len(value) != count:
            return False
        numbers = [parse_ipv4(text) for text in value]
        return all(pool.contains(n) and n not in used for n in numbers)

    for name, cloud in blanks.items():
        key, count = f"clouds.{name}.gateway.addresses", cloud.gateway.instances
        if work.keep(key, partial(fits, count)):
            used |= {parse_ipv4(text) for text in _texts(work.chosen[key].value)}
    free = (n for n in range(pool.value + 1, pool.last) if n not in used)
    for name, cloud in blanks.items():
        key = f"clouds.{name}.gateway.addresses"
        if key in work.chosen:
            continue
        numbers = [n for n, _ in zip(free, range(cloud.gateway.instances), strict=False)]
        if len(numbers) < cloud.gateway.instances:
            raise SettleError(f"{key}: the cloud's public pool {pool} is used up. Give addresses")
        used |= set(numbers)
        work.choose(key, [format_address(n) for n in numbers], f"reserved from the pool {pool}")


def _texts(value: Value) -> list[str]:
    return value if isinstance(value, list) else []


def _inside_blocks(work: _Work) -> None:
    used = {t.inside for link in work.design.links.values() for t in link.tunnels.values()}
    taken = {block for block in used if block is not None}
    reserved = work.offering.reserved_inside
    blanks = [
        f"links.{link_name}.tunnels.{name}.inside"
        for link_name, link in work.design.links.items()
        for name, tunnel in link.tunnels.items()
        if tunnel.inside is None
    ]

    def free(block: Prefix) -> bool:
        return block not in taken and not any(r.overlaps(block) for r in reserved)

    def fits(value: Value) -> bool:
        block = parse_prefix(str(value))
        return block.length == 30 and LINK_LOCAL_IPV4.covers(block) and free(block)

    for key in blanks:
        if work.keep(key, fits):
            taken.add(parse_prefix(str(work.chosen[key].value)))
    given = [block for block in taken if block.length != 30]
    blocks = (
        block
        for block in LINK_LOCAL_IPV4.children(30)
        if free(block) and not any(g.overlaps(block) for g in given)
    )
    for key in blanks:
        if key in work.chosen:
            continue
        block = next(blocks, None)
        if block is None:
            raise SettleError(f"{key}: no free /30 is left in {LINK_LOCAL_IPV4}. Give one")
        taken.add(block)
        work.choose(key, str(block), f"the first free /30 of {LINK_LOCAL_IPV4}")
