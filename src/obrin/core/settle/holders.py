"""Sites and clouds as holders of address space: what they have, and what still needs a place."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from obrin.core.address.prefix import Prefix
from obrin.core.address.space import FreeSpace, smallest_cover
from obrin.core.design.model import Cloud
from obrin.core.design.sites import Site
from obrin.core.settle.blank import cloud_key, site_key, suffix
from obrin.core.settle.work import (
    Work,
    block_length,
    chosen_class,
    cloud_space,
    gateway_subnet,
    gateway_subnet_length,
    given_prefix,
    network_length,
    subnet_length,
)

USUAL_SPACE, USUAL_SPACE6 = 22, 56
"""A cloud's space is no smaller than this while there is room."""


@dataclass(slots=True, kw_only=True)
class Holder:
    """A site or a cloud with blanks. Keys are places of blanks, with the lengths that they need.

    `blocks` is the space it holds; `fixed` says that the design gives it. `inner` is what is free
    of it. A cloud's space is its own as a whole; what a site holds spare is a wish.
    """

    kind: str
    name: str
    region: str | None
    growth: float | None
    fixed: bool
    blocks: list[Prefix]
    inner: FreeSpace
    missing: dict[str, int] = field(default_factory=dict)
    kept: list[str] = field(default_factory=list)

    @property
    def is_cloud(self) -> bool:
        return self.kind == "clouds"

    @property
    def place(self) -> str:
        return f"{self.kind}.{self.name}"

    def claimant(self) -> tuple[str, str | None, str]:
        return (self.kind, self.region, self.name)


def site_space(site: Site, bits: int) -> list[Prefix]:
    """The space that the design gives a site."""
    return list((site.space if bits == 32 else site.space6) or ())


def given_parts(entity: Site | Cloud, bits: int) -> list[Prefix]:
    """Networks or subnets with a value of their own."""
    parts = entity.networks.values() if isinstance(entity, Site) else entity.subnets.values()
    found = [p for part in parts if (p := given_prefix(part, bits)) is not None]
    if isinstance(entity, Cloud) and (gateway := gateway_subnet(entity, bits)) is not None:
        found.append(gateway)
    return found


def blank_parts(work: Work, kind: str, name: str, bits: int) -> Iterator[tuple[str, int]]:
    """Keys and lengths of the blank networks of a site, or subnets of a cloud."""
    tail = suffix(bits)
    if kind == "sites":
        for network, wish in work.design.sites[name].networks.items():
            if given_prefix(wish, bits) is None:
                key = site_key(name, "networks", network, "prefix") + tail
                yield key, network_length(work, wish, bits)
        return
    cloud = work.design.clouds[name]
    for subnet, entity in cloud.subnets.items():
        if given_prefix(entity, bits) is None:
            key = cloud_key(name, "subnets", subnet, "prefix") + tail
            yield key, subnet_length(work, name, entity, bits)
    if name in work.needs.cloud_gateways and gateway_subnet(cloud, bits) is None:
        length = gateway_subnet_length(
            chosen_class(work, name), work.offering.of(name), cloud.gateway.instances
        )
        yield cloud_key(name, "gateway", "subnet") + tail, 64 if bits == 128 else length


def given_ranges(work: Work, bits: int) -> Iterator[Prefix]:
    """Every range of a family that the design gives, and those that the cloud forbids."""
    design = work.design
    for site in design.sites.values():
        yield from site_space(site, bits)
        yield from given_parts(site, bits)
    for cloud in design.clouds.values():
        yield from cloud_space(cloud, bits)
    for link in design.links.values():
        seen = (*link.seen_as.values(), *link.seen_as6.values(), *(link.cloud_seen_as or ()))
        yield from (p for p in seen if p is not None and p.bits == bits)
    for entry in design.elsewhere.values():
        if entry.prefix.bits == bits:
            yield entry.prefix
    for prefix in work.offering.forbidden:
        if prefix.bits == bits:
            yield prefix


