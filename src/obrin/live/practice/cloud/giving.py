"""Addresses that the practice cloud chooses by itself, known only once they are there."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

from obrin.core.address.prefix import Prefix, parse_address
from obrin.core.catalogue.offering import Offered
from obrin.live.practice.cloud.bodies import Address, Gateway, Subnet
from obrin.live.practice.cloud.resource import Resource

Resources = Mapping[tuple[str, str], Resource]
BITS = {"ipv4": 32, "ipv6": 128}
AWAY = 11
"""It takes public addresses from so far within the pool, peers from the end of their subnet: not
those that a plan would have guessed."""


class Giving:
    """`wished` are addresses by `kind/name` that it gives where a world is to be as planned."""

    def __init__(self, offering: Offered, wished: Mapping[str, Sequence[str]]) -> None:
        self._offering = offering
        self._wished = wished

    def give(self, held: Resources, resource: Resource, before: Resource | None) -> tuple[str, ...]:
        """What it gives to a resource; the same as before, where that was asked for as well."""
        body = resource.body
        if isinstance(body, Address) and body.families:
            wanted = len(body.families)
            found = self._public(held, resource.name, body)
        elif isinstance(body, Gateway) and not body.peer_addresses:
            wanted = len(body.public_addresses)
            found = _peers(held, body)
        else:
            return ()
        if before is not None and len(before.given) == wanted:
            return before.given
        wished = self._wished.get(f"{resource.kind}/{resource.name}")
        return tuple(found) if wished is None else tuple(wished)

    def _public(self, held: Resources, name: str, body: Address) -> Iterator[str]:
        reserved = [r for (kind, _), r in held.items() if kind == "addresses"]
        taken = {text for resource in reserved for text in resource.addresses}
        cloud = name.rpartition(".")[0]
        for family in body.families:
            pool = self._offering.of(cloud).public(BITS[family])
            yield _first_free(pool, range(AWAY, min(pool.size, 1 << 16) - 1), taken)


def _peers(held: Resources, body: Gateway) -> Iterator[str]:
    subnets = (r.body for (kind, _), r in held.items() if kind == "subnets")
    own = next(
        s.prefixes[0]
        for s in subnets
        if isinstance(s, Subnet) and s.network == body.network and s.role == "gateway"
    )
    taken: set[str] = set()
    for _ in body.public_addresses:
        found = _first_free(own, range(min(own.size, 1 << 16) - 2, 0, -1), taken)
        taken.add(found)
        yield found


def _first_free(pool: Prefix, numbers: Iterable[int], taken: Iterable[str]) -> str:
    """Take a free one; there always is one: quotas see to that."""
    held = {parse_address(text) for text in taken}
    return str(next(a for a in map(pool.address_at, numbers) if a not in held))
