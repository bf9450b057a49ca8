"""When the same range is used twice: ways out side by side, each with what it costs and breaks."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from obrin.core.address.prefix import Prefix
from obrin.core.address.space import FreeSpace
from obrin.core.settle.pools import DEFAULTS
from obrin.core.settled.links import SettledLink
from obrin.core.settled.model import Settled
from obrin.core.space.view import Entry, SpaceView

BREAKS = (
    "applications that write addresses into their data (active FTP, some voice and video calls, "
    "some database and file replication)",
    "certificates and access lists that name addresses; logs show other addresses at each side",
    "names must be answered differently at each side (split DNS)",
)


@dataclass(frozen=True, slots=True)
class TranslationRule:
    """At `place`, on what leaves through the tunnel and what comes in by it."""

    place: str
    real: Prefix
    seen: Prefix


@dataclass(frozen=True, slots=True, kw_only=True)
class Remedy:
    """`lines` go into the design. `impossible` is empty, or says what is in the way."""

    name: str
    title: str
    lines: tuple[str, ...]
    costs: tuple[str, ...]
    breaks: tuple[str, ...] = ()
    rules: tuple[TranslationRule, ...] = ()
    impossible: str = ""


def remedies(settled: Settled, view: SpaceView, one: Entry, other: Entry) -> tuple[Remedy, ...]:
    """For two owners of overlapping ranges, the cheapest in the long run first."""
    return tuple(_remedies(settled, view, one, other))


def free_like(view: SpaceView, prefix: Prefix, purpose: str, besides: Sequence[Prefix]) -> Prefix:
    """A free range as long as this one that nobody has. Raises LookupError."""
    used = [e.prefix for e in view.entries if e.kind != "pool" and e.prefix.bits == prefix.bits]
    for pool in DEFAULTS[purpose]:
        found = FreeSpace([pool], [*used, *besides]).take(prefix.length)
        if found is not None:
            return found
    raise LookupError(f"no free /{prefix.length} is left in private space")


def _remedies(settled: Settled, view: SpaceView, one: Entry, other: Entry) -> Iterator[Remedy]:
    for entry, rest in ((other, one), (one, other)):
        if entry.kind != "elsewhere":
            yield _another(view, entry, rest)
    for entry, rest in ((other, one), (one, other)):
        if entry.kind == "network":
            yield _renumber(view, entry, rest)
    yield _translate(settled, view, one, other)
    yield _only(settled, one, other)


def _purpose(entry: Entry) -> str:
    return "clouds" if entry.kind == "cloud space" else "sites"


def _another(view: SpaceView, entry: Entry, rest: Entry) -> Remedy:
    title = f"another range for {entry.owner}"
    try:
        new = free_like(view, entry.prefix, _purpose(entry), [])
    except LookupError as error:
        return Remedy(name="another-range", title=title, lines=(), costs=(), impossible=str(error))
    if entry.kind == "cloud space":
        lines = (f"clouds.{entry.owner}:", f"  space: {new}")
    else:
        lines = (f"sites.{entry.place}.networks:", f"  {entry.network}: {new}")
    return Remedy(
        name="another-range",
        title=title,
        lines=lines,
        costs=("nothing, as long as it is not built",),
    )


def _renumber(view: SpaceView, entry: Entry, rest: Entry) -> Remedy:
    title = f"renumber {entry.owner}"
    try:
        new = free_like(view, entry.prefix, _purpose(entry), [])
    except LookupError as error:
        return Remedy(name="renumber", title=title, lines=(), costs=(), impossible=str(error))
    return Remedy(
        name="renumber",
        title=title,
        lines=(f"obrin space renumber {entry.owner} --to {new}",),
        costs=(
            f"up to {entry.prefix.size - 3} hosts get new addresses, part by part, with both "
            "ranges up meanwhile",
            "everything that names old addresses: DNS, DHCP, filters, applications, documents",
        ),
    )


def links_between(settled: Settled, one: Entry, other: Entry) -> list[SettledLink]:
    """The links by which the two meet: between them, or of both with a third."""
    between = settled.index.links_between.get(frozenset((one.place, other.place)), ())
    direct = [link for link in between if isinstance(link, SettledLink)]
    if direct:
        return direct
    return [
        link
        for entry, rest in ((other, one), (one, other))
        for link in settled.links.values()
        if entry.place in (link.site, link.cloud)
        and any(
            rest.place in (far.site, far.cloud)
            and {far.site, far.cloud} & {link.site, link.cloud} - {entry.place, rest.place}
            for far in settled.links.values()
        )
    ]


def _translate(settled: Settled, view: SpaceView, one: Entry, other: Entry) -> Remedy:
    title = "translate one to one at the gateways"
    links = links_between(settled, one, other)
    if "elsewhere" in (one.kind, other.kind) or not links:
        reason = "no link of this design joins the two, so no gateway of it can translate"
        return Remedy(name="translate", title=title, lines=(), costs=(), impossible=reason)
    if one.prefix.bits == 128:
        return Remedy(
            name="translate",
            title=title,
            lines=(),
            costs=(),
            impossible="links translate IPv4 only",
        )
    lines: list[str] = []
    rules: list[TranslationRule] = []
    besides: list[Prefix] = []
    try:
        for link in links:
            for entry in (one, other):
                if entry.place not in (link.site, link.cloud) or any(
                    rule.place == entry.place and rule.real == entry.prefix for rule in rules
                ):
                    continue
                new = free_like(view, entry.prefix, "translation", besides)
                besides.append(new)
                asked = f"cloud-seen-as: {new}"
                if entry.network:
                    asked = f"seen-as: {{{entry.network}: {new}}}"
                lines += [f"links.{link.name}:", f"  {asked}"]
                rules.append(TranslationRule(entry.place, entry.prefix, new))
            if not {one.place, other.place} <= {link.site, link.cloud} and rules:
                break  # one of two sites is enough
    except LookupError as error:
        return Remedy(name="translate", title=title, lines=(), costs=(), impossible=str(error))
    costs = [
        f"at {rule.place}: going out, source {rule.real} becomes {rule.seen}; coming in, "
        f"destination {rule.seen} becomes {rule.real}"
        for rule in rules
    ]
    costs += [
        f"{rule.seen} is what the far side calls it, in routes, filters and names" for rule in rules
    ]
    if any(rule.place in settled.clouds for rule in rules):
        costs.append("a gateway class that can translate")
    return Remedy(
        name="translate",
        title=title,
        lines=tuple(lines),
        costs=tuple(costs),
        breaks=BREAKS,
        rules=tuple(rules),
    )


def _only(settled: Settled, one: Entry, other: Entry) -> Remedy:
    title = "reach only some hosts instead of the whole network"
    inner = one if one.prefix.length > other.prefix.length else other
    networks = [e for e in (inner, one, other) if e.kind == "network"]
    links = links_between(settled, one, other)
    if not networks or not links:
        reason = "neither is a site's network on a link of this design"
        return Remedy(name="some-hosts", title=title, lines=(), costs=(), impossible=reason)
    entry = networks[0]
    link = next((x for x in links if x.site == entry.place), None)
    if link is None:
        reason = f"no link of {entry.place} joins the two"
        return Remedy(name="some-hosts", title=title, lines=(), costs=(), impossible=reason)
    host = entry.prefix.address(min(10, entry.prefix.size - 1))
    rest = one if entry is other else other
    return Remedy(
        name="some-hosts",
        title=title,
        lines=(f"links.{link.name}:", f"  only: {{{entry.network}: [{host}/32]}}"),
        costs=(
            f"only the hosts listed can be reached; their addresses must be unused in {rest.owner}",
            "a route for each host; whoever adds a host later has to add it here",
        ),
        breaks=("everything between the other hosts of the two ranges stays cut off",),
    )
