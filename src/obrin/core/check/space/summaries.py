"""What is advertised in place of networks: summaries, and routes that lead into themselves."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from obrin.core.address.prefix import Address, Prefix
from obrin.core.address.space import summaries as merged
from obrin.core.address.table import PrefixTable
from obrin.core.check.finding import Finding, Severity
from obrin.core.design.reader import Location
from obrin.core.routing.model import accepted_at_site, advertised_before_summaries
from obrin.core.settled.links import SettledLink
from obrin.core.settled.model import Settled
from obrin.core.settled.telling import announced_by_site

_WIDE = 64
"""A summary of more than this many times what it stands for is more than room to grow."""


Known = list[tuple[Prefix, str, str]]
"""The networks of all sites in the order of their prefixes: prefix, site, name."""


def summaries(settled: Settled) -> Iterator[Finding]:
    networks: Known = sorted(
        (prefix, site, name) for site in settled.sites for name, prefix in settled.networks_at(site)
    )
    known: dict[tuple[int, Prefix], _Inside] = {}
    for link in settled.links.values():
        real = [part.seen for part in link.exposures]
        here: Location = ("links", link.name, "bgp")
        for summary in (s for s in link.summaries if s.length > 1):
            inside = _Inside.of(real, summary)
            yield from _stands_for(summary, inside, (*here, "summaries"), f"site {link.site}")
            yield from _of_others(networks, link, summary, (*here, "summaries"))
        advertised = advertised_before_summaries(settled, link) if link.cloud_summaries else ()
        for summary in (s for s in link.cloud_summaries if s.length > 1):
            where = (*here, "cloud-summaries")
            key = id(advertised), summary  # all that use one table of a hub share one list
            if key not in known:
                known[key] = _Inside.of(advertised, summary)
            yield from _stands_for(summary, known[key], where, f"cloud {link.cloud}")


@dataclass(frozen=True, slots=True)
class _Inside:
    """What is advertised inside a summary: the first few, and how many addresses all have."""

    names: str
    addresses: int

    @staticmethod
    def of(advertised: Iterable[Prefix], summary: Prefix) -> _Inside:
        found = [prefix for prefix in advertised if summary.covers(prefix)]
        names = ", ".join(map(str, found[:_FEW_NAMES])) + (", ..." * (len(found) > _FEW_NAMES))
        return _Inside(names, sum(p.size for p in merged(found)))


_FEW_NAMES = 5


def _stands_for(summary: Prefix, inside: _Inside, here: Location, owner: str) -> Iterator[Finding]:
    if not inside.addresses:
        yield Finding(
            Severity.WARNING,
            "summary-empty",
            here,
            f"summary {summary} covers none of the prefixes of {owner} on this link",
            "it covers no network here and attracts traffic for unused addresses",
            "take it out, or correct it",
        )
    elif summary.size > _WIDE * inside.addresses:
        yield Finding(
            Severity.WARNING,
            "summary-wide",
            here,
            f"summary {summary} covers far more than the {inside.names} that {owner} has in it",
            "traffic for whatever else lies in it is drawn here and lost",
            "advertise a longer prefix that covers just these, and what they may grow to",
        )


def _of_others(
    networks: Known, link: SettledLink, summary: Prefix, here: Location
) -> Iterator[Finding]:
    low = bisect_left(networks, (Prefix(summary.bits, summary.value, 0),))
    high = bisect_left(networks, (Prefix(summary.bits, summary.last + 1, 0),))
    inside = (entry for entry in networks[low:high] if summary.covers(entry[0]))
    found = next((entry for entry in inside if entry[1] != link.site), None)
    if found is not None:
        prefix, site, name = found
        yield Finding(
            Severity.WARNING,
            "summary-foreign",
            here,
            f"summary {summary} of site {link.site} covers {prefix} of {site}/{name}",
            f"while {site} is down, its traffic is drawn to {link.site} instead of learning that "
            "there is no way",
            "advertise longer prefixes that leave the other site out",
        )


class Holders:
    """Which of many prefixes an address lies in; lists that are the same are looked at once."""

    def __init__(self) -> None:
        # By identity, with the list kept: those of thousands of prefixes are long to hash.
        self._tables: dict[int, tuple[tuple[Prefix, ...], PrefixTable[None]]] = {}

    def of(self, prefixes: tuple[Prefix, ...], address: Address) -> Prefix | None:
        """The longest; a default route holds everything and is reported as such."""
        if len(prefixes) < _FEW:
            return next((p for p in prefixes if p.length > 1 and p.holds(address)), None)
        if id(prefixes) not in self._tables:
            table: PrefixTable[None] = PrefixTable()
            for prefix in prefixes:
                table[prefix] = None
            self._tables[id(prefixes)] = prefixes, table
        table = self._tables[id(prefixes)][1]
        found = table.match(address)
        return found[0] if found is not None and found[0].length > 1 else None


_FEW = 8


def into_itself(settled: Settled) -> Iterator[Finding]:
    """A tunnel cannot carry the packets that it is made of."""
    holders = Holders()
    for link in settled.links.values():
        advertised = accepted_at_site(settled, link), announced_by_site(link)
        for tunnel in link.tunnels:
            for prefixes, end, at in (
                (advertised[0], tunnel.cloud_address, tunnel.gateway),
                (advertised[1], tunnel.uplink.address, tunnel.cloud),
            ):
                held = holders.of(prefixes, end)
                if held is not None:
                    yield Finding(
                        Severity.ERROR,
                        "tunnel-in-itself",
                        ("links", link.name, "tunnels", tunnel.name),
                        f"{at} routes {held} into {tunnel.label}, and the tunnel's own far end "
                        f"{end} lies in it",
                        "the tunnel would carry itself: it comes up, and falls as soon as the "
                        "route is there",
                        f"leave {end} out of the prefixes that are advertised or routed",
                    )
