"""What is known while the blanks are being filled, and the sizes of what is wished."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from obrin.core.address.prefix import Prefix, parse_prefix
from obrin.core.address.space import length_for
from obrin.core.catalogue.offering import Offered, Offering
from obrin.core.design.model import Cloud, Design
from obrin.core.design.needs import Needs
from obrin.core.design.wishes import DEFAULT_HOSTS, Role, Wish
from obrin.core.errors import AddressError
from obrin.core.ipsec.suite import Suite
from obrin.core.settle.blank import Blank, cloud_key
from obrin.core.settle.choices import Choice, Choices, Value

SITE_RESERVED = 3
"""In a site's network: its own address, the broadcast address, the gateway's address."""


@dataclass(slots=True, kw_only=True)
class Work:
    """`random` are five bytes, for the one value that must be drawn (RFC 4193). `needs` says which
    ends have blanks at all. `left` are earlier choices that are given up."""

    design: Design
    previous: Choices
    offering: Offered
    suites: dict[str, Suite]
    needs: Needs
    random: bytes
    left: Choices = field(default_factory=dict)
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

    def was_assigned(self, key: str) -> bool:
        """Whether the earlier value is an end's own."""
        earlier = self.previous.get(key)
        return earlier is not None and bool(earlier.assigned_by)

    def choose(self, key: str, value: Value, why: str) -> None:
        """The words of an earlier choice stay with its value."""
        earlier = self.previous.get(key)
        same = earlier is not None and earlier.value == value
        self.chosen[key] = earlier if earlier is not None and same else Choice(value, why)

    def earlier_prefixes(self, key: str, bits: int) -> list[Prefix]:
        """What was chosen before under this key, as prefixes of a family; empty when unusable."""
        earlier = self.previous.get(key)
        if earlier is None:
            return []
        try:
            return [p for p in prefixes_in(earlier.value) if p.bits == bits]
        except AddressError:
            return []

    def left_prefixes(self, bits: int, *, inside: bool) -> list[Prefix]:
        """Prefixes that are given up: blocks inside tunnels, or all others."""
        keys = (key for key in self.left if (Blank.of(key).field == "inside") is inside)
        return [prefix for key in keys for prefix in self.earlier_prefixes(key, bits)]

    def left_values(self, field: str) -> set[str]:
        """Texts of what is given up under a name, those of lists one by one."""
        values = (c.value for key, c in self.left.items() if Blank.of(key).field == field)
        return {str(one) for v in values for one in (v if isinstance(v, list) else [v])}

    def prefixes_of(self, key: str, given: Sequence[Prefix]) -> list[Prefix]:
        """The given prefixes, or those chosen under the key. Raises KeyError."""
        return list(given) or prefixes_in(self.chosen[key].value)

    def prefix_of(self, key: str, given: Prefix | None) -> Prefix:
        """The given prefix, or the one chosen under the key. Raises KeyError."""
        return given if given is not None else parse_prefix(str(self.chosen[key].value))


def prefixes_in(value: Value) -> list[Prefix]:
    """One prefix or a list of them. Raises AddressError."""
    return [parse_prefix(t) for t in (value if isinstance(value, list) else [str(value)])]


FAMILIES = {"ipv4": (32,), "dual": (32, 128), "ipv6": (128,)}


def families(design: Design) -> tuple[int, ...]:
    """The address families that a design numbers, in bits."""
    return FAMILIES[design.stack]


def wished_length(wish: Wish, roles: dict[str, Role], reserved: int) -> int:
    """The IPv4 prefix length that holds what is wished, with room to grow if asked."""
    role = roles.get(wish.role) if wish.role else None
    growth = wish.growth or (role.growth if role else None) or 1.0
    length = wish.length or (None if wish.hosts or role is None else role.length)
    if length is not None:
        return max(length - math.ceil(math.log2(growth)), 1)
    hosts = wish.hosts or (role.hosts if role else None) or DEFAULT_HOSTS
    return length_for(math.ceil(hosts * growth) + reserved)


def subnet_length(work: Work, cloud: str, subnet: Wish, bits: int) -> int:
    """The length that a blank cloud subnet needs."""
    if bits == 128:
        return 64
    offering = work.offering.of(cloud)
    return min(
        wished_length(subnet, work.design.roles, offering.reserved), offering.smallest_subnet
    )


def network_length(work: Work, network: Wish, bits: int) -> int:
    """The length that a blank network of a site needs."""
    return 64 if bits == 128 else wished_length(network, work.design.roles, SITE_RESERVED)


def given_prefix(entity: Wish, bits: int) -> Prefix | None:
    return entity.prefix if bits == 32 else entity.prefix6


def cloud_space(cloud: Cloud, bits: int) -> tuple[Prefix, ...]:
    """The space that the design gives a cloud; empty when blank."""
    return (cloud.space if bits == 32 else cloud.space6) or ()


def gateway_subnet(cloud: Cloud, bits: int) -> Prefix | None:
    """The gateway subnet that the design gives."""
    return cloud.gateway.subnet if bits == 32 else cloud.gateway.subnet6


def gateway_subnet_length(class_name: str, offering: Offering, instances: int) -> int:
    """The IPv4 length that a gateway needs; an unknown class is given the largest.

    It holds what the cloud keeps, and for each instance its address and one for its replacement.
    """
    found = offering.find_class(class_name)
    least = found.subnet_length if found else min(c.subnet_length for c in offering.classes)
    return min(least, length_for(offering.reserved + 2 * instances))


def chosen_class(work: Work, name: str) -> str:
    given = work.design.clouds[name].gateway.gateway_class
    return (
        given if given is not None else str(work.chosen[cloud_key(name, "gateway", "class")].value)
    )


def block_length(bits: int, lengths: list[int], growth: float) -> int:
    """The length of one block that holds blocks of these lengths and grows by a factor."""
    total = sum(1 << (bits - length) for length in lengths)
    return max(bits - (math.ceil(total * growth) - 1).bit_length(), 0)
