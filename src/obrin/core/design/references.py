"""Names in a design that must mean something: sites, uplinks, instances, networks, suites."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from obrin.core.address.prefix import parse_address
from obrin.core.catalogue.shipped_profiles import SHIPPED_SPECS
from obrin.core.design.joining_references import joining_problems
from obrin.core.design.mistakes import Mistake, unknown
from obrin.core.design.model import Cloud, Design, Link
from obrin.core.design.places import INTERNET, NetworkRef, Reference
from obrin.core.design.profile_spec import wrong_names
from obrin.core.design.protection import SuiteSpec
from obrin.core.design.reader import Location
from obrin.core.design.rules import holders_of_filters, holders_of_host_rules
from obrin.core.design.sites import Site, Uplink
from obrin.core.design.space_references import space_problems
from obrin.core.ipsec.overhead import LEAST_IPV6_MTU
from obrin.core.ipsec.policy import NAMES, CryptoPolicy
from obrin.core.ipsec.suite import SHIPPED, Suite, make_suite
from obrin.core.quantity import plain


def build_suite(name: str, spec: SuiteSpec) -> Suite:
    """A suite of the design as algorithms. Raises KeyError or ValueError with the reason."""
    return make_suite(
        name,
        encryption=spec.ike.encryption,
        integrity=spec.ike.integrity,
        prf=spec.ike.prf,
        group=str(spec.ike.group),
        ike_lifetime=spec.ike.lifetime,
        esp_encryption=spec.esp.encryption,
        esp_integrity=spec.esp.integrity,
        pfs=None if spec.esp.pfs is None else str(spec.esp.pfs),
        esn=spec.esp.esn,
        esp_lifetime=spec.esp.lifetime,
        ike_version=spec.ike_version,
    )


def all_suites(design: Design) -> dict[str, Suite]:
    """Shipped suites and the design's own, which may replace a shipped name."""
    return SHIPPED | {name: build_suite(name, spec) for name, spec in design.suites.items()}


def crypto_policy(design: Design) -> CryptoPolicy:
    """The organisation's policy of a design."""
    given = design.policy
    return CryptoPolicy(
        least_strength=given.least_strength,
        forbid=frozenset(_algorithm_name(name) for name in given.forbid),
        require=frozenset(_algorithm_name(name) for name in given.require),
        longest_ike=given.longest_ike or float("inf"),
        longest_child=given.longest_child or float("inf"),
        pfs=given.pfs,
    )


def _algorithm_name(text: str) -> str:
    return text.strip().upper().replace("_", "-")


def _policy(design: Design) -> Iterator[Mistake]:
    for key, names in (("forbid", design.policy.forbid), ("require", design.policy.require)):
        for index, name in enumerate(names):
            if _algorithm_name(name) not in NAMES:
                yield unknown("algorithm", name, NAMES, ("policy", key, index))


def reference_problems(design: Design) -> Iterator[Mistake]:
    """Every name that means nothing, with its place."""
    broken = False
    for name, spec in design.suites.items():
        try:
            build_suite(name, spec)
        except (KeyError, ValueError) as error:
            broken = True
            fix = "Correct the suite; see 'obrin schema'"
            yield Mistake(("suites", name), str(error.args[0]), fix)
    suites = SHIPPED.keys() | design.suites.keys()
    if not broken:
        yield from _offers(design, suites)
    networks = set(_network_names(design))
    for site_name, site in design.sites.items():
        for gateway_name, gateway in site.gateways.items():
            for uplink_name, uplink in gateway.uplinks.items():
                here = ("sites", site_name, "gateways", gateway_name, "uplinks", uplink_name)
                yield from _of_one_family(here, uplink)
                if uplink.forwards is not None and uplink.inside is None:
                    yield Mistake(
                        ("sites", site_name, "gateways", gateway_name, "uplinks", uplink_name),
                        "'forwards' describes a translator, and there is none without 'inside'",
                        "Give the gateway's own address as 'inside', or take 'forwards' out",
                    )
    yield from _rules(design, networks)
    yield from _policy(design)
    yield from _profiles(design)
    yield from _duplicate_gateways(design)
    places = design.sites.keys() | design.clouds.keys()
    for name in design.windows.keys() - places:
        yield unknown("site or cloud", name, places, ("windows", name))
    yield from space_problems(design)
    yield from joining_problems(design)
    for link_name in design.links:
        yield from _link(design, link_name, suites)
    for index, expectation in enumerate(design.expectations):
        for key, reference in (("from", expectation.source), ("to", expectation.destination)):
            if reference.is_internet and key == "from":
                yield Mistake(
                    ("expectations", index, key),
                    "nothing comes from the internet by itself: no address inside is known there",
                    "Name a network of the design; 'internet' may stand under 'to'",
                )
            elif not reference.is_internet and str(reference.whole) not in networks:
                where: Location = ("expectations", index, key)
                yield unknown("network", str(reference.whole), networks, where)


