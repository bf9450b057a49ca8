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


def many_wishes(sites: int, networks: int = 5) -> str:
    """`sites` sites in eight regions, all of whose networks are wishes, and three clouds."""
    out = [
        "obrin: 1\nname: many-wishes\n"
        "pools:\n"
        "  north: {prefixes: 10.128.0.0/10, for: sites}\n"
        "  cloud: {prefixes: 10.64.0.0/12, for: clouds}\n"
        "roles:\n  tills: {hosts: 20}\n  office: {hosts: 60, growth: 50 %}\n"
        "  wifi: {hosts: 120}\n  cameras: {hosts: 12}\n  phones: {hosts: 28}\nsites:"
    ]
    roles = ["tills", "office", "wifi", "cameras", "phones"]
    for n in range(sites):
        wishes = "".join(
            f"      {roles[i % 5]}-{i}: {{role: {roles[i % 5]}}}\n" for i in range(networks)
        )
        out.append(
            f"  site-{n:04}:\n    region: region-{n % 8}\n    networks:\n{wishes}"
            f"    gateways:\n      gw-{n:04}:\n        uplinks:\n"
            f"          fibre: {{address: 192.0.2.{n % 250 + 1}, provider: north-fibre}}\n"
            f"          radio: {{address: 198.51.100.{n % 250 + 1}, provider: bay-radio}}"
        )
    out.append("clouds:")
    for cloud in ("timetable", "ledger", "archive"):
        out.append(
            f"  {cloud}:\n    region: {cloud}-1\n    subnets:\n      web: {{hosts: 400}}\n"
            f"      data: {{hosts: 60, growth: 1 doubling}}"
        )
    out.append("links:")
    for n in range(sites):
        cloud = ("timetable", "ledger", "archive")[n % 3]
        out.append(
            f"  link-{n:04}:\n    site: site-{n:04}\n    cloud: {cloud}\n    tunnels:\n"
            f"      first: {{gateway: gw-{n:04}, uplink: fibre, instance: 1}}\n"
            f"      second: {{gateway: gw-{n:04}, uplink: radio, instance: 2}}"
        )
    return "\n".join(out) + "\n"


def four_tunnels(sites: int) -> str:
    """`many_sites` with four tunnels a link: both uplinks to both instances."""
    out = []
    for line in many_sites(sites).split("\n"):
        if line.startswith("  link-"):
            name = line.strip(" :").removeprefix("link-")
        out.append(line)
        if line == "        instance: 2":
            for tunnel, uplink, instance in (("third", "fibre", 2), ("fourth", "radio", 1)):
                out.append(
                    f"      {tunnel}:\n        gateway: gw-{name}\n        uplink: {uplink}\n"
                    f"        instance: {instance}"
                )
    return "\n".join(out)


def two_hubs(sites: int, networks: int) -> str:
    """Sites with two tunnels to each of two hubs, which lead to a cloud and to all other sites."""
    out = ["obrin: 1\nname: two-hubs\nsites:"]
    for n in range(sites):
        out.append(f"  site-{n:04}:\n    networks:")
        base = (10 << 24) + (n << 10)
        for k in range(networks):
            a = base + (k << 4)
            text = f"{a >> 24}.{a >> 16 & 255}.{a >> 8 & 255}.{a & 255}/28"
            out.append(f"      net-{k:02}: {{prefix: {text}}}")
        out.append(
            f"    gateways:\n      gw-{n:04}:\n        as: {4200000000 + n}\n"
            f"        offers: [modern]\n        uplinks:\n"
            f"          fibre: {{address: 192.0.2.{n % 250 + 1}, provider: north-fibre}}\n"
            f"          radio: {{address: 198.51.100.{n % 250 + 1}, provider: bay-radio}}"
        )
    out.append("clouds:\n  timetable: {space: 172.16.0.0/16, subnets: {booking: {hosts: 400}}}")
    for hub, number in (("one", 1), ("two", 2)):
        mine = ", ".join(f"{hub}-{n:04}" for n in range(sites))
        out.append(
            f"  hub-{hub}:\n    space: 172.{16 + number}.0.0/16\n"
            "    gateway: {class: liner}\n    hub:\n"
            f"      members: [timetable]\n      tables:\n"
            f"        networks: {{for: [timetable]}}\n"
            f"        sites: {{for: [{mine}], learns: [timetable, {mine}]}}"
        )
    out.append("links:")
    for n in range(sites):
        for hub in ("one", "two"):
            out.append(
                f"  {hub}-{n:04}:\n    site: site-{n:04}\n    cloud: hub-{hub}\n    tunnels:\n"
                f"      first: {{gateway: gw-{n:04}, uplink: fibre, instance: 1}}\n"
                f"      second: {{gateway: gw-{n:04}, uplink: radio, instance: 2}}"
            )
    out.append("expectations:")
    out += [
        f"  - {{from: site-{n:04}/net-00, to: timetable/booking, flow: tcp/443, must: work}}"
        for n in range(sites)
    ]
    return "\n".join(out) + "\n"
