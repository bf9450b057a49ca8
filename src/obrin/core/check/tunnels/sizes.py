"""Packet sizes: what the path leaves for the packets inside."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.check.finding import Finding, Severity
from obrin.core.ipsec.overhead import IPV4_HEADER, LEAST_IPV6_MTU, TCP_HEADER
from obrin.core.settled.model import Settled
from obrin.core.settled.wrapping import wrapping_of

COMMON = 1280
"""What most applications get by with, and IPv6 demands."""


_SIX = "IPv6 cannot cross it"
_HANGS = "small packets pass; programs that do not learn the size hang on large ones"


INTERNET = 1500
"""Bytes that pass everywhere on the internet; more only on lines of one's own."""


def lines(settled: Settled) -> Iterator[Finding]:
    """Uplinks that are said to carry more than the internet does."""
    for gateway in settled.gateways.values():
        for name, uplink in gateway.uplinks.items():
            if uplink.mtu > INTERNET:
                yield Finding(
                    Severity.WARNING,
                    "mtu-large",
                    (*settled.location_of(gateway.name), "uplinks", name, "mtu"),
                    f"uplink {name} of {gateway.name} is said to carry {uplink.mtu} bytes; the "
                    f"internet carries {INTERNET}",
                    "packets that large are lost on the way: small ones pass, large ones hang",
                    f"give at most {INTERNET}, or what the provider says",
                )


def inner_sizes(settled: Settled) -> Iterator[Finding]:
    """Tunnels whose packets inside are small, and tunnels of one link that differ."""
    six = 128 in settled.families
    for name, link in settled.links.items():
        sizes = {t.name: wrapping_of(settled, t).inner_mtu() for t in link.tunnels}
        for tunnel in link.tunnels:
            size = sizes[tunnel.name]
            if size < COMMON:
                gateway = settled.gateways[tunnel.gateway]
                yield Finding(
                    Severity.ERROR if six and size < LEAST_IPV6_MTU else Severity.WARNING,
                    "mtu-small",
                    (
                        "sites",
                        gateway.site,
                        "gateways",
                        gateway.name,
                        "uplinks",
                        tunnel.uplink.name,
                        "mtu",
                    ),
                    f"tunnel {tunnel.label} leaves {size} bytes for a packet inside; its path "
                    f"carries {tunnel.uplink.mtu}",
                    _SIX if six else _HANGS,
                    "use a path with a larger MTU, or a suite that adds less",
                )
        if len(set(sizes.values())) > 1:
            listed = ", ".join(f"{n} {size}" for n, size in sizes.items())
            mss = min(sizes.values()) - IPV4_HEADER - TCP_HEADER
            yield Finding(
                Severity.NOTE,
                "mtu-differs",
                ("links", name, "tunnels"),
                f"the tunnels of {name} leave different room inside, in bytes: {listed}",
                "after a failure large packets of running transfers may be too large for a moment",
                f"clamp the MSS of all of them to the smallest one's, {mss}",
            )
