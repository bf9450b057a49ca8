"""The path of an IKE SA: addresses and ports of both ends.

A path belongs to an SA, not to the tunnel: whoever sends an IKE_SA_INIT from anywhere gets an SA
and a path of its own, and those of an established SA stay as they are. They change only when a
message that passed its integrity check comes from another address (RFC 7296 section 2.23).
"""

from __future__ import annotations

from dataclasses import dataclass

Address = tuple[str, int]


@dataclass(slots=True)
class Path:
    """The path, and who is behind a translator; `keepalive_at` is for the end that does."""

    local: Address
    remote: Address
    local_translated: bool = False
    remote_translated: bool = False
    encapsulate: bool = False
    keepalive_at: float = float("inf")
