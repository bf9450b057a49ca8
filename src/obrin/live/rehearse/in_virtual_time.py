"""A virtual practice world as the stage of a rehearsal."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence

from obrin.core.reach.trace import probe_key
from obrin.core.routing.packet import PacketKey
from obrin.core.routing.stable import Stable
from obrin.core.settled.expected import Expected
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled
from obrin.live.rehearse.compare import differences
from obrin.live.rehearse.virtual import VirtualWorld
from obrin.wire.host import Host, Query
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
        """Asked side by side, but for those that one host would ask from one port."""
        found, left = dict[int, bool](), list(enumerate(wishes))
        while left:
            later, asked, busy = [], dict[int, tuple[Host, Query]](), set[object]()
            for number, wish in left:
                key = probe_key(self.settled, wish)
                host = self._world.host_at(wish.source.place, key.source)
                mine = wish.source.place, key.source, key.protocol, key.source_port
                if host is None:
                    found[number] = False
                elif mine in busy:
                    later.append((number, wish))
                else:
                    busy.add(mine)
                    asked[number] = host, self._ask(host, key, wish.flow.first_port)
            self._world.move()
            for number, (host, query) in asked.items():
                found[number] = query.answered_at is not None
                host.forget(query)
            left = later
        self._world.move()
        return [found[number] for number in range(len(wishes))]

    def _ask(self, host: Host, key: PacketKey, port: int) -> Query:
        """From the port that the model has: among shared tunnels it decides which one is taken."""
        return host.ask(key.protocol, key.destination, port, self.now, own=key.source_port)

    def cut(self, ways: Collection[str], dead: Collection[str]) -> None:
        for label in ways:
            self._world.cut(label)
        for gateway in dead:
            self._world.kill(gateway)

    def heal(self) -> None:
        self._world.heal()

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
            router.settle(self.now)
