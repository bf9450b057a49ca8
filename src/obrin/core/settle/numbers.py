"""AS numbers of clouds and sites, and public addresses of cloud gateways."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from functools import partial

from obrin.core.address.prefix import Address, Prefix, parse_address
from obrin.core.catalogue.as_numbers import PRIVATE_AS
from obrin.core.design.model import Design
from obrin.core.errors import AddressError, SettleError
from obrin.core.settle.blank import Blank, cloud_key, site_key
from obrin.core.settle.choices import Value
from obrin.core.settle.work import Work, families, gateway_subnet


def as_pools(design: Design, kind: str) -> tuple[range, ...]:
    """The ranges that AS numbers of a `site` or a `cloud` come from."""
    given = design.as_numbers.clouds if kind == "cloud" else design.as_numbers.sites
    return tuple(given) if given else PRIVATE_AS


def settle_as_numbers(work: Work) -> None:
    """Choose an AS number for each cloud and each site that speaks BGP; the gateways of one site
    share theirs."""
    design = work.design
    used: set[int] = {c.gateway.asn for c in design.clouds.values() if c.gateway.asn}
    used |= {g.asn for s in design.sites.values() for g in s.gateways.values() if g.asn}
    blanks: list[tuple[str, list[str]]] = [
        (f"cloud {name}", [cloud_key(name, "gateway", "as")])
        for name, cloud in design.clouds.items()
        if cloud.gateway.asn is None and name in work.needs.clouds_with_bgp
    ]
    for name, site in design.sites.items():
        keys = [
            site_key(name, "gateways", gateway, "as")
            for gateway, entity in site.gateways.items()
            if entity.asn is None and gateway in work.needs.gateways_with_bgp
        ]
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
    left = work.left_values("as")
    for owner, keys in still_blank:
        pools = as_pools(design, owner.partition(" ")[0])
        unused = (n for pool in pools for n in pool if n not in used)
        free = next((n for n in unused if str(n) not in left), None)
        free = free or next((n for pool in pools for n in pool if n not in used), None)
        if free is None:
            texts = ", ".join(f"{p.start}-{p.stop - 1}" for p in pools)
            raise SettleError(
                f"{keys[0]}: every AS number of {texts} is in use. Add a range to 'as-numbers'"
            )
        used.add(free)
        _share(work, keys, free, f"the lowest AS number of its pool that is free for {owner}")


def _share(work: Work, keys: list[str], number: Value, why: str) -> None:
    for key in keys:
        if not work.keep(key, lambda value: value == number):
            work.choose(key, number, why)


def settle_public_addresses(work: Work, bits: int) -> None:
    """Settle public addresses of a family that somebody calls."""
    design = work.design
    used = {
        parse_address(uplink.address)
        for site in design.sites.values()
        for gateway in site.gateways.values()
        for uplink in gateway.uplinks.values()
    }
    for cloud in design.clouds.values():
        used |= {parse_address(text) for text in cloud.gateway.public(bits) or ()}
    blanks = {
        name: cloud
        for name, cloud in design.clouds.items()
        if cloud.gateway.public(bits) is None
        and name in work.needs.cloud_gateways
        and bits in work.needs.outside[name]
    }

    def fits(pool: Prefix | None, count: int, value: Value) -> bool:
        if not isinstance(value, list) or len(value) != count:
            return False
        held = [parse_address(text) for text in value]
        if pool is not None and not all(map(pool.holds, held)):
            return False
        return used.isdisjoint(held)

    waiting = []
    for name, cloud in blanks.items():
        key = cloud_key(name, "gateway", "addresses", bits=bits)
        pool = work.offering.of(name).public(bits)
        bounds = None if work.was_assigned(key) else pool
        if work.keep(key, partial(fits, bounds, cloud.gateway.instances)):
            used |= {parse_address(text) for text in _texts(work.chosen[key].value)}
        else:
            waiting.append((key, pool, cloud.gateway.instances))
    left = work.left_values("addresses")
    free: dict[Prefix, Iterator[Address]] = {}
    for key, pool, count in waiting:
        if pool not in free:
            free[pool] = _free_in(pool, used, left)
        found = _kept(work, key, pool, used)[:count]
        used |= set(found)
        # One is left over after each cloud's, so that the blocks of two clouds do not touch.
        found += [
            address for address, _ in zip(free[pool], range(count - len(found)), strict=False)
        ]
        if len(found) < count:
            raise SettleError(f"{key}: the cloud's public pool {pool} is used up. Give addresses")
        used |= set(found)
        name = Blank.of(key).owner
        if "addresses" in design.clouds[name].gateway.assigns:
            why = f"stands in from the pool {pool} until the cloud assigns its own"
        else:
            why = f"reserved from the pool {pool}"
        work.choose(key, list(map(str, found)), why)


def _kept(work: Work, key: str, pool: Prefix, used: Collection[Address]) -> list[Address]:
    """What instances had before there were more or fewer of them."""
    earlier = work.previous.get(key)
    if earlier is None or work.was_assigned(key):
        return []
    try:
        held = [parse_address(text) for text in _texts(earlier.value)]
    except AddressError:
        return []
    return [a for a in held if pool.holds(a) and a not in used]


def _free_in(pool: Prefix, used: Collection[Address], left: set[str]) -> Iterator[Address]:
    """Free addresses of a pool; those that were given up come last."""
    for last in (False, True):
        for index in range(1, pool.size - 1):
            address = pool.address_at(index)
            if address not in used and (str(address) in left) is last:
                yield address


def settle_peers(work: Work) -> None:
    """Say where BGP ends in gateway subnets: kept if the cloud assigned it, and it still lies
    there."""

    def fits(own: Prefix, count: int, value: Value) -> bool:
        held = list(map(parse_address, _texts(value)))
        return len(held) == count and all(map(own.holds, held))

    bits = families(work.design)[0]
    for name, cloud in work.design.clouds.items():
        key = cloud_key(name, "gateway", "peers")
        if (
            cloud.gateway.peers is None
            and name in work.needs.cloud_gateways
            and work.was_assigned(key)
        ):
            here = cloud_key(name, "gateway", "subnet", bits=bits)
            own = work.prefix_of(here, gateway_subnet(cloud, bits))
            work.keep(key, partial(fits, own, cloud.gateway.instances))


def _texts(value: Value) -> list[str]:
    return value if isinstance(value, list) else []
