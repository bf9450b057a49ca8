"""The capacity class of a cloud gateway: the cheapest that does everything asked."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.address.prefix import Prefix
from obrin.core.address.space import summaries as merged
from obrin.core.catalogue.offering import Demand, GatewayClass, Offering
from obrin.core.design.arrangement import SHARED
from obrin.core.design.model import Cloud, Design, Link
from obrin.core.design.values import AUTO, written_out
from obrin.core.errors import SettleError
from obrin.core.quantity import plain
from obrin.core.settle.blank import cloud_key
from obrin.core.settle.work import Work


def demand_of(design: Design, name: str) -> Demand:
    """What a design asks of a cloud's gateway."""
    cloud = design.clouds[name]
    links = [link for link in design.links.values() if link.cloud == name]
    uses = {
        "translation": any(link.translates_cloud for link in links),
        "zones": cloud.gateway.zones is not None,
        "certificates": any(link.authentication == "certificate" for link in links),
        "both-active": any(_shared_by_instances(link) for link in links),
    }
    needs = [*cloud.gateway.needs, *(feature for feature, used in uses.items() if used)]
    return Demand(
        throughput=max(cloud.gateway.throughput, _loads(design, name)),
        tunnels=sum(len(link.tunnels) for link in links),
        bgp=any(link.routing == "bgp" for link in links),
        instances=cloud.gateway.instances,
        routes=cloud.gateway.routes or _routes(design, name),
        features=tuple(dict.fromkeys(needs)),
        after_failure=cloud.gateway.after_failure,
    )


def _shared_by_instances(link: Link) -> bool:
    """Whether tunnels at more than one instance carry the traffic at once."""
    return len({t.instance for t in link.tunnels.values() if t.role == SHARED}) > 1


def _loads(design: Design, name: str) -> float:
    """Mbit/s of all flows between the sites at this gateway and what is behind it."""
    hub = design.clouds[name].hub
    behind = {name, *(hub.members if hub is not None else ())}
    sites = {link.site for link in design.links.values() if link.cloud == name}
    sites |= {line.site for line in design.circuits.values() if line.cloud == name}
    return sum(
        wish.load or 0.0
        for wish in design.expectations
        if wish.must == "work"
        and {wish.source.place, wish.destination.place} <= behind | sites
        and {wish.source.place, wish.destination.place} & sites
    )


def _routes(design: Design, name: str) -> int:
    """Routes that the sites announce by BGP; one from each tunnel and circuit."""
    count = sum(
        len(circuit.networks or design.sites[circuit.site].networks)
        for circuit in design.circuits.values()
        if circuit.cloud == name and circuit.routing == "bgp"
    )
    for link in design.links.values():
        if link.cloud == name and link.routing == "bgp":
            count += len(link.tunnels) * _prefixes_of(design, link)
    return count


def _prefixes_of(design: Design, link: Link) -> int:
    """Routes that a site advertises over one tunnel: a summary stands for all that it covers.
    What is still blank counts by the site's space, where the design gives that, else for itself;
    where summaries are left to Obrin, all that is blank is placed together and advertised as
    one."""
    site, used, alone = design.sites[link.site], set[Prefix](), 0
    auto = link.bgp.summaries == AUTO
    given = written_out(link.bgp.summaries)
    all_parts: list[Prefix] = []
    blanks = 0
    for name in link.networks or list(site.networks):
        parts = _given_parts(link, name, site.networks[name].prefix)
        blank = not parts
        blanks += blank
        parts = parts or list(site.space or ())
        all_parts += parts
        by = [next((s for s in given if s.covers(p)), None) for p in parts]
        used |= {summary for summary in by if summary is not None}
        alone += int(not by or None in by) if blank else by.count(None)
    if auto:
        return len(merged(all_parts)) + (blanks > 0 and not site.space)
    return alone + len(used)


def _given_parts(link: Link, name: str, prefix: Prefix | None) -> list[Prefix]:
    """What the cloud knows a network by, as far as the design gives it."""
    if name in link.seen_as:
        seen = link.seen_as[name]
        return [] if seen is None else [seen]
    return list(link.only.get(name, ())) or ([] if prefix is None else [prefix])


@dataclass(frozen=True, slots=True)
class Judgement:
    """A class and why it is not taken; `lacks` is empty when it would do."""

    entry: GatewayClass
    lacks: str


def judge_classes(asked: Demand, offering: Offering) -> list[Judgement]:
    """Every class, the cheapest first."""
    return [Judgement(entry, entry.lacks(asked)) for entry in offering.by_cost()]


def settle_class(work: Work, name: str, cloud: Cloud) -> None:
    """Raises SettleError when no class does what is asked."""
    if cloud.gateway.gateway_class is not None or name not in work.needs.cloud_gateways:
        return
    judged = judge_classes(demand_of(work.design, name), work.offering.of(name))
    reasons = [f"{j.entry.name} {j.lacks}" for j in judged if j.lacks]
    best = next((j.entry for j in judged if not j.lacks), None)
    if best is None:
        raise SettleError(
            f"{cloud_key(name, 'gateway')}: no class serves this: {'; '.join(reasons)}. "
            "Ask less of one gateway, or add a second cloud network"
        )
    why = f"the cheapest that fits ({plain(best.monthly)} credits a month)"
    cheaper = [f"{j.entry.name} {j.lacks}" for j in judged[: [j.entry for j in judged].index(best)]]
    work.choose(
        cloud_key(name, "gateway", "class"), best.name, why + "".join(f"; {c}" for c in cheaper)
    )
