"""Large designs for tests and benchmarks."""

from __future__ import annotations


def many_sites(count: int) -> str:
    """A design of `count` sites with two tunnels each; about 28 lines a site."""
    out = ["obrin: 1", "name: many-sites", "sites:"]
    for n in range(count):
        high, low = n >> 8, n & 255
        out.append(
            f"  site-{n:04}:\n"
            f"    networks:\n"
            f"      office: 10.{high}.{low}.0/25\n"
            f"      shop: 10.{high}.{low}.128/26\n"
            f"    gateways:\n"
            f"      gw-{n:04}:\n"
            f"        as: {4200000000 + n}\n"
            f"        offers: [modern, common]\n"
            f"        uplinks:\n"
            f"          fibre:\n"
            f"            address: 192.0.2.{n % 250 + 1}\n"
            f"            provider: north-fibre\n"
            f"          radio:\n"
            f"            address: 198.51.100.{n % 250 + 1}\n"
            f"            provider: bay-radio"
        )
    out.append(
        "clouds:\n  timetable:\n    region: east-3\n    space: 172.16.0.0/16\n"
        "    subnets:\n      booking: {hosts: 400}\nlinks:"
    )
    for n in range(count):
        out.append(
            f"  link-{n:04}:\n"
            f"    site: site-{n:04}\n"
            f"    cloud: timetable\n"
            f"    routing: bgp\n"
            f"    tunnels:\n"
            f"      first:\n"
            f"        gateway: gw-{n:04}\n"
            f"        uplink: fibre\n"
            f"        instance: 1\n"
            f"      second:\n"
            f"        gateway: gw-{n:04}\n"
            f"        uplink: radio\n"
            f"        instance: 2"
        )
    return "\n".join(out) + "\n"
