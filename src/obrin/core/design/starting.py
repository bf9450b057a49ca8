"""A starting design from a few facts: one site, one cloud, a tunnel for every uplink.

Each fact can be judged by itself (`fault_of`): a design is made of it and of facts that are right,
and read back. What the reader says of it is what is said to whoever gave it.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from obrin.core.design.document import load_design
from obrin.core.errors import DesignError


@dataclass(frozen=True, slots=True, kw_only=True)
class StartingFacts:
    """`networks` and `uplinks` are (name, value) pairs."""

    name: str
    site: str
    networks: tuple[tuple[str, str], ...]
    uplinks: tuple[tuple[str, str], ...]
    cloud: str
    hosts: int


USUAL = StartingFacts(
    name="my-network",
    site="office",
    networks=(("lan", "10.20.0.0/22"),),
    uplinks=(("main", "192.0.2.10"),),
    cloud="cloud",
    hosts=200,
)
"""Facts that are right, and what is offered where a fact is asked for."""


def fault_of(fact: str, value: Any) -> str:
    """What is wrong with a fact, named as in `StartingFacts`, and the cure; nothing if it is right.

    A value that YAML would read as something else is wrong, too.
    """
    facts = replace(USUAL, **{fact: value})
    try:
        design = load_design(starting_design(facts), "").design
    except DesignError as error:
        problem = error.problems[0]
        spoilt = problem.what.startswith("not valid YAML")
        return _ELSE if spoilt else f"{problem.what}. {problem.fix}"
    site = design.sites.get(facts.site)
    read_back = (
        design.name == facts.name
        and site is not None
        and facts.cloud in design.clouds
        and [(n, str(w.prefix)) for n, w in site.networks.items()] == list(facts.networks)
        and [(n, u.address) for n, u in site.gateways[f"{facts.site}-gateway"].uplinks.items()]
        == list(facts.uplinks)
    )
    return "" if read_back else _ELSE


_ELSE = "it would be read as something else. Use letters, digits and dashes"


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
