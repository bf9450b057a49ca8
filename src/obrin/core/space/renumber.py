"""A network from an old range to a new one: the mapping, and an order that keeps things up."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from obrin.core.address.prefix import Prefix, format_address
from obrin.core.design.places import NetworkRef
from obrin.core.errors import ObrinError
from obrin.core.naming import unknown
from obrin.core.settled.model import Settled
from obrin.core.space.remedies import free_like
from obrin.core.space.view import SpaceView

MOST_ADDRESSES = 65536


@dataclass(frozen=True, slots=True)
class RenumberStep:
    """`up` says what works after the step."""

    what: str
    check: str
    up: str


@dataclass(frozen=True, slots=True)
class RenumberPlan:
    reference: str
    old: Prefix
    new: Prefix
    steps: tuple[RenumberStep, ...]

    def addresses(self) -> Iterator[tuple[str, str]]:
        """Every old address with its new one: the host part stays."""
        for offset in range(min(self.old.size, self.new.size, MOST_ADDRESSES)):
            yield (
                format_address(self.old.value + offset, self.old.bits),
                format_address(self.new.value + offset, self.new.bits),
            )


def renumber_plan(
    settled: Settled, view: SpaceView, reference: NetworkRef, new: Prefix | None
) -> RenumberPlan:
    """Plan a new range for a site's network. Raises ObrinError when it cannot go there."""
    held = settled.sites.get(reference.place)
    if held is None or reference.network not in held.networks:
        known = (f"{s.name}/{n}" for s in settled.sites.values() for n in s.networks)
        raise unknown("site network", str(reference), known)
    prefixes = held.networks[reference.network].prefix
    old = prefixes.first if new is None else prefixes.of(new.bits)
    if old is None:
        raise ObrinError(f"{reference} has no prefix of the family of {new}; it has {prefixes}")
    if new is None:
        try:
            new = free_like(view, old, "sites", [])
        except LookupError as error:
            raise ObrinError(f"{error}. Name a range with --to") from None
    if new.bits != old.bits or new.length > old.length:
        raise ObrinError(f"{new} does not hold the hosts of {old}. Give at least a /{old.length}")
    clashes = view.clashes(new)
    if clashes:
        raise ObrinError(f"{new} collides with {clashes[0].prefix} of {clashes[0].label}")
    return RenumberPlan(str(reference), old, new, tuple(_steps(settled, reference, old, new)))


def _steps(
    settled: Settled, reference: NetworkRef, old: Prefix, new: Prefix
) -> Iterator[RenumberStep]:
    site, name = reference.place, reference.network
    gateways = ", ".join(g.name for g in settled.gateways.values() if g.site == site)
    links = [
        link
        for link in settled.links.values()
        if link.site == site and any(part.network == name for part in link.exposures)
    ]
    far = ", ".join(dict.fromkeys(link.cloud for link in links)) or "nobody"
    flows = {
        e.number for e in settled.expectations if reference in (e.source.whole, e.destination.whole)
    }
    both = f"{old} and {new}"
    yield RenumberStep(
        f"In the design, add network {name}-new: {new} to {site}"
        + (f" and to link {', '.join(link.name for link in links)}" if links else "")
        + (f", and a copy of the {len(flows)} expectations of {name} for it" if flows else "")
        + "; settle, check, hand over",
        "'obrin check' finds nothing; 'obrin space clash' is silent",
        f"{old}, as before",
    )
    yield RenumberStep(
        f"At {gateways}: give the segment {new.address(1)}/{new.length} beside its old address",
        f"a host with an address of {new} reaches {new.address(1)}",
        f"{old}",
    )
    if links:
        yield RenumberStep(
            f"At {far} and {gateways}: enter filters and accepted routes for {new}; "
            f"announce {new} beside {old}",
            f"the table at {far} shows {both} through the same tunnels",
            both,
        )
    yield from _moving(old, new)
    if links:
        yield RenumberStep(
            f"Withdraw {old}, then take its filters out at {far} and {gateways}",
            f"the table at {far} shows {new} only",
            str(new),
        )
    yield RenumberStep(
        f"At {gateways}: take the old address off the segment. In the design, remove {name} and, "
        f"if you like, call {name}-new by its name",
        "'obrin check' finds nothing",
        str(new),
    )


def _moving(old: Prefix, new: Prefix) -> Iterator[RenumberStep]:
    """Steps while both ranges are up and hosts move to the new one."""
    both = f"{old} and {new}"
    yield RenumberStep(
        "Lower the lifetimes of DNS answers and DHCP leases to minutes, and wait for the old ones",
        "names are asked again after minutes",
        both,
    )
    yield RenumberStep(
        "Move clients: hand out leases from the new range",
        f"leases show {new}; 'obrin probe' from the new range is as wished",
        both,
    )
    yield RenumberStep(
        "Move servers one by one: add the new address, change the name, wait, drop the old address",
        "each answers at its new address before the old one goes",
        both,
    )
    yield RenumberStep(
        f"Watch the counters of the filter rules for {old} until they stand still for a day",
        "no packet from or to the old range is counted",
        both,
    )
