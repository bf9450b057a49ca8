"""Address spaces: the same range at two places, and prefixes that stand for others."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

from obrin.core.address.prefix import Prefix
from obrin.core.address.translation import Exposure
from obrin.core.check.finding import Finding, Severity
from obrin.core.design.reader import Location
from obrin.core.routing.model import accepted_at_site
from obrin.core.settle.blank import suffix
from obrin.core.settled.links import SettledCircuit, SettledLink
from obrin.core.settled.model import Settled
from obrin.core.space.view import Entry


@dataclass(frozen=True, slots=True)
class _Owned:
    """A range and its owner; `place` is a site or cloud, empty for ranges elsewhere. `joined` is
    whether any of it goes anywhere: guests that no link carries are known at their site only."""

    prefix: Prefix
    owner: str
    location: Location
    place: str = ""
    network: str = ""
    joined: bool = True


def _owned(settled: Settled) -> Iterator[_Owned]:
    carried = {(b.site, part.network) for b in settled.bundles() for part in b.exposures}
    started = {site for site, _ in carried}  # the others are still to be joined
    for site in settled.sites.values():
        for name, network in site.networks.items():
            joined = (site.name, name) in carried or site.name not in started
            for prefix in network.prefix:
                location = ("sites", site.name, "networks", name)
                yield _Owned(prefix, f"{site.name}/{name}", location, site.name, name, joined)
    for name, cloud in settled.clouds.items():
        for space in cloud.all_spaces:
            yield _Owned(space, f"cloud {name}", ("clouds", name, "space"), name)
    for name, entry in settled.surroundings.elsewhere.items():
        yield _Owned(entry.prefix, f"{name} (elsewhere)", ("elsewhere", name))


@dataclass(slots=True)
class _Open:
    """Return those who have one prefix, while the walk is inside it; the unjoined by their
    place."""

    prefix: Prefix
    joined: list[_Owned] = field(default_factory=list)
    unjoined: dict[str, list[_Owned]] = field(default_factory=dict)

    def add(self, owned: _Owned) -> None:
        held = self.joined if owned.joined else self.unjoined.setdefault(owned.place, [])
        held.append(owned)

    def met_by(self, owned: _Owned) -> Iterator[_Owned]:
        """What is not joined meets its own site alone: many sites may have one range for guests."""
        yield from self.joined
        if owned.joined:
            yield from itertools.chain.from_iterable(self.unjoined.values())
        else:
            yield from self.unjoined.get(owned.place, ())


def overlaps(settled: Settled) -> Iterator[Finding]:
    for owned in _owned(settled):
        if owned.prefix.length <= 1:  # it overlaps everything, which is one mistake and not many
            yield _everything(owned)
    for severity, owned, other in _contests(settled):
        yield _overlap(severity, owned, other)


def contested(settled: Settled) -> Callable[[Entry, Entry], Severity | None]:
    """How two uses of one range are in each other's way, as `check` says: a warning where nothing
    joins the two today; None where a translation keeps them apart, or nothing ever joins them."""
    pairs = {
        frozenset(((one.owner, one.prefix), (other.owner, other.prefix))): severity
        for severity, one, other in _contests(settled)
    }
    everything = {owned.owner for owned in _owned(settled) if owned.prefix.length <= 1}

    def asked(one: Entry, other: Entry) -> Severity | None:
        names = [owner_text(entry) for entry in (one, other)]
        if not all(names) or everything.intersection(names):
            return Severity.ERROR
        return pairs.get(frozenset(zip(names, (one.prefix, other.prefix), strict=True)))

    return asked


def contests_of(settled: Settled, one: str, other: str) -> Iterator[str]:
    """What still makes two owners (as `owner_text` calls them) errors to each other, in words."""
    for severity, mine, theirs in _contests(settled):
        if severity is Severity.ERROR and {mine.owner, theirs.owner} == {one, other}:
            yield _overlap(severity, mine, theirs).cause


def owner_text(entry: Entry) -> str:
    """What the owner of an entry of the map of space is called here; empty for what is judged
    elsewhere."""
    return _WORDS[entry.kind].format(entry.owner) if entry.kind in _WORDS else ""


_WORDS = {"network": "{}", "cloud space": "cloud {}", "elsewhere": "{} (elsewhere)"}
"""How owners are called here, by the kind of an entry of the map of space."""


def _contests(settled: Settled) -> Iterator[tuple[Severity, _Owned, _Owned]]:
    """A sorted walk: a prefix can only overlap the ones still open above it."""
    above: list[_Open] = []
    for owned in sorted(_owned(settled), key=lambda item: item.prefix):
        if owned.prefix.length <= 1:
            continue
        while above and not above[-1].prefix.covers(owned.prefix):
            above.pop()
        for other in (other for entry in above for other in entry.met_by(owned)):
            if other.place == owned.place == "":
                continue  # what others do among themselves
            severity = _severity(settled, owned, other)
            if severity is not None:
                yield severity, owned, other
        if not above or above[-1].prefix != owned.prefix:
            above.append(_Open(owned.prefix))
        above[-1].add(owned)


def _everything(owned: _Owned) -> Finding:
    return Finding(
        Severity.ERROR,
        "space-everything",
        owned.location,
        f"{owned.prefix} of {owned.owner} is all addresses, or half of them",
        "nothing else has an address any more; a default route is meant, or a prefix is cut short",
        "give the range that is really there; a default route belongs into a link's summaries or a "
        "subnet's 'table'",
    )


def _overlap(severity: Severity, owned: _Owned, other: _Owned) -> Finding:
    return Finding(
        severity,
        "space-overlap",
        owned.location,
        f"{owned.prefix} of {owned.owner} lies inside {other.prefix} of {other.owner}"
        if owned.prefix != other.prefix
        else f"{owned.owner} and {other.owner} both use {owned.prefix}",
        "packets for one never reach the other: each side takes the range for its own"
        if severity is Severity.ERROR
        else "what is joined works today; whatever else is joined, or built in the range, does not",
        "give one of them another range, or see 'obrin space remedies' for other ways",
    )


def _severity(settled: Settled, one: _Owned, other: _Owned) -> Severity | None:
    """An error where both are known at one place; None where translation keeps them apart."""
    places = {one.place, other.place}
    if not (one.joined and other.joined) and len(places) == 2:
        unjoined, rest = (other, one) if one.joined else (one, other)
        if _hears(settled, unjoined.place, rest):
            return Severity.ERROR
        if not settled.index.links_between.get(frozenset(places)):
            return None
    if "" in places or len(places) == 1 or one.prefix.bits == 128:
        return Severity.ERROR
    clouds = places & settled.clouds.keys()
    if len(clouds) == 1:
        (cloud,), (site,) = clouds, places - clouds
        links = settled.index.links_between.get(frozenset((site, cloud)), ())
        if not links:
            return Severity.WARNING
        mine, its = (one, other) if one.place == site else (other, one)
        if all(_kept_apart(link, mine, its) for link in links):
            return None
        parts = all(_only_parts(settled, link, one, other) for link in links)
        return Severity.WARNING if parts else Severity.ERROR
    return _through_a_third(settled, one, other)


def _kept_apart(link: SettledLink | SettledCircuit, network: _Owned, space: _Owned) -> bool:
    """Whether a link translates what of the two would meet: each is known to the other side by
    something else than what that has."""
    out = (part.seen for part in link.exposures if part.network == network.network)
    back = (part.seen for part in link.cloud_exposures if part.real.overlaps(space.prefix))
    return not (
        any(seen.overlaps(space.prefix) for seen in out)
        or any(seen.overlaps(network.prefix) for seen in back)
    )


def _hears(settled: Settled, site: str, other: _Owned) -> bool:
    """Whether a hub advertises to a site what another site has."""
    return other.place in settled.sites and any(
        prefix.overlaps(other.prefix)
        for hub in settled.hubs_of(site)
        for bundle in settled.index.links_between[frozenset((site, hub))]
        for prefix in accepted_at_site(settled, bundle)
    )


def _only_parts(
    settled: Settled, link: SettledLink | SettledCircuit, one: _Owned, other: _Owned
) -> bool:
    """Whether a link joins only parts of the network, which no subnet of the cloud has."""
    network = one.network or other.network
    wholes = [prefix for name, prefix in settled.networks_at(link.site) if name == network]
    if isinstance(link, SettledCircuit) or all(
        part.real in wholes for part in link.exposures if part.network == network
    ):
        return False
    cloud = settled.clouds[link.cloud]
    subnets = [prefix for subnet in cloud.subnets.values() for prefix in subnet.prefix]
    subnets += [] if cloud.gateway is None else [*cloud.gateway.subnet]
    held = [prefix for _, prefix in settled.networks_at(link.site)]
    parts = [part.seen for part in link.exposures if part.network == network]
    return not any(s.overlaps(p) for s in subnets for p in (*parts, *held))


def _through_a_third(settled: Settled, one: _Owned, other: _Owned) -> Severity | None:
    """Two sites at one cloud, or two clouds at one site: by what that place knows them; or two
    members of one hub, which are known to each other as they are."""
    if len(clouds := {one.place, other.place} & settled.clouds.keys()) == 2 and set.intersection(
        *(set(settled.hubs_of(cloud)) for cloud in clouds)
    ):
        return Severity.ERROR
    shared = False
    for third in {*settled.clouds, *settled.sites}:
        pair = [
            [
                _known(settled, link, owned)
                for link in settled.index.links_between.get(frozenset((owned.place, third)), ())
            ]
            for owned in (one, other)
        ]
        shared |= bool(pair[0] and pair[1])
        seen = [[p for found in side for p in found] for side in pair]
        if any(a.overlaps(b) for a in seen[0] for b in seen[1]):
            return Severity.ERROR
    return None if shared else Severity.WARNING


def _known(settled: Settled, link: SettledLink | SettledCircuit, owned: _Owned) -> list[Prefix]:
    if owned.place != link.site:
        return [part.seen for part in link.cloud_exposures]
    return [part.seen for part in link.exposures if part.network == owned.network]


def translations(settled: Settled) -> Iterator[Finding]:
    """The prefixes that stand for others must themselves be free where they are used."""
    elsewhere = [e.prefix for e in settled.surroundings.elsewhere.values()]
    for name, link in settled.links.items():
        if not any(part.translated for part in (*link.exposures, *link.cloud_exposures)):
            continue
        at_cloud = [*settled.clouds[link.cloud].all_spaces, *elsewhere]
        at_cloud += [
            part.seen
            for other in settled.links.values()
            if other.cloud == link.cloud and other.site != link.site
            for part in other.exposures
        ]
        for part in link.exposures:
            if part.translated:
                key = f"seen-as{suffix(part.real.bits)}"
                here: Location = ("links", name, key, part.network)
                yield from _stands_on(part, at_cloud, here, f"cloud {link.cloud}")
        at_site = [*(prefix for _, prefix in settled.networks_at(link.site)), *elsewhere]
        at_site += [
            part.seen
            for other in settled.links.values()
            if other.site == link.site and other.cloud != link.cloud
            for part in other.cloud_exposures
        ]
        for part in link.cloud_exposures:
            if part.translated:
                here = ("links", name, "cloud-seen-as")
                yield from _stands_on(part, at_site, here, f"site {link.site}")


def known_differently(settled: Settled) -> Iterator[Finding]:
    """Two links between the same places, and a thing that each calls by another prefix."""
    first: dict[tuple[str, str, Prefix], tuple[Prefix, str]] = {}
    for link in settled.links.values():
        for key, parts in (("seen-as", link.exposures), ("cloud-seen-as", link.cloud_exposures)):
            for part in parts:
                side = link.site, link.cloud, part.real
                seen, other = first.setdefault(side, (part.seen, link.name))
                if seen != part.seen:
                    ends = {(t.gateway, t.uplink.name) for t in link.tunnels}
                    yield Finding(
                        # Worth a word; where one link needs the other, it breaks it.
                        Severity.ERROR if len(ends) == 1 else Severity.WARNING,
                        "translation-differs",
                        ("links", link.name, key),
                        f"{part.real} is {part.seen} on link {link.name}, and {seen} on {other}",
                        "neither link can stand in for the other: hosts call it by one address",
                        "use one prefix on both, or leave it blank on one of them",
                    )


def _stands_on(
    part: Exposure, known: list[Prefix], here: Location, place: str
) -> Iterator[Finding]:
    for prefix in known:
        if prefix.overlaps(part.seen):
            yield Finding(
                Severity.ERROR,
                "translation-overlap",
                here,
                f"{part.seen}, which stands for {part.real}, overlaps {prefix} that {place} knows",
                "what is sent there goes to the wrong one of the two",
                "choose a prefix that nobody uses, or leave it blank and settle again",
            )
            return
