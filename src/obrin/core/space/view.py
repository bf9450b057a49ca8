"""A view of who has which range: every pool, space, network, block and foreign range of a
settled design."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from obrin.core.address.prefix import Prefix, host_prefix, parse_prefix
from obrin.core.address.table import PrefixTable
from obrin.core.address.translation import Exposure
from obrin.core.catalogue.offering import Offered
from obrin.core.settle.blank import Blank
from obrin.core.settle.choices import Choices
from obrin.core.settle.work import prefixes_in
from obrin.core.settled.links import Leg
from obrin.core.settled.model import Settled

USES = frozenset(
    {"network", "subnet", "gateway subnet", "elsewhere", "inside", "loopback", "stands for"}
)
"""Kinds that are in use by somebody; the others hold or reserve."""
_CLOUDS_OWN = {
    "forbidden by the cloud": "the cloud, which forbids it",
    "reserved by the cloud": "the cloud, which keeps it",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """`owner` is a place or a name; `place` is the site, cloud or tunnel that it belongs to;
    `network` the name of a network or subnet there."""

    prefix: Prefix
    kind: str
    owner: str
    place: str = ""
    region: str = ""
    note: str = ""
    network: str = ""

    @property
    def in_use(self) -> bool:
        return self.kind in USES

    @property
    def label(self) -> str:
        if self.kind == "elsewhere":
            return f"{self.owner} (elsewhere)"
        return _CLOUDS_OWN.get(self.kind) or f"{self.kind} {self.owner}"


class SpaceView:
    """All entries, found by longest match."""

    def __init__(self, entries: Iterable[Entry]) -> None:
        self.entries = sorted(entries, key=lambda e: (e.prefix, e.in_use, e.label))
        self._table: PrefixTable[list[Entry]] = PrefixTable()
        for entry in self.entries:
            found = self._table.get(entry.prefix)
            if found is None:
                self._table[entry.prefix] = [entry]
            else:
                found.append(entry)

    def above(self, prefix: Prefix) -> list[Entry]:
        """Entries that cover the whole prefix, the smallest first."""
        found: list[Entry] = []
        for length in range(prefix.length, -1, -1):
            found += reversed(self._table.get(prefix.widened(length)) or [])
        return found

    def inside(self, prefix: Prefix) -> list[Entry]:
        """Entries that lie inside the prefix and are smaller than it, in address order."""
        return [e for e in self.entries if e.prefix != prefix and prefix.covers(e.prefix)]

    def clashes(self, prefix: Prefix) -> list[Entry]:
        """What a proposed range would collide with: uses, whole cloud spaces, forbidden ranges."""
        hard = USES | {"cloud space", "forbidden by the cloud"}
        found = [e for e in (*self.above(prefix), *self.inside(prefix)) if e.kind in hard]
        clouds = {e.owner for e in found if e.kind == "cloud space"}
        return [e for e in found if not (e.kind != "cloud space" and e.place in clouds)]

    def reserved(self, prefix: Prefix) -> list[Entry]:
        """What keeps a range for somebody without using it: site spaces and regions."""
        kinds = ("site space", "region")
        return [e for e in (*self.above(prefix), *self.inside(prefix)) if e.kind in kinds]

    def of_kind(self, *kinds: str) -> list[Entry]:
        return [e for e in self.entries if e.kind in kinds]


def target_prefix(text: str) -> Prefix:
    """An address or a prefix. Raises AddressError."""
    return parse_prefix(text) if "/" in text else host_prefix(text)


def space_view(settled: Settled, choices: Choices, offering: Offered) -> SpaceView:
    return SpaceView(_entries(settled, choices, offering))


def _entries(settled: Settled, choices: Choices, offering: Offered) -> Iterator[Entry]:
    around = settled.surroundings
    for name, pool in around.pools.items():
        for prefix in pool.prefixes:
            yield Entry(
                prefix=prefix,
                kind="pool",
                owner=name,
                region=pool.region or "",
                note=f"for {pool.purpose}",
            )
    for key, choice in choices.items():
        blank = Blank.of(key)
        if blank.field == "region":
            for block in prefixes_in(choice.value):
                yield Entry(
                    prefix=block,
                    kind="region",
                    owner=blank.owner,
                    region=blank.owner,
                    note=f"for {blank.purpose}",
                )
        elif blank.part == "sites" and blank.field == "space":
            for block in prefixes_in(choice.value):
                yield Entry(prefix=block, kind="site space", owner=blank.owner, place=blank.owner)
    yield from _places(settled)
    for name, entry in around.elsewhere.items():
        about = "; ".join(t for t in (entry.owner, entry.place, entry.note) if t)
        yield Entry(prefix=entry.prefix, kind="elsewhere", owner=name, note=about)
    legs: list[Leg] = [*settled.tunnels(), *settled.circuits.values()]
    for leg in legs:
        for block in leg.inside:
            yield Entry(prefix=block, kind="inside", owner=leg.label, place=leg.label)
    for gateway in settled.gateways.values():
        if gateway.loopback is not None:
            own = host_prefix(str(gateway.loopback))
            yield Entry(prefix=own, kind="loopback", owner=gateway.name, place=gateway.site)
    yield from _translations(settled)
    for prefix in offering.forbidden:
        yield Entry(prefix=prefix, kind="forbidden by the cloud", owner="")
    for prefix in offering.reserved_inside:
        yield Entry(prefix=prefix, kind="reserved by the cloud", owner="")


def _translations(settled: Settled) -> Iterator[Entry]:
    """Once where several links between the same two places have one prefix for a thing."""
    links: dict[tuple[str, str, Exposure], list[str]] = {}
    for link in settled.links.values():
        for part in (*link.exposures, *link.cloud_exposures):
            if part.translated:
                owner = f"{link.site}/{part.network}" if part.network else link.cloud
                links.setdefault((link.site, owner, part), []).append(link.name)
    for (_, owner, part), names in links.items():
        on = f"link {names[0]}" if len(names) == 1 else f"links {', '.join(names)}"
        yield Entry(
            prefix=part.seen,
            kind="stands for",
            owner=owner,
            place=names[0],
            note=f"{part.real} on {on}",
        )


def _places(settled: Settled) -> Iterator[Entry]:
    for name, site in settled.sites.items():
        for prefix in site.given_spaces:
            yield Entry(
                prefix=prefix, kind="site space", owner=name, place=name, region=site.region
            )
        # All of one family before the other, as they are numbered.
        for bits in (32, 128):
            for network in site.networks.values():
                about = "; ".join(t for t in (network.owner, network.note) if t)
                for prefix in network.prefix:
                    if prefix.bits == bits:
                        owner = f"{name}/{network.name}"
                        yield Entry(
                            prefix=prefix,
                            kind="network",
                            owner=owner,
                            place=name,
                            region=site.region,
                            note=about,
                            network=network.name,
                        )
    for name, cloud in settled.clouds.items():
        for prefix in cloud.all_spaces:
            yield Entry(
                prefix=prefix, kind="cloud space", owner=name, place=name, region=cloud.region
            )
        for subnet in cloud.subnets.values():
            for part in subnet.prefix:
                owner = f"{name}/{subnet.name}"
                yield Entry(
                    prefix=part,
                    kind="subnet",
                    owner=owner,
                    place=name,
                    region=cloud.region,
                    network=subnet.name,
                )
        for part in () if cloud.gateway is None else cloud.gateway.subnet:
            yield Entry(
                prefix=part, kind="gateway subnet", owner=name, place=name, region=cloud.region
            )
