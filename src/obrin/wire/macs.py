"""Keyed hashes of the registry, as ESP, IKE messages and the PRF use them.

Integrity transforms cut the hash short: RFC 2404 for HMAC-SHA1-96, RFC 4868 for the SHA-2 family.
"""

from __future__ import annotations

from dataclasses import dataclass

from cryptography.hazmat.primitives.hashes import SHA1, SHA256, SHA384, SHA512, HashAlgorithm
from cryptography.hazmat.primitives.hmac import HMAC


@dataclass(frozen=True, slots=True)
class Integrity:
    """An integrity transform: its hash, and bytes of its key and of what is sent."""

    hash: HashAlgorithm
    key: int
    icv: int

    def start(self, key: bytes) -> HMAC:
        """Start a MAC with the key set up; copies of it take the data."""
        return HMAC(key, self.hash)


INTEGRITY: dict[int, Integrity] = {
    2: Integrity(SHA1(), 20, 12),
    12: Integrity(SHA256(), 32, 16),
    13: Integrity(SHA384(), 48, 24),
    14: Integrity(SHA512(), 64, 32),
}
"""Integrity algorithms by IANA number."""
PRF_HASHES: dict[int, HashAlgorithm] = {2: SHA1(), 5: SHA256(), 6: SHA384(), 7: SHA512()}
"""Hashes of pseudorandom functions by IANA number (RFC 7296 section 3.3.2)."""
