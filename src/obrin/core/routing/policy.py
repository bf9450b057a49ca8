"""What may be announced and accepted on one session; shared by the model and the wire engine."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from obrin.core.address.prefix import Prefix
from obrin.core.routing.path import DEFAULT_LOCAL_PREF, Path, has_as

NO_EXPORT, NO_ADVERTISE, NO_EXPORT_SUBCONFED = 0xFFFFFF01, 0xFFFFFF02, 0xFFFFFF03
WELL_KNOWN = {
    "no-export": NO_EXPORT,
    "no-advertise": NO_ADVERTISE,
    "no-export-subconfed": NO_EXPORT_SUBCONFED,
}
"""RFC 1997. Without confederations the third does what the first does."""


class PrefixList:
    """Prefixes in the order given; whether one of them covers another is found at once."""

    __slots__ = ("_hash", "_levels", "prefixes")

    def __init__(self, prefixes: Iterable[Prefix]) -> None:
        self.prefixes = tuple(prefixes)
        self._hash = hash(self.prefixes)
        self._levels: dict[tuple[int, int], set[int]] = {}
        for p in self.prefixes:
            shift = p.bits - p.length
            self._levels.setdefault((p.bits, shift), set()).add(p.value >> shift)

    def covers(self, prefix: Prefix) -> bool:
        """Whether the prefix is one of these or inside one."""
        low = prefix.bits - prefix.length
        return any(
            bits == prefix.bits and shift >= low and prefix.value >> shift in level
            for (bits, shift), level in self._levels.items()
        )

    def __iter__(self) -> Iterator[Prefix]:
        return iter(self.prefixes)

    def __len__(self) -> int:
        return len(self.prefixes)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, PrefixList) and self.prefixes == other.prefixes

    def __hash__(self) -> int:
        return self._hash

    def __repr__(self) -> str:
        return f"PrefixList({', '.join(map(str, self.prefixes))})"


@dataclass(frozen=True, slots=True, kw_only=True)
class SessionPolicy:
    """One end's side of a session.

    `accept` lists what may come in (a prefix or anything inside it); None accepts all. `prepend` is
    how often our AS stands in front once more; `med` and `communities` are sent to the peer; what
    lies inside one of the `summaries` is not advertised, as the summary is. `passes_on` is whether
    routes learned from others are advertised as well. `next_hop_self` matters to internal peers: to
    external ones we always are. `attached` joins a cloud network to its hub: no AS is crossed.
    `limit` is how many prefixes the peer may advertise before the session ends (RFC 4486).
    """

    local_as: int
    peer_as: int
    accept: PrefixList | None = None
    local_pref: int = DEFAULT_LOCAL_PREF
    prepend: int = 0
    med: int | None = None
    communities: tuple[int, ...] = ()
    summaries: tuple[Prefix, ...] = ()
    passes_on: bool = False
    next_hop_self: bool = False
    attached: bool = False
    limit: int | None = None

    @property
    def external(self) -> bool:
        return self.local_as != self.peer_as and not self.attached

    @property
    def internal(self) -> bool:
        return self.local_as == self.peer_as and not self.attached


def export_path(
    policy: SessionPolicy, prefix: Prefix, path: Path, next_hop: int, *, internal: bool = False
) -> Path | str:
    """What is advertised to the peer, or why not. `internal`: it was learned from an internal peer.

    To an external peer we prepend our AS and are next hop (RFC 4271 sections 5.1.2 to 5.1.5); to an
    internal one we do not pass on what another internal one said (section 9.2). The well-known
    communities are those of RFC 1997.
    """
    if path.communities:
        if NO_ADVERTISE in path.communities:
            return "it is marked no-advertise"
        if policy.external and not {NO_EXPORT, NO_EXPORT_SUBCONFED}.isdisjoint(path.communities):
            return "it is marked no-export"
    for summary in policy.summaries:
        if summary != prefix and summary.covers(prefix):
            return f"it is inside the summary {summary}"
    communities = path.communities
    if policy.communities:
        communities = tuple(dict.fromkeys((*communities, *policy.communities)))
    if policy.external:
        # Spelled out: replacing fields of a dataclass by name takes four times as long.
        as_path = (policy.local_as,) * (1 + policy.prepend) + path.as_path
        # A peer's discriminator is for us alone (section 5.1.4).
        return Path(
            next_hop,
            as_path,
            path.origin,
            policy.med,
            DEFAULT_LOCAL_PREF,
            communities,
            path.carried,
        )
    if internal and not policy.attached:
        return "an internal peer advertised it, and internal peers do not pass on to each other"
    hop = next_hop if policy.next_hop_self or not path.as_path else path.next_hop
    return Path(
        hop, path.as_path, path.origin, path.med, path.local_pref, communities, path.carried
    )


def import_path(policy: SessionPolicy, prefix: Prefix, path: Path) -> Path | str:
    """The path as it enters our table, or the reason why it does not."""
    if has_as(path.as_path, policy.local_as):
        return f"our own AS {policy.local_as} is in its AS path (loop check)"
    if policy.accept is not None and not policy.accept.covers(prefix):
        return "not among the prefixes accepted from this peer"
    if policy.attached:
        return Path(
            path.next_hop,
            path.as_path,
            path.origin,
            None,
            policy.local_pref,
            path.communities,
            path.carried,
        )
    if not policy.external:
        return path
    if path.as_path[:1] != (policy.peer_as,):
        return f"its AS path does not begin with the peer's AS {policy.peer_as}"
    return Path(
        path.next_hop,
        path.as_path,
        path.origin,
        path.med,
        policy.local_pref,
        path.communities,
        path.carried,
    )
