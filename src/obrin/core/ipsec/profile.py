"""What a device model is able to do, as far as it is known: None means that nobody said.

Order matters where a device prefers: the first algorithm of a list is its favourite.
"""

from __future__ import annotations

import string
from collections.abc import Iterator
from dataclasses import dataclass, field

from obrin.core.ipsec.liveness import Liveness
from obrin.core.ipsec.registry import Algorithm
from obrin.core.ipsec.suite import Suite
from obrin.core.quantity import plain

Algorithms = tuple[Algorithm, ...] | None
UNITS = {"s": 1.0, "min": 60.0, "h": 3600.0}


@dataclass(frozen=True, slots=True)
class LifetimeRange:
    """Seconds. `default` is what the device takes when nothing is entered; `shown` whether it shows
    that.

    `unit` is what its screen counts in, a key of UNITS.
    """

    least: float = 0.0
    most: float = float("inf")
    default: float | None = None
    unit: str | None = None
    shown: bool | None = None

    @property
    def step(self) -> float:
        """The least difference that can be entered, in seconds."""
        return UNITS[self.unit or "s"]

    def nearest(self, seconds: float) -> float:
        """The accepted lifetime nearest to a wish, from below where there is one."""
        whole = max(seconds // self.step, 1) * self.step
        return min(max(whole, self.least), self.most)

    def fault(self, seconds: float) -> str:
        """Why a lifetime cannot be entered; empty when it can."""
        if not self.least <= seconds <= self.most:
            return (
                f"{plain(seconds)} s is not between {plain(self.least)} s and {plain(self.most)} s"
            )
        if seconds % self.step:
            return f"{plain(seconds)} s is not a whole number of {self.unit}"
        return ""


@dataclass(frozen=True, slots=True)
class Phase:
    """Algorithms and lifetimes of the IKE SA, or of child SAs (then `prf` stays None)."""

    encryption: Algorithms = None
    integrity: Algorithms = None
    prf: Algorithms = None
    groups: Algorithms = None
    lifetime: LifetimeRange = LifetimeRange()


LETTERS = {
    "hexadecimal": "0123456789abcdef",
    "letters-and-digits": string.ascii_letters + string.digits,
    "printable": "".join(c for c in string.printable if c.isprintable() and c not in " \"'\\`"),
}
"""What keys may be made of. Quotes, backslashes and spaces are lost on too many screens."""


@dataclass(frozen=True, slots=True)
class KeyRules:
    """Lengths in characters; `characters` is a key of LETTERS."""

    least: int = 1
    most: int = 128
    characters: str = "printable"

    def faults(self, key: str) -> list[str]:
        """Why a device refuses a key, in words that do not quote it."""
        found = []
        if not self.least <= len(key) <= self.most:
            found.append(f"it has {len(key)} characters; {self.least} to {self.most} are accepted")
        strange = {c.lower() if self.characters == "hexadecimal" else c for c in key} - set(
            LETTERS[self.characters]
        )
        if strange and self.characters != "printable":
            found.append(f"only {self.characters.replace('-', ' ')} are accepted")
        return found


@dataclass(frozen=True, slots=True)
class LivenessRange:
    """What dead-peer detection can be set to: seconds, and a number of tries."""

    least_delay: float = 0.0
    most_delay: float = float("inf")
    most_tries: int = 100

    def both(self, other: LivenessRange) -> LivenessRange:
        """What both can be set to."""
        return LivenessRange(
            max(self.least_delay, other.least_delay),
            min(self.most_delay, other.most_delay),
            min(self.most_tries, other.most_tries),
        )

    def nearest(self, delay: float | None, wait: float, tries: int | None) -> Liveness:
        """What is given stays; what is blank is the usual, or the nearest that there is."""
        usual = Liveness()
        if delay is None:
            delay = max(self.least_delay, min(self.most_delay, usual.delay))
        return Liveness(delay, wait, min(self.most_tries, usual.tries) if tries is None else tries)

    def fault(self, wanted: Liveness) -> str:
        if not self.least_delay <= wanted.delay <= self.most_delay:
            return (
                f"its dead-peer detection asks after {plain(self.least_delay)} to "
                f"{plain(self.most_delay)} s, not {plain(wanted.delay)} s"
            )
        if wanted.tries > self.most_tries:
            return f"its dead-peer detection tries at most {self.most_tries} times"
        return ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Profile:
    """`same_selectors` is how many tunnels it holds at once for equal traffic selectors,
    `several_selectors` whether one child SA holds several of them at an end."""

    name: str
    versions: tuple[int, ...] | None = None
    ike: Phase = Phase()
    esp: Phase = Phase()
    esn: tuple[bool, ...] | None = None
    pfs: str | None = None
    renewal: str | None = None
    authentication: tuple[str, ...] | None = None
    nat_traversal: bool | None = None
    selection: tuple[str, ...] | None = None
    same_selectors: int | None = None
    several_selectors: bool | None = None
    tunnels: int | None = None
    throughput: float | None = None
    bgp: bool | None = None
    bfd: bool | None = None
    monitor: bool | None = None
    initiates: bool | None = None
    mss_clamping: bool | None = None
    identities: tuple[str, ...] | None = None
    liveness: LivenessRange = LivenessRange()
    key: KeyRules = KeyRules()
    unsaid: tuple[str, ...] = field(default=(), compare=False)

    def lacks(self, suite: Suite) -> Iterator[str]:
        """Each thing in a suite that the device cannot do, in words; lifetimes apart."""
        if self.versions is not None and suite.ike_version not in self.versions:
            yield f"IKEv{suite.ike_version}"
        ike, esp = suite.ike, suite.esp
        for what, wanted, able in (
            ("for IKE", ike.encryption, self.ike.encryption),
            ("for IKE", ike.integrity, self.ike.integrity),
            ("for IKE", ike.prf, self.ike.prf),
            ("for IKE", ike.group, self.ike.groups),
            ("for ESP", esp.encryption, self.esp.encryption),
            ("for ESP", esp.integrity, self.esp.integrity),
            ("for PFS", esp.group, self.esp.groups),
        ):
            if wanted is not None and able is not None and wanted not in able:
                yield f"{wanted.name} {what}"
        if self.esn is not None and esp.esn not in self.esn:
            yield "extended sequence numbers" if esp.esn else "plain sequence numbers"
        if self.pfs == "required" and esp.group is None:
            yield "rekeys without PFS"
        if self.pfs == "never" and esp.group is not None:
            yield "PFS"

    def lifetime_faults(self, suite: Suite) -> Iterator[str]:
        """Why the suite's lifetimes cannot be entered here."""
        for what, seconds, able in (
            ("the IKE SA", suite.ike.lifetime, self.ike.lifetime),
            ("child SAs", suite.esp.lifetime, self.esp.lifetime),
        ):
            fault = able.fault(seconds)
            if fault:
                yield f"lifetime of {what}: {fault}"

    def can(self, suite: Suite) -> bool:
        """Whether it can do the suite as it stands."""
        return not any(self.lacks(suite)) and not any(self.lifetime_faults(suite))


UNKNOWN = Profile(name="not described")
"""A device of which nobody said anything: taken to do whatever it is given."""
