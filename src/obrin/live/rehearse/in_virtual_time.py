"""A virtual practice world as the stage of a rehearsal."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence

from obrin.core.reach.trace import probe_key
from obrin.core.routing.stable import Stable
from obrin.core.settled.expected import Expected
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled
from obrin.live.rehearse.compare import differences
from obrin.live.rehearse.virtual import VirtualWorld
from obrin.wire.ike.events import CHILD_REKEY


class VirtualStage:
    """Packets need no time there: what is answered at all is answered at once."""

    step = 0.1

    def __init__(self, world: VirtualWorld) -> None:
        self._world = world

    @property
    def settled(self) -> Settled:
        return self._world.settled

    @property
    def now(self) -> float:
        return self._world.now

    def wait(self, seconds: float) -> None:
        self._world.run(seconds)

    def answered(self, wishes: Sequence[Expected], *, patient: bool = False) -> list[bool]:
        return [self._asked(wish) for wish in wishes]

    def _asked(self, wish: Expected) -> bool:
        key = probe_key(self.settled, wish)
        host = self._world.host_at(wish.source.place, key.source)
        if host is None:
            return False
        port = wish.flow.first_port
        # From the port that the model has: among shared tunnels it decides which one is taken.
        found = self._world.asked(host, key.protocol, key.destination, port, own=key.source_port)
        return found.answered_at is not None

    def cut(self, ways: Collection[str]) -> None:
        for label in ways:
            self._world.cut(label)

    def heal(self) -> None:
        self._world.internet.heal()

    def differences(self, stable: Stable) -> Iterable[str]:
        return differences(self._world, stable)

    def new_key(self, tunnel: SettledTunnel) -> None:
        self._world.new_key(tunnel)

    def rekey(self, what: str) -> None:
        for router in self._world.routers.values():
            for tunnel in router.ike.tunnels.values():
                if what == CHILD_REKEY:
                    for child in list(tunnel.outbounds.values()):
                        tunnel.rekey_child(child, self.now)
                else:
                    tunnel.rekey_ike(self.now)