@dataclass(slots=True)
class Occupied:
    """`taken` is all space; `hard` is what nobody may touch, `soft` what sites hold spare."""

    bits: int
    taken: FreeSpace
    hard: list[Prefix]
    soft: list[Prefix] = field(default_factory=list)
    holders: list[Holder] = field(default_factory=list)

    def claim(self, prefix: Prefix) -> bool:
        """Take a range that must not be touched any more; False when somebody has it."""
        if not self.taken.reserve(prefix):
            return False
        self.hard.append(prefix)
        return True

    def hold(self, holder: Holder, block: Prefix) -> None:
        """Note a block that a holder got; it is taken already."""
        (self.hard if holder.is_cloud else self.soft).append(block)


def survey(work: Work, bits: int) -> Occupied:
    """Keep every earlier choice that still fits, in the order of the design."""
    given = list(given_ranges(work, bits))
    found = Occupied(bits, FreeSpace([Prefix(bits, 0, 0)], given), given)
    for name, cloud in work.design.clouds.items():
        _take_up(work, found, "clouds", name, cloud)
    for name, site in work.design.sites.items():
        _take_up(work, found, "sites", name, site)
    return found


def _take_up(work: Work, found: Occupied, kind: str, name: str, entity: Site | Cloud) -> None:
    bits = found.bits
    blanks = dict(blank_parts(work, kind, name, bits))
    space = site_space(entity, bits) if isinstance(entity, Site) else cloud_space(entity, bits)
    if not blanks and (isinstance(entity, Site) or space):
        return
    own, fixed, blocks = given_parts(entity, bits), bool(space), list(space)
    if not fixed:
        for block in work.earlier_prefixes(f"{kind}.{name}.space{suffix(bits)}", bits):
            if found.taken.reserve(block):
                blocks.append(block)
                (found.hard if kind == "clouds" else found.soft).append(block)
        if kind == "clouds" and own and not all(any(b.covers(p) for b in blocks) for p in own):
            blocks = _around(work, name, found, own, list(blanks.values()))
    holder = Holder(
        kind=kind,
        name=name,
        region=entity.region,
        growth=entity.growth,
        fixed=fixed,
        blocks=blocks,
        inner=FreeSpace(blocks, own, bits),
    )
    found.holders.append(holder)
    _keep(work, found, holder, blanks)


def _around(
    work: Work, cloud: str, found: Occupied, own: list[Prefix], blanks: list[int]
) -> list[Prefix]:
    """A blank space whose subnets are partly given lies around these, with room for the others."""
    bits = found.bits
    around = smallest_cover(own)
    need = block_length(bits, [p.length for p in own] + blanks, 2.0)
    largest = work.offering.of(cloud).largest_space
    usual = USUAL_SPACE6 if bits == 128 else max(min(need, USUAL_SPACE), largest)
    space = around.widened(min(around.length, usual, need))
    found.hard.append(space)
    found.taken.reserve(space)
    return [space]


def _keep(work: Work, found: Occupied, holder: Holder, blanks: dict[str, int]) -> None:
    resized: dict[str, tuple[Prefix, int]] = {}
    for key, length in blanks.items():
        earlier = work.earlier_prefixes(key, found.bits)
        if earlier and earlier[0].length > length:
            resized[key] = earlier[0], length
        elif earlier and _take(holder, found, earlier[0]):
            work.chosen[key] = work.previous[key]
            holder.kept.append(key)
        else:
            holder.missing[key] = length
    for key, (one, length) in resized.items():
        wider = one.widened(length)
        if _take(holder, found, wider):
            work.choose(key, str(wider), f"{one}, which was too small, widened in place")
        else:
            holder.missing[key] = length


def _take(holder: Holder, found: Occupied, prefix: Prefix) -> bool:
    """Take a place inside the holder's space or, for a site, anywhere that is free."""
    if holder.inner.reserve(prefix):
        if not holder.is_cloud:
            found.hard.append(prefix)
        return True
    if holder.is_cloud or any(block.overlaps(prefix) for block in holder.blocks):
        return False
    return found.claim(prefix)