def _profiles(design: Design) -> Iterator[Mistake]:
    for name, spec in design.profiles.items():
        for place, message in wrong_names(spec):
            yield Mistake(("profiles", name, *place), message, "See 'obrin algorithms'")
    known = design.profiles.keys() | SHIPPED_SPECS.keys()
    for site_name, site in design.sites.items():
        for name, gateway in site.gateways.items():
            if gateway.profile is not None and gateway.profile not in known:
                where: Location = ("sites", site_name, "gateways", name, "profile")
                yield unknown("profile", gateway.profile, known, where)
    for name, cloud in design.clouds.items():
        if cloud.gateway.profile is not None and cloud.gateway.profile not in known:
            where = ("clouds", name, "gateway", "profile")
            yield unknown("profile", cloud.gateway.profile, known, where)


def _network_names(design: Design) -> Iterator[str]:
    for name, site in design.sites.items():
        yield from (f"{name}/{network}" for network in site.networks)
    for name, cloud in design.clouds.items():
        yield from (f"{name}/{subnet}" for subnet in cloud.subnets)


def _duplicate_gateways(design: Design) -> Iterator[Mistake]:
    """Packs are named after gateways, so a gateway's name must be one of its kind."""
    seen: dict[str, str] = {name: f"cloud {name}" for name in design.clouds}
    for site_name, site in design.sites.items():
        for name in site.gateways:
            if name in seen:
                yield Mistake(
                    ("sites", site_name, "gateways", name),
                    f"'{name}' is already the name of {seen[name]}",
                    "Give every gateway and cloud a name of its own",
                )
            seen[name] = f"a gateway of {site_name}"
    for part, names in (("sites", design.sites), ("clouds", design.clouds)):
        if INTERNET in names:
            yield Mistake(
                (part, INTERNET),
                f"'{INTERNET}' is what lies beyond the design, as the end of a flow",
                "Give it another name",
            )
    for site_name, site in design.sites.items():
        access = site.internet
        for index, network in enumerate((access.networks if access else None) or ()):
            if network not in site.networks:
                place: Location = ("sites", site_name, "internet", "networks", index)
                yield unknown(f"network of {site_name}", network, site.networks, place)
    for name in design.sites:
        if name in design.clouds:
            yield Mistake(
                ("sites", name),
                f"'{name}' is a site and a cloud",
                "Rename one: expectations name places by it",
            )


def _offers(design: Design, suites: set[str]) -> Iterator[Mistake]:
    for site_name, site in design.sites.items():
        for name, gateway in site.gateways.items():
            for offer in gateway.offers or ():
                if offer not in suites:
                    place = ("sites", site_name, "gateways", name, "offers")
                    yield unknown("suite", offer, suites, place)
    for name, cloud in design.clouds.items():
        for offer in cloud.gateway.offers or ():
            if offer not in suites:
                yield unknown("suite", offer, suites, ("clouds", name, "gateway", "offers"))


def _rules(design: Design, networks: set[str]) -> Iterator[Mistake]:
    """Rules of filters and of hosts that name what there is not."""
    known = networks | design.sites.keys() | design.clouds.keys()
    ends: list[tuple[Location, Reference | None]] = []
    for here, rules in holders_of_filters(design):
        for index, rule in enumerate(rules):
            ends += [
                ((*here, index, "from"), rule.source),
                ((*here, index, "to"), rule.destination),
            ]
    for here, host_rules in holders_of_host_rules(design):
        ends += [((*here, n, "from"), host_rule.source) for n, host_rule in enumerate(host_rules)]
    for place, reference in ends:
        if isinstance(reference, NetworkRef) and str(reference.whole) not in known:
            yield unknown("place or prefix", str(reference.whole), known, place)


