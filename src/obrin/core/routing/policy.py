"""What may be announced and accepted on one session; shared by the model and the wire engine."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.address.prefix import Prefix
from obrin.core.routing.path import DEFAULT_LOCAL_PREF, Path


@dataclass(frozen=True, slots=True)
class SessionPolicy:
    """`accept` lists what may come in (a prefix or anything inside it); None accepts all."""

    local_as: int
    peer_as: int
    accept: tuple[Prefix, ...] | None = None
    local_pref: int = DEFAULT_LOCAL_PREF

    @property
    def external(self) -> bool:
        return self.local_as != self.peer_as


def export_path(policy: SessionPolicy, path: Path, next_hop: int) -> Path:
    """RFC 4271 sections 5.1.2 to 5.1.5: to an external peer we prepend our AS and are next hop."""
    if not policy.external:
        return path
    # Spelled out: replacing fields of a dataclass by name takes four times as long.
    as_path = (policy.local_as, *path.as_path)
    return Path(next_hop, as_path, path.origin, path.med, DEFAULT_LOCAL_PREF, path.communities)


def import_path(policy: SessionPolicy, prefix: Prefix, path: Path) -> Path | str:
    """The path as it enters our table, or the reason why it does not."""
    if policy.local_as in path.as_path:
        return f"our own AS {policy.local_as} is in its AS path (loop check)"
    if policy.accept is not None and not any(p.covers(prefix) for p in policy.accept):
        return "not among the prefixes accepted from this peer"
    if not policy.external:
        return path
    if path.as_path[:1] != (policy.peer_as,):
        return f"its AS path does not begin with the peer's AS {policy.peer_as}"
    return Path(
        path.next_hop, path.as_path, path.origin, path.med, policy.local_pref, path.communities
    )
