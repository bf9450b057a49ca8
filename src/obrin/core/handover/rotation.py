"""The order in which keys are replaced, tunnel by tunnel, so that a redundant link never drops."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass

from obrin.core.design.arrangement import SPARE
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled


@dataclass(frozen=True, slots=True)
class Turn:
    """One tunnel's key. `carried_by` is the tunnel that carries the traffic meanwhile."""

    tunnel: SettledTunnel
    carried_by: str | None

    @property
    def meanwhile(self) -> str:
        """What happens to the traffic, in words."""
        if self.tunnel.role == SPARE:
            return "nothing: the spare is down; its new key shows its worth when it is needed"
        if self.carried_by is None:
            return "it stops for about two seconds: no other tunnel is up"
        return f"{self.carried_by} carries the traffic"


def rotation(settled: Settled, labels: Collection[str]) -> Iterator[Turn]:
    """A turn for each tunnel named, link by link, the least preferred first.

    So the tunnel that carries is restarted last, when the others have proven their new keys.
    """
    for link in settled.links.values():
        for tunnel in reversed(link.tunnels):
            if tunnel.label in labels:
                others = [t.label for t in link.tunnels if t is not tunnel and t.role != SPARE]
                yield Turn(tunnel, others[0] if others else None)
