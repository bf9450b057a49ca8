"""What of a router has to move when its configuration changes, and nothing else."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TypeVar

from obrin.device.config import RouterConfig, RouterNeighbour, RouterWay

V = TypeVar("V")


@dataclass(frozen=True, slots=True, kw_only=True)
class Changes:
    """Names of tunnels and of sessions.

    Tunnels are `gone`, `new`, or have to begin `anew` because what the IKE peers agree on differs.
    Sessions are `sessions_gone` and `sessions_new` (one that begins again is both), or only show
    and accept something else (`policies`).
    """

    gone: tuple[str, ...]
    new: tuple[str, ...]
    anew: tuple[str, ...]
    sessions_gone: tuple[str, ...]
    sessions_new: tuple[str, ...]
    policies: tuple[str, ...]


def changes_between(old: RouterConfig, new: RouterConfig) -> Changes:
    """A tunnel whose own address inside changes keeps its SAs; only its session begins again."""
    both = [name for name in new.tunnels if name in old.tunnels]
    again = tuple(
        name
        for name in _both(old.neighbours, new.neighbours)
        if _session(old, name) != _session(new, name)
    )
    return Changes(
        gone=_without(old.tunnels, new.tunnels),
        new=_without(new.tunnels, old.tunnels),
        anew=tuple(name for name in both if old.tunnels[name].peer != new.tunnels[name].peer),
        sessions_gone=(*_without(old.neighbours, new.neighbours), *again),
        sessions_new=(*_without(new.neighbours, old.neighbours), *again),
        policies=tuple(
            name
            for name in _both(old.neighbours, new.neighbours)
            if name not in again and old.neighbours[name] != new.neighbours[name]
        ),
    )


def same_bfd(old: RouterWay | None, new: RouterWay) -> bool:
    """Whether the session that watches a tunnel or line can go on."""
    if old is None:
        return False
    return (old.bfd, old.bfd_endpoints, old.inside[0]) == (
        new.bfd,
        new.bfd_endpoints,
        new.inside[0],
    )


def _session(config: RouterConfig, name: str) -> object:
    """What a running session cannot change. A session's own AS stands in its policy, too."""
    neighbour: RouterNeighbour = config.neighbours[name]
    policy = neighbour.policy
    return neighbour.session, neighbour.ways, policy.local_as, policy.peer_as


def _without(one: Mapping[str, V], other: Mapping[str, V]) -> tuple[str, ...]:
    return tuple(name for name in one if name not in other)


def _both(one: Mapping[str, V], other: Mapping[str, V]) -> tuple[str, ...]:
    return tuple(name for name in other if name in one)
