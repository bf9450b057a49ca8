"""The route tables of a cloud: what its gateways learned, and what is attached, put together.

A network has one. A hub has several, each for those who use it, with the routes of those who fill
it. What a table chose is advertised to its users; networks advertise to their hubs their own space
and nothing that they learned.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from typing import Protocol

from obrin.core.address.prefix import Address, Prefix
from obrin.core.address.table import PrefixTable
from obrin.core.routing.decision import Decision, decide
from obrin.core.routing.forwarding import Route, RouteKind, forwarding_table, sharing
from obrin.core.routing.path import Candidate, Origin, Path, Peer
from obrin.core.routing.policy import SessionPolicy, export_path, import_path
from obrin.core.settled.ways import Router as RouterName
from obrin.device.cloud.config import CloudAttachment, CloudConfig, CloudNetwork
from obrin.device.router.router import Router


class Instance(Protocol):
    """One instance of a gateway."""

    @property
    def network(self) -> str: ...

    @property
    def router(self) -> Router: ...


class CloudTables:
    """`tables` by the names that the model has for them, `best` what each would pass on."""

    def __init__(self) -> None:
        self.tables: dict[str, PrefixTable[Route]] = {}
        self.best: dict[str, dict[Prefix, Candidate]] = {}

    def build(
        self, config: CloudConfig, instances: Collection[Instance], lost: Collection[str]
    ) -> None:
        """Anew, without the attachments that are `lost`."""
        self.tables.clear()
        self.best.clear()
        up = [a for a in config.attachments if a.label not in lost]
        hubs_first = sorted(config.networks.items(), key=lambda entry: not entry[1].tables)
        for name, network in hubs_first:
            routers = [i.router for i in instances if i.network == name]
            for table in network.tables or ("",):
                here = RouterName(name, table).label
                build = _Build(config, name, network, table)
                attached = self._advertised(config, up, name, table)
                self.tables[here], self.best[here] = build.made(routers, list(attached))

    def _advertised(
        self, config: CloudConfig, up: Collection[CloudAttachment], name: str, table: str
    ) -> Iterator[Candidate]:
        """What comes over attachments: to a hub's table the spaces of networks, to a network what
        the table there chose."""
        for at in up:
            network, hub = config.networks[at.network], config.networks[at.hub]
            if at.hub == name and table in at.joined.fills:
                hop = network.identifier
                own = dict.fromkeys(network.spaces)
                yield from _over(at.label, network, hub, own, hop, passes_on=False)
            elif at.network == name:
                held = self.best.get(RouterName(at.hub, at.joined.uses).label, {})
                yield from _over(at.label, hub, network, held, hub.identifier, passes_on=True)


def _over(
    way: str,
    sender: CloudNetwork,
    receiver: CloudNetwork,
    routes: Mapping[Prefix, Candidate | None],
    hop: int,
    *,
    passes_on: bool,
) -> Iterator[Candidate]:
    """Routes across an attachment, in the terms of a session that crosses no AS."""
    ends = sender.asn, receiver.asn
    export = SessionPolicy(local_as=ends[0], peer_as=ends[1], attached=True, passes_on=passes_on)
    accept = SessionPolicy(local_as=ends[1], peer_as=ends[0], attached=True)
    identifier = sender.identifier
    peer = Peer(way, sender.asn, Address(32, identifier), identifier, external=False)
    for prefix, found in routes.items():
        if found is not None and found.peer.name == way:
            continue
        path = Path(hop) if found is None else found.path
        internal = found is not None and not found.peer.external
        sent = export_path(export, prefix, path, hop, internal=internal)
        taken = sent if isinstance(sent, str) else import_path(accept, prefix, sent)
        if isinstance(taken, Path):
            yield Candidate(prefix, taken, peer)


class _Build:
    """One table. That of a network has all that its gateway learned; that of a hub what fills it,
    and the way to every peer whose session advertises to it or that it advertises to."""

    def __init__(self, config: CloudConfig, name: str, network: CloudNetwork, table: str) -> None:
        self._config, self._table = config, table
        self._whole = not network.tables
        self._own = set(network.spaces) if self._whole else set()

    def made(
        self, routers: Collection[Router], attached: Collection[Candidate]
    ) -> tuple[PrefixTable[Route], dict[Prefix, Candidate]]:
        static = [route for router in routers for route in self._static(router)]
        table = forwarding_table(static)
        hosts = {
            n.session.peer_address.alone for r in routers for n in r.config.neighbours.values()
        }
        best = {prefix: _as_advertised(r) for prefix, r in table.items() if prefix not in hosts}
        heard: dict[Prefix, list[Candidate]] = {}
        resolved: dict[str, Route] = {}
        shared: set[str] = set()
        for candidate in attached:
            heard.setdefault(candidate.prefix, []).append(candidate)
        for router in routers:
            resolved |= router.routes.resolved
            shared |= router.routes.shared
            for session in self._sessions(router):
                for candidate in router.bgp.speaker.neighbours[session].candidates():
                    heard.setdefault(candidate.prefix, []).append(candidate)
        for prefix, candidates in heard.items():
            if table.get(prefix) is None and prefix not in self._own:
                decision = decide(candidates)
                best[prefix] = decision.winner
                table[prefix] = _learned(prefix, decision, resolved, shared)
        return table, best

    def _fills(self, way: str) -> bool:
        return self._whole or self._table in self._config.joined[way].fills

    def _uses(self, way: str) -> bool:
        return self._whole or self._table == self._config.joined[way].uses

    def _static(self, router: Router) -> Iterator[Route]:
        """A static route on a way with a session leads to the peer of that."""
        spoken = {way for n in router.config.neighbours.values() for way in n.ways}
        for static in router.config.static:
            mine = self._fills(static.way) or (static.way in spoken and self._uses(static.way))
            if mine and static.way in router.routes.alive:
                yield Route(static.prefix, RouteKind.STATIC, static.way, static.metric)

    def _sessions(self, router: Router) -> Iterator[str]:
        """Sessions that fill a table and whose peer can be reached."""
        for name, neighbour in router.config.neighbours.items():
            if name in router.routes.resolved and self._fills(neighbour.ways[0]):
                yield name


def _as_advertised(route: Route) -> Candidate:
    """A static route as what one would pass on."""
    peer = Peer(route.via, 0, Address(32, 0), 0)
    return Candidate(route.prefix, Path(0, (), Origin.INCOMPLETE), peer)


def _learned(
    prefix: Prefix, decision: Decision, resolved: Mapping[str, Route], shared: Collection[str]
) -> Route:
    winner = decision.winner.peer.name
    if winner not in resolved:
        return Route(prefix, RouteKind.BGP, winner)  # by an attachment
    names = (winner, *sharing(decision, shared))
    via, *others = [way for n in names for way in (resolved[n].via, *resolved[n].others)]
    return Route(prefix, RouteKind.BGP, via, 0, tuple(others))
