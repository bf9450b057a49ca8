"""Unique local IPv6 prefixes (RFC 4193): fd00::/8, 40 random bits, and 16 bits for subnets."""

from __future__ import annotations

from obrin.core.address.prefix import Prefix, parse_prefix

UNIQUE_LOCAL = parse_prefix("fc00::/7")


def unique_local_prefix(random: bytes) -> Prefix:
    """The /48 of a site from five random bytes (RFC 4193 section 3.2). Raises ValueError."""
    if len(random) != 5:
        raise ValueError(f"a global ID has 5 bytes, not {len(random)}")
    value = (0xFD << 40 | int.from_bytes(random, "big")) << 80
    return Prefix(128, value, 48)