def _link(design: Design, name: str, suites: set[str]) -> Iterator[Mistake]:
    link = design.links[name]
    here: Location = ("links", name)
    if link.suite is not None and link.suite not in suites:
        yield unknown("suite", link.suite, suites, (*here, "suite"))
    if link.routing == "bgp" and not (
        link.bgp.hold_time >= 3 and link.bgp.hold_time == int(link.bgp.hold_time)
    ):
        yield Mistake(
            (*here, "bgp", "hold-time"),
            f"a BGP hold time of {plain(link.bgp.hold_time)} s is not allowed",
            "Use whole seconds, at least 3 s (RFC 4271)",
        )
    yield from _entered(link, here, suites)
    site, cloud = design.sites.get(link.site), design.clouds.get(link.cloud)
    if cloud is None:
        yield unknown("cloud", link.cloud, design.clouds, (*here, "cloud"))
    if site is None:
        yield unknown("site", link.site, design.sites, (*here, "site"))
        return
    for index, network in enumerate(link.networks or ()):
        if network not in site.networks:
            place = (*here, "networks", index)
            yield unknown(f"network of {link.site}", network, site.networks, place)
    yield from _tunnels(link, here, site, cloud)


def _entered(link: Link, here: Location, suites: set[str]) -> Iterator[Mistake]:
    """What is entered at an end of a link of what it does not have."""
    for whose, entered in link.entered.items():
        at: Location = (*here, "entered", whose)
        for index, suite in enumerate(entered.suites or ()):
            if suite not in suites:
                yield unknown("suite", suite, suites, (*at, "suites", index))
        lists: list[tuple[str, Iterable[str]]] = [
            ("keys", entered.keys),
            ("passwords", entered.passwords),
            ("sessions", entered.sessions),
        ]
        for key, named in lists:
            for name in named:
                if name not in link.tunnels:
                    yield unknown(f"tunnel of {here[-1]}", name, link.tunnels, (*at, key, name))
        for key, said in (("passwords", entered.passwords), ("sessions", entered.sessions)):
            if said and link.routing == "static":
                yield Mistake(
                    (*at, key),
                    f"link {here[-1]} has no BGP sessions",
                    "Take it out, or set 'routing: bgp'",
                )


def _tunnels(link: Link, here: Location, site: Site, cloud: Cloud | None) -> Iterator[Mistake]:
    """Tunnels whose ends are not there, or another one's."""
    ends: dict[tuple[str, str, int], str] = {}
    for name, tunnel in link.tunnels.items():
        place = (*here, "tunnels", name)
        gateway = site.gateways.get(tunnel.gateway)
        if gateway is None:
            known = site.gateways
            yield unknown(f"gateway of {link.site}", tunnel.gateway, known, (*place, "gateway"))
        elif tunnel.uplink not in gateway.uplinks:
            yield unknown(
                f"uplink of {tunnel.gateway}", tunnel.uplink, gateway.uplinks, (*place, "uplink")
            )
        if cloud is not None and tunnel.instance > cloud.gateway.instances:
            yield Mistake(
                (*place, "instance"),
                f"{link.cloud} has {cloud.gateway.instances} instance, "
                f"this tunnel wants number {tunnel.instance}",
                "Use an instance that exists, or raise 'instances'",
            )
        end = (tunnel.gateway, tunnel.uplink, tunnel.instance)
        if end in ends:
            yield Mistake(
                place,
                f"tunnel '{name}' joins the same two ends as '{ends[end]}'",
                "Change its uplink or its instance",
            )
        ends[end] = name


def _of_one_family(here: Location, uplink: Uplink) -> Iterator[Mistake]:
    outside = parse_address(uplink.address)
    if uplink.inside is not None and parse_address(uplink.inside).bits != outside.bits:
        yield Mistake(
            (*here, "inside"),
            f"{uplink.inside} and {uplink.address} are of different families",
            "Give both of one family: a translator keeps it",
        )
    if outside.bits == 128 and uplink.mtu < LEAST_IPV6_MTU:
        yield Mistake(
            (*here, "mtu"),
            f"IPv6 does not cross a path of {uplink.mtu} bytes; {LEAST_IPV6_MTU} are the least",
            "Correct the size, or give the uplink an IPv4 address",
        )
