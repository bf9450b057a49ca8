"""Numbers of path attributes, their flags, and the subcodes of UPDATE errors (RFC 4271 4.3,
6.3)."""

from __future__ import annotations

ORIGIN, AS_PATH, NEXT_HOP, MED, LOCAL_PREF, ATOMIC, AGGREGATOR, COMMUNITIES = range(1, 9)
ORIGINATOR_ID, CLUSTER_LIST = 9, 10
MP_REACH, MP_UNREACH, EXTENDED_COMMUNITIES, AS4_PATH, AS4_AGGREGATOR, LARGE_COMMUNITIES = (
    14,
    15,
    16,
    17,
    18,
    32,
)
OPTIONAL, TRANSITIVE, PARTIAL, EXTENDED = 0x80, 0x40, 0x20, 0x10
(
    MALFORMED_LIST,
    UNRECOGNISED,
    MISSING,
    FLAGS,
    LENGTH,
    BAD_ORIGIN,
    _,
    BAD_NEXT_HOP,
    _,
    NETWORK,
    BAD_AS_PATH,
) = range(1, 12)
