"""Values of blanks: what the design gives, or else what was chosen."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.address.dual import Dual
from obrin.core.address.prefix import Address, Prefix, parse_address, parse_prefix
from obrin.core.design.model import Design
from obrin.core.errors import SettleError
from obrin.core.settle.blank import site_key
from obrin.core.settle.choices import Choices, Value
from obrin.core.settle.work import families, prefixes_in


@dataclass(frozen=True, slots=True)
class Picker:
    """Every method takes the place of a blank and what the design gives for it.

    All raise SettleError where the design gives nothing and nothing was chosen.
    """

    design: Design
    choices: Choices

    def value(self, key: str, given: Value | None) -> Value:
        if given is not None:
            return given
        choice = self.choices.get(key)
        if choice is None:
            raise SettleError(f"{key} is still blank. Run 'obrin settle' first")
        return choice.value

    def optional(self, key: str, given: Value | None) -> Value | None:
        """Return None where nothing is given or chosen."""
        choice = self.choices.get(key)
        return given if given is not None or choice is None else choice.value

    def assigned(self, key: str) -> bool:
        """Whether it is an end's own value."""
        choice = self.choices.get(key)
        return choice is not None and bool(choice.assigned_by)

    def integer(self, key: str, given: int | None) -> int:
        value = self.value(key, given)
        return int(value) if not isinstance(value, list) else int(value[0])

    def prefix(self, key: str, given: Prefix | None) -> Prefix:
        return given if given is not None else parse_prefix(str(self.value(key, None)))

    def prefixes(self, key: str, given: tuple[Prefix, ...] | None) -> tuple[Prefix, ...]:
        return given if given is not None else tuple(prefixes_in(self.value(key, None)))

    def dual(self, here: str, name: str, ipv4: Prefix | None, ipv6: Prefix | None) -> Dual[Prefix]:
        """A prefix of each family that the design carries; of another, nothing counts."""
        return Dual(
            self.prefix(f"{here}.{name}", ipv4) if 32 in self.families else None,
            self.prefix(f"{here}.{name}6", ipv6) if 128 in self.families else None,
        )

    def dual_spaces(
        self, here: str, ipv4: tuple[Prefix, ...] | None, ipv6: tuple[Prefix, ...] | None
    ) -> Dual[tuple[Prefix, ...]]:
        """The same for address space."""
        return Dual(
            self.prefixes(f"{here}.space", ipv4) if 32 in self.families else None,
            self.prefixes(f"{here}.space6", ipv6) if 128 in self.families else None,
        )

    @property
    def families(self) -> tuple[int, ...]:
        """Families in bits."""
        return families(self.design)

    def loopback(self, site: str, gateway: str) -> Address | None:
        """Given or chosen; None where the design has no pool for loopbacks."""
        given = self.design.sites[site].gateways[gateway].loopback
        choice = self.choices.get(site_key(site, "gateways", gateway, "loopback"))
        if given is None and choice is not None:
            given = str(choice.value)
        return None if given is None else parse_address(given)
