"""A starting design from a few facts: one site, one cloud, a tunnel for every uplink."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class StartingFacts:
    """`networks` and `uplinks` are (name, value) pairs."""

    name: str
    site: str
    networks: tuple[tuple[str, str], ...]
    uplinks: tuple[tuple[str, str], ...]
    cloud: str
    hosts: int


def starting_design(facts: StartingFacts) -> str:
    """The design's text. Values are not judged here: reading the text back does that."""
    gateway = f"{facts.site}-gateway"
    first_network = facts.networks[0][0]
    # Two tunnels at least: with one uplink, both instances of the cloud gateway.
    pairs = [(uplink, index % 2 + 1) for index, (uplink, _) in enumerate(facts.uplinks)]
    if len(pairs) == 1:
        pairs.append((pairs[0][0], 2))
    tunnels = "\n".join(
        f"      t{number}: {{gateway: {gateway}, uplink: {uplink}, instance: {instance}}}"
        for number, (uplink, instance) in enumerate(pairs, 1)
    )
    networks = "\n".join(f"      {name}: {value}" for name, value in facts.networks)
    uplinks = "\n".join(
        f"          {name}: {{address: {value}, provider: {name}}}" for name, value in facts.uplinks
    )
    return f"""# A design for obrin. Blank values get settled; 'obrin schema' has all keys.
obrin: 1
name: {facts.name}

sites:
  {facts.site}:
    networks:
{networks}
    gateways:
      {gateway}:
        as:              # blank: a private AS number
        uplinks:
{uplinks}

clouds:
  {facts.cloud}:
    space:               # blank: clear of every network above and of 'elsewhere'
    subnets:
      apps: {{hosts: {facts.hosts}}}
    gateway:
      class:             # blank: the cheapest that does what is asked
      instances: 2
      throughput: 100 Mbit/s

links:
  {facts.site}-{facts.cloud}:
    site: {facts.site}
    cloud: {facts.cloud}
    routing: bgp
    suite:               # blank: the strongest that both ends offer
    tunnels:             # the preferred one first
{tunnels}

elsewhere: {{}}            # ranges in use by others, to stay clear of

expectations:
  - {{from: {facts.site}/{first_network}, to: {facts.cloud}/apps, flow: tcp/443, must: work}}
  - {{from: {facts.site}/{first_network}, to: {facts.cloud}/apps, flow: icmp, must: work}}
  - {{from: {facts.cloud}/apps, to: {facts.site}/{first_network}, flow: tcp/22, must: not}}
"""
