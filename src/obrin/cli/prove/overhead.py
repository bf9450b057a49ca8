"""`overhead`: what ESP adds to packets, and what is left inside."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from obrin.cli.shared.common import (
    NO_TUNNEL,
    console,
    design_option,
    echo_json,
    json_option,
    print_table,
    project_of,
)
from obrin.core.naming import unknown

if TYPE_CHECKING:
    from obrin.core.ipsec.overhead import Wrapping

SIZES = (64, 576, 1400)
HEAD = (
    "Tunnel",
    "Suite",
    "Outside",
    "Path",
    f"{SIZES[-1]} becomes",
    "MTU inside",
    "MSS IPv4",
    "MSS IPv6",
    "Payload",
)


@click.command()
@click.argument("link", required=False)
@click.option("--all", "everything", is_flag=True, help="Every outer family and usual path MTU.")
@design_option
@json_option
def overhead(link: str | None, everything: bool, design_file: str | None, as_json: bool) -> None:
    """Exact sizes of packets in each tunnel: bytes on the wire, MTU and MSS inside, efficiency.

    \b
    Examples:
      obrin overhead --design skerrow-ferries
      obrin overhead harbour-timetable --all --design skerrow-ferries
    """
    from obrin.core.ipsec.overhead import EspShape, Wrapping
    from obrin.core.settled.wrapping import wrapping_of

    _, settled = project_of(design_file).settled()
    if link is not None and link not in settled.links:
        raise unknown("link", link, settled.links)
    links = [settled.links[link]] if link else list(settled.links.values())
    rows = [
        (t.label, made.suite.name, wrapping_of(settled, t)) for made in links for t in made.tunnels
    ]
    if everything:
        suites = {made.suite.name: made.suite for made in links}
        rows = [
            ("", name, Wrapping(EspShape.of(suite.esp), bits, udp, mtu))
            for name, suite in suites.items()
            for bits in (32, 128)
            for udp in (False, True)
            for mtu in (1280, 1400, 1492, 1500, 9000)
        ]
    if as_json:
        echo_json([_as_json(*row) for row in rows])
        return
    skip = 0 if any(label for label, _, _ in rows) else 1
    table = [_cells(*row)[skip:] for row in rows]
    print_table(console(), HEAD[skip:], table, nothing=NO_TUNNEL)
    if table:
        click.echo(
            "Sizes are of IP packets, in bytes. Payload: the share of data in full TCP segments."
        )


def _as_json(label: str, suite: str, wrapping: Wrapping) -> dict[str, object]:
    return {
        "tunnel": label,
        "suite": suite,
        "outer": "ipv4" if wrapping.outer_bits == 32 else "ipv6",
        "udp_encapsulation": wrapping.encapsulated,
        "path_mtu": wrapping.mtu,
        "inner_mtu": wrapping.inner_mtu(),
        "mss_ipv4": wrapping.mss(32),
        "mss_ipv6": wrapping.mss(128),
        "efficiency": round(wrapping.efficiency(), 4),
        "on_the_wire": {str(n): wrapping.outer_size(n) for n in SIZES},
    }


def _cells(label: str, suite: str, wrapping: Wrapping) -> tuple[str, ...]:
    udp = ", UDP" if wrapping.encapsulated else ""
    return (
        label,
        suite,
        f"IPv{4 if wrapping.outer_bits == 32 else 6}{udp}",
        str(wrapping.mtu),
        str(wrapping.outer_size(SIZES[-1])),
        str(wrapping.inner_mtu()),
        str(wrapping.mss(32)),
        str(wrapping.mss(128) or "none"),
        f"{100 * wrapping.efficiency():.1f} %",
    )
