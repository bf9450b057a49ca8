"""Spare tunnels of a practice gateway: down until those that they stand in for have failed."""

from __future__ import annotations

from collections.abc import Mapping

from obrin.device.config import RouterTunnel
from obrin.wire.ike.tunnel import Tunnel

AGAIN_AFTER = 5.0
"""Seconds until a spare that did not come up is tried again."""


class Spares:
    """Starts a spare when none of its elders is up, and closes it when one is again."""

    def __init__(self, configs: Mapping[str, RouterTunnel], tunnels: Mapping[str, Tunnel]) -> None:
        self._tunnels = tunnels
        self._elders = _elders(configs)
        self._due = dict.fromkeys(self._elders, float("inf"))

    def take(self, configs: Mapping[str, RouterTunnel], now: float) -> None:
        """Other spares, or for others; those that were there before keep their time."""
        self._elders = _elders(configs)
        self._due = {
            name: self._due.get(name, now + self._tunnels[name].config.liveness.give_up)
            for name in self._elders
        }

    def start(self, now: float) -> None:
        """The elders get the time in which they would be given up."""
        for name in self._elders:
            self._due[name] = now + self._tunnels[name].config.liveness.give_up

    def elder_down(self, elder: str, now: float) -> None:
        """Note that the child SA of an elder tunnel is gone."""
        for name, elders in self._elders.items():
            if elder in elders:
                self._due[name] = now

    def mind(self, now: float) -> None:
        """Start and close what is due."""
        for name in self._elders:
            tunnel = self._tunnels[name]
            if self._needed(name):
                if now >= self._due[name] and not tunnel.sas:
                    self._due[name] = now + AGAIN_AFTER
                    tunnel.start(now)
            elif tunnel.established:
                tunnel.close(now)

    def next_timer(self) -> float:
        waiting = [
            self._due[name]
            for name in self._elders
            if self._needed(name) and not self._tunnels[name].sas
        ]
        return min(waiting, default=float("inf"))

    def _needed(self, name: str) -> bool:
        found = (self._tunnels.get(elder) for elder in self._elders[name])
        return not any(t is not None and t.outbound is not None for t in found)


def _elders(configs: Mapping[str, RouterTunnel]) -> dict[str, tuple[str, ...]]:
    return {name: c.stands_in_for for name, c in configs.items() if c.stands_in_for}
