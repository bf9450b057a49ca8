"""`overhead`: what ESP adds to packets, and what is left inside."""

from __future__ import annotations

import click

from obrin.cli.common import console, design_option, echo_json, json_option, print_table, project_of
from obrin.core.errors import ObrinError

SIZES = (64, 576, 1400)


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
        raise ObrinError(f"there is no link '{link}'. There are: {', '.join(settled.links)}")
    links = [settled.links[link]] if link else list(settled.links.values())
    rows = [
        (t.label, made.suite.name, wrapping_of(settled, t)) for made in links for t in made.tunnels
    ]
    if everything:
        suites = {made.suite.name: made.suite for made in links}
        rows = [
            ("", name, Wrapping(EspShape.of(suite.esp), bits, udp, mtu))
            for name, suite in suites.items() for bits in (32, 128) for udp in (False, True)
            for mtu in (1280, 1400, 1492, 1500, 9000)
        ]  # fmt: skip
    if as_json:
        echo_json([
            {"tunnel": label, "suite": suite, "outer": "ipv4" if w.outer_bits == 32 else "ipv6",
             "udp_encapsulation": w.encapsulated, "path_mtu": w.mtu, "inner_mtu": w.inner_mtu(),
             "mss_ipv4": w.mss(32), "mss_ipv6": w.mss(128), "efficiency": round(w.efficiency(), 4),
             "on_the_wire": {str(n): w.outer_size(n) for n in SIZES}}
            for label, suite, w in rows
        ])  # fmt: skip
        return
    named = any(label for label, _, _ in rows)
    head = ("Tunnel", "Suite", "Outside", "Path", f"{SIZES[-1]} becomes", "MTU inside", "MSS IPv4",
            "MSS IPv6", "Payload")  # fmt: skip
    cells = [
        (label, suite, f"IPv{4 if w.outer_bits == 32 else 6}" + (", UDP" if w.encapsulated else ""),
         str(w.mtu), str(w.outer_size(SIZES[-1])), str(w.inner_mtu()),
         str(w.mss(32)), str(w.mss(128) or "none"), f"{100 * w.efficiency():.1f} %")
        for label, suite, w in rows
    ]  # fmt: skip
    skip = 0 if named else 1
    print_table(console(), head[skip:], [row[skip:] for row in cells])
    click.echo(
        "Sizes are of IP packets, in bytes. Payload: the share of data in full TCP segments."
    )
