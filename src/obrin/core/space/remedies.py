"""Remedies for a range that is used twice: ways out side by side, each with what it costs and
breaks."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from obrin.core.address.prefix import Prefix
from obrin.core.address.space import FreeSpace
from obrin.core.json_text import Json
from obrin.core.settle.blank import cloud_key, suffix
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
    """Translation at `place`, of what leaves through the tunnel and of what arrives through it."""

    place: str
    real: Prefix
    seen: Prefix


@dataclass(frozen=True, slots=True, kw_only=True)
class Remedy:
    """`change` goes into the design, and `lines` are it as text, or a command. `impossible` is
    empty, or says what is in the way."""

    name: str
    title: str
    lines: tuple[str, ...] = ()
    costs: tuple[str, ...] = ()
    change: Json = field(default_factory=dict)
    breaks: tuple[str, ...] = ()
    rules: tuple[TranslationRule, ...] = ()
    impossible: str = ""


def remedies(
    settled: Settled,
    view: SpaceView,
    one: Entry,
    other: Entry,
    tried: Callable[[Json], str] = lambda change: "",
) -> tuple[Remedy, ...]:
    """List the remedies for two owners of overlapping ranges, the cheapest in the long run
    first. `tried` says why a change of the design would not help; empty when it does."""
    found = []
    for remedy in _remedies(settled, view, one, other):
        reason = tried(remedy.change) if remedy.change and not remedy.impossible else ""
        if reason:
            remedy = replace(remedy, lines=(), costs=(), breaks=(), impossible=reason)
        found.append(remedy)
    return tuple(found)


def as_lines(change: Mapping[str, Any], depth: int = 0) -> Iterator[str]:
    """A change as it is written in the design, to be merged into what is there."""
    for key, value in change.items():
        if isinstance(value, Mapping):
            yield f"{'  ' * depth}{key}:"
            yield from as_lines(value, depth + 1)
        else:
            shown = f"[{', '.join(map(str, value))}]" if isinstance(value, list) else value
            yield f"{'  ' * depth}{key}: {shown}"


def free_like(view: SpaceView, prefix: Prefix, purpose: str, besides: Sequence[Prefix]) -> Prefix:
    """A free range as long as this one that nobody has. Raises LookupError."""
    used = [e.prefix for e in view.entries if e.kind != "pool" and e.prefix.bits == prefix.bits]
    for pool in DEFAULTS[purpose]:
        found = FreeSpace([pool], [*used, *besides]).take(prefix.length)
        if found is not None:
            return found
    raise LookupError(f"no free /{prefix.length} is left in private space")


def _remedies(settled: Settled, view: SpaceView, one: Entry, other: Entry) -> Iterator[Remedy]:
    for entry in (other, one):
        if entry.kind != "elsewhere":
            yield _another(settled, view, entry)
    for entry, rest in ((other, one), (one, other)):
        if entry.kind == "network":
            yield _renumber(view, entry, rest)
    yield _translate(settled, view, one, other)
    yield _only(settled, one, other)


def _purpose(entry: Entry) -> str:
    return "clouds" if entry.kind == "cloud space" else "sites"


def _another(settled: Settled, view: SpaceView, entry: Entry) -> Remedy:
    title = f"another range for {entry.owner}"
    try:
        new = free_like(view, entry.prefix, _purpose(entry), [])
    except LookupError as error:
        return Remedy(name="another-range", title=title, lines=(), costs=(), impossible=str(error))
    if entry.kind == "cloud space":
        change = {"clouds": {entry.owner: _moved(settled, entry, new)}}
    else:
        change = {"sites": {entry.place: {"networks": {entry.network: {"prefix": str(new)}}}}}
    return Remedy(
        name="another-range",
        title=title,
        lines=tuple(as_lines(change)),
        costs=("nothing, as long as it is not built",),
        change=change,
    )


def _moved(settled: Settled, entry: Entry, new: Prefix) -> Json:
    """A cloud in another space, with the parts that the design gives at the same place in it."""
    cloud = settled.clouds[entry.owner]

    def there(prefix: Prefix) -> str:
        return str(prefix._replace(value=prefix.value - entry.prefix.value + new.value))

    bits, tail = new.bits, suffix(new.bits)
    spaces = [new if space == entry.prefix else space for space in cloud.spaces.of(bits) or ()]
    made: Json = {f"space{tail}": str(new) if len(spaces) == 1 else list(map(str, spaces))}
    here = cloud_key(entry.owner)
    subnets = {
        name: {f"prefix{tail}": there(held)}
        for name, subnet in cloud.subnets.items()
        if f"{here}.subnets.{name}.prefix{tail}" not in settled.chosen
        and (held := subnet.prefix.of(bits)) is not None
        and entry.prefix.covers(held)
    }
    if subnets:
        made["subnets"] = subnets
    own = None if cloud.gateway is None else cloud.gateway.subnet.of(bits)
    given = f"{here}.gateway.subnet{tail}" not in settled.chosen
    if given and own is not None and entry.prefix.covers(own):
        made["gateway"] = {f"subnet{tail}": there(own)}
    return made


def _renumber(view: SpaceView, entry: Entry, rest: Entry) -> Remedy:
    title = f"renumber {entry.owner}"
    try:
        new = free_like(view, entry.prefix, _purpose(entry), [])
    except LookupError as error:
        return Remedy(name="renumber", title=title, lines=(), costs=(), impossible=str(error))
    return Remedy(
        name="renumber",
        title=title,
        lines=("obrin space renumber \\", f"  {entry.owner} \\", f"  --to {new}"),
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
    links_changed: Json = {}
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
                changed = links_changed.setdefault(link.name, {})
                if entry.network:
                    changed.setdefault("seen-as", {})[entry.network] = str(new)
                else:
                    changed["cloud-seen-as"] = _spaces_seen(settled, entry, new)
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
        lines=tuple(as_lines({"links": links_changed})),
        change={"links": links_changed},
        costs=tuple(costs),
        breaks=BREAKS,
        rules=tuple(rules),
    )


def _spaces_seen(settled: Settled, entry: Entry, new: Prefix) -> str | list[str]:
    """A prefix for each of a cloud's: the others stay what they are."""
    spaces = settled.clouds[entry.place].spaces.of(new.bits) or ()
    if len(spaces) == 1:
        return str(new)
    return [str(new if space == entry.prefix else space) for space in spaces]


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
    change = {"links": {link.name: {"only": {entry.network: [f"{host}/32"]}}}}
    return Remedy(
        name="some-hosts",
        title=title,
        lines=tuple(as_lines(change)),
        change=change,
        costs=(
            f"only the hosts listed can be reached; their addresses must be unused in {rest.owner}",
            "a route for each host; whoever adds a host later has to add it here",
        ),
        breaks=("everything between the other hosts of the two ranges stays cut off",),
    )
