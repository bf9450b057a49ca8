"""What must work and what must not, once for each family that it is said of."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import date

from obrin.core.design.model import Expectation
from obrin.core.design.places import NetworkRef
from obrin.core.design.values import Flow
from obrin.core.settled.clouds import SettledCloud
from obrin.core.settled.sites import SettledSite

FAMILY_NAMES = {32: "IPv4", 128: "IPv6"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Expected:
    """An expectation of the design (its `number` counts from 1) in one family. Both ends name it.
    `load` and `largest` are Mbit/s in both families together, and stand at the first of them."""

    number: int
    source: NetworkRef
    destination: NetworkRef
    flow: Flow
    must: str
    until: date | None = None
    load: float | None = None
    largest: float | None = None
    alone: bool = True

    @property
    def bits(self) -> int:
        return self.source.family

    @property
    def family(self) -> str:
        return FAMILY_NAMES[self.bits]

    @property
    def service(self) -> str:
        """The flow as text, with the family where it is expected in both."""
        return str(self.flow) if self.alone else f"{self.flow} over {self.family}"

    @property
    def words(self) -> str:
        """All of it as text."""
        return f"{self.service} from {self.source} to {self.destination}"


def families_of(
    reference: NetworkRef,
    sites: Mapping[str, SettledSite],
    clouds: Mapping[str, SettledCloud],
    carried: tuple[int, ...],
) -> tuple[int, ...]:
    """Return those that a network has addresses of, in bits; the internet is asked over the
    first."""
    if reference.is_internet:
        return carried[:1]
    if reference.family:
        return (reference.family,)
    holder = clouds.get(reference.place)
    held = (
        sites[reference.place].networks[reference.network].prefix
        if holder is None
        else holder.subnets[reference.network].prefix
    )
    return tuple(prefix.bits for prefix in held)


def expected(
    wishes: list[Expectation], families: Callable[[NetworkRef], tuple[int, ...]]
) -> Iterator[Expected]:
    """List them in the order of the design. `families` gives those that a network has addresses
    of."""
    for number, wish in enumerate(wishes, 1):
        theirs = families(wish.destination)
        both = [bits for bits in families(wish.source) if bits in theirs]
        for index, bits in enumerate(both or families(wish.source)[:1]):
            yield Expected(
                number=number,
                source=replace(wish.source, bits=bits),
                destination=replace(wish.destination, bits=bits),
                flow=wish.flow,
                must=wish.must,
                until=wish.until,
                load=None if index else wish.load,
                largest=None if index else wish.largest,
                alone=len(both) < 2,
            )
