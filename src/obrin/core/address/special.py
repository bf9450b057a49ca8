"""Ranges with a purpose of their own (RFC 6890), and what is left: public address space."""

from __future__ import annotations

from typing import NamedTuple

from obrin.core.address.prefix import LINK_LOCAL_IPV4, PRIVATE_IPV4, Prefix, parse_prefix
from obrin.core.address.ula import UNIQUE_LOCAL


class Special(NamedTuple):
    """`what` it is, in words; `hosts` is whether a network or a host can be there at all, and
    `routed` whether routers pass on packets for it."""

    prefix: Prefix
    what: str
    hosts: bool = True
    routed: bool = True


def _nobodys(text: str, what: str) -> Special:
    return Special(parse_prefix(text), what, hosts=False)


SPECIAL = (
    _nobodys("0.0.0.0/8", "'this network'"),
    _nobodys("127.0.0.0/8", "loopback"),
    _nobodys("224.0.0.0/4", "multicast"),
    _nobodys("240.0.0.0/4", "reserved"),
    _nobodys("::/127", "unspecified and loopback"),
    _nobodys("ff00::/8", "multicast"),
    _nobodys("::ffff:0:0/96", "for IPv4 addresses in programs (RFC 4291)"),
    _nobodys("64:ff9b::/96", "for translators between the families (RFC 6052)"),
    _nobodys("100::/64", "thrown away (RFC 6666)"),
    Special(LINK_LOCAL_IPV4, "link-local (RFC 3927)", routed=False),
    Special(parse_prefix("fe80::/10"), "link-local (RFC 4291)", routed=False),
    *(Special(prefix, "private (RFC 1918)") for prefix in PRIVATE_IPV4),
    Special(UNIQUE_LOCAL, "unique local (RFC 4193)"),
    Special(parse_prefix("100.64.0.0/10"), "shared by a provider's customers (RFC 6598)"),
    Special(parse_prefix("198.18.0.0/15"), "for measurements (RFC 2544)"),
    Special(parse_prefix("2001:2::/48"), "for measurements (RFC 5180)"),
)
EXAMPLES = tuple(
    map(parse_prefix, ("192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24", "2001:db8::/32"))
)
"""RFC 5737 and RFC 3849."""


def special(prefix: Prefix) -> Special | None:
    """The range with a purpose that a prefix shares addresses with."""
    return next((s for s in SPECIAL if s.prefix.overlaps(prefix)), None)


def is_example(prefix: Prefix) -> bool:
    return any(example.covers(prefix) for example in EXAMPLES)


def is_public(prefix: Prefix) -> bool:
    """Whether it is somebody's on the internet."""
    return special(prefix) is None and not is_example(prefix)
