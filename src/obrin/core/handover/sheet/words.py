"""Values of an end in the words of a sheet."""

from __future__ import annotations

from collections.abc import Iterable

from obrin.core.address.prefix import Prefix
from obrin.core.design.arrangement import SHARED
from obrin.core.handover.ends.records import LegEnd, TunnelEnd
from obrin.core.ipsec.liveness import Bfd
from obrin.core.ipsec.profile import UNITS
from obrin.core.quantity import plain

SIGNATURE_WORDS = {
    "tcp-md5": "TCP-MD5 (RFC 2385)",
    "hmac-sha-1-96": "TCP-AO (RFC 5925), HMAC-SHA-1-96, key 1 both ways",
    "aes-128-cmac-96": "TCP-AO (RFC 5925), AES-128-CMAC-96, key 1 both ways",
}


def listed(prefixes: Iterable[Prefix]) -> str:
    return ", ".join(map(str, prefixes))


def bfd_words(bfd: Bfd | None) -> str:
    """A BFD session."""
    if bfd is None:
        return "off"
    return f"every {plain(bfd.interval)} s, dead after {bfd.multiplier} missed"


def method_words(end: TunnelEnd) -> str:
    """How the ends prove who they are."""
    return end.authentication.replace("pre-shared-", "pre-shared ")


def identity_words(end: TunnelEnd) -> str:
    """The identity that this end sends, and what to mind where a translator stands in front."""
    if end.own_address == end.local_address:
        return end.local_identity
    if end.local_identity == str(end.own_address):
        return f"{end.local_identity} (its own address; the other end sees {end.local_address})"
    return f"{end.local_identity} (to be entered; the device's own address is {end.own_address})"


def opener(end: LegEnd) -> str:
    """Which end opens the TCP connection of a BGP session."""
    return "this gateway" if end.initiator else "the remote end"


def role_words(end: TunnelEnd) -> str:
    """The role of a tunnel, and whom a spare waits for."""
    if end.role == SHARED:
        return "shared: a share of the flows, with the others that are shared"
    if not end.stands_in_for:
        return end.role
    return f"{end.role}: down until {', '.join(end.stands_in_for)} failed"


def seconds(value: float, unit: str | None = None) -> str:
    """Seconds, with minutes or hours beside them where a screen may ask for those.

    With the unit that a device is known to count in, its number comes first.
    """
    if unit in ("min", "h") and not value % UNITS[unit]:
        return f"{plain(value / UNITS[unit])} {unit} ({plain(value)} s)"
    text = f"{plain(value)} s"
    if value >= 3600 and value % 3600 == 0:
        return f"{text} ({plain(value / 60)} min, {plain(value / 3600)} h)"
    if value >= 120 and value % 60 == 0:
        return f"{text} ({plain(value / 60)} min)"
    return text
