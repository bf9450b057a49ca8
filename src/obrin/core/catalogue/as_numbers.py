"""What AS numbers are for: private use, examples, and what nobody may have."""

from __future__ import annotations

PRIVATE_AS = (range(64512, 65535), range(4200000000, 4294967295))
"""RFC 6996."""
EXAMPLE_AS = (range(64496, 64512), range(65536, 65552))
"""RFC 5398."""
RESERVED_AS = {0: "RFC 7607", 23456: "RFC 6793", 65535: "RFC 7300", 4294967295: "RFC 7300"}
