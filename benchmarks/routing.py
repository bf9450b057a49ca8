"""Tables and failures against a plain simulation: per prefix, from scratch, over a graph library.

    python -m benchmarks.routing

The baseline is what one writes first: a graph whose nodes are routers and whose edges are who tells
whom; for every prefix each router looks at what its neighbours tell until nothing changes; after a
failure all is done again. Both find the same tables, which is checked first.
"""

from __future__ import annotations

import resource
import statistics
import time
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from benchmarks.designs import four_tunnels, two_hubs
from benchmarks.measure import Row
from obrin.core.address.dual import Dual
from obrin.core.address.prefix import Address, Prefix
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.collecting import not_collecting
from obrin.core.design.document import load_design
from obrin.core.drill.elements import Element, elements, lost_ways
from obrin.core.drill.sweep import ShortList, Sweep, failures
from obrin.core.routing.model import network_of, state_of
from obrin.core.routing.network import Network
from obrin.core.routing.path import Peer
from obrin.core.routing.policy import PrefixList, SessionPolicy
from obrin.core.routing.session import Session
from obrin.core.routing.stable import Stable
from obrin.core.settle.settle import settle
from obrin.core.settled.building import build_settled
from obrin.core.settled.model import Settled

if TYPE_CHECKING:
    import networkx as nx

Tables = dict[str, dict[str, str]]


def graph_of(network: Network, lost: frozenset[str] = frozenset()) -> nx.MultiDiGraph:
    """Routers as nodes; who tells whom as edges, with all that decides."""
    import networkx as nx  # here: what whole commands need is measured beside this process

    graph = nx.MultiDiGraph()
    graph.add_nodes_from(network.routers)
    for s in network.sessions:
        if s.via not in lost:
            graph.add_edge(
                s.sender,
                s.receiver,
                key=s.via,
                pref=s.accept.local_pref,
                local=s.export.local_as,
                heard=s.accept.local_as,
                attached=s.export.attached,
                own={str(p) for p in s.announces},
                passes=s.export.passes_on,
                router=s.peer.router_id,
                address=s.peer.address,
                external=s.peer.external,
            )
    return graph


def plain(network: Network, lost: frozenset[str] = frozenset()) -> Tables:
    """Every prefix on its own, by asking neighbours until nothing changes."""
    graph = graph_of(network, lost)
    tables: Tables = {name: {} for name in graph}
    owners: dict[str, set[str]] = {}
    for sender, _, data in graph.edges(data=True):
        for prefix in data["own"]:
            owners.setdefault(prefix, set()).add(sender)
    for prefix, mine in owners.items():
        best: dict[str, tuple[object, ...]] = {}
        changed = True
        while changed:
            changed = False
            for router in graph:
                if router in mine:
                    continue
                offers = []
                for sender, _, via, data in graph.in_edges(router, keys=True, data=True):
                    if prefix in data["own"]:
                        path: tuple[int, ...] = ()
                    elif data["passes"] and sender in best and best[sender][-1] != via:
                        path = best[sender][-2]  # type: ignore[assignment]
                    else:
                        continue
                    if not data["attached"]:
                        path = (data["local"], *path)
                    if data["heard"] not in path:
                        offers.append(
                            (
                                -data["pref"],
                                len(path),
                                not data["external"],
                                data["router"],
                                data["address"],
                                path,
                                via,
                            )
                        )
                choice = min(offers, default=None)
                if choice is not None and best.get(router) != choice:
                    best[router] = choice
                    changed = True
        for router, found in best.items():
            tables[router][prefix] = str(found[-1])
    return tables


def solve(settled: Settled) -> Stable:
    """The first stable state: every router's choice for every class of prefixes."""
    state = state_of(settled)
    for router in state.network.routers:
        for _ in state.groups(router):
            pass
    return state


def ours(state: Stable) -> Tables:
    """The same spelled out, prefix by prefix."""
    return {
        router: {
            str(prefix): held.via
            for kinds, held in state.groups(router)
            for kind in kinds
            for prefix in kind.prefixes
        }
        for router in state.network.routers
    }


def ring(routers: int) -> Network:
    """Every router has a prefix of its own, and passes on what either neighbour tells it."""

    def advertised(one: int, other: int) -> Session:
        way, ours, theirs = f"{min(one, other)}-{max(one, other)}", 64512 + one, 64512 + other
        address = Address(32, (192 << 24) + one)
        return Session(
            via=way,
            sender=f"r{one}",
            receiver=f"r{other}",
            export=SessionPolicy(local_as=ours, peer_as=theirs, passes_on=True),
            accept=SessionPolicy(local_as=theirs, peer_as=ours),
            peer=Peer(way, ours, address, one),
            next_hop=Dual(address.value, None),
            announces=PrefixList([Prefix(32, (10 << 24) + (one << 8), 24)]),
        )

    ends = [(n, (n + 1) % routers) for n in range(routers)]
    return Network([advertised(*pair) for a, b in ends for pair in ((a, b), (b, a))], {})


def circles() -> Iterator[Row]:
    """The first stable state where everybody hears of everybody in a circle."""
    network, times, found = ring(202), list[float](), list[Tables]()
    with not_collecting():  # what other benchmarks left here is nothing that these two do
        for work in (lambda: ours(Stable(network)), lambda: plain(network)):
            begun = time.process_time()
            found.append(work())
            times.append(time.process_time() - begun)
    if found[0] != found[1]:
        raise SystemExit("the two do not find the same tables")
    ratio = f"{times[1] / times[0]:.0f} times as fast (target 30)"
    yield (
        "all tables of a ring of 202 routers",
        "per prefix, over a graph library",
        f"{times[0]:.2f} s",
        f"{times[1]:.1f} s",
        ratio,
    )


def built(text: str) -> Settled:
    design = load_design(text, "a").design
    return build_settled(design, settle(design, {}, PRACTICE_CLOUD))


def design_of(sites: int) -> Settled:
    wishes = ["expectations:"] + [
        f"  - {{from: site-{n:04}/office, to: timetable/booking, flow: tcp/443, must: work}}"
        for n in range(sites)
    ]
    return built(four_tunnels(sites).rstrip() + "\n" + "\n".join(wishes) + "\n")


def seconds(work, rounds: int = 1) -> float:
    found = []
    for _ in range(rounds):
        begun = time.perf_counter()
        work()
        found.append(time.perf_counter() - begun)
    return statistics.median(found)


def compare(name: str, settled: Settled, singles: int) -> Iterable[str]:
    network = network_of(settled)
    state = solve(settled)
    if ours(state) != plain(network):
        raise SystemExit("the two do not find the same tables")
    mine, theirs = seconds(lambda: solve(settled), 5), seconds(lambda: plain(network))
    yield (
        f"| {name}: all tables | per prefix, from scratch | {mine * 1e3:.0f} ms | "
        f"{theirs:.2f} s | {theirs / mine:.0f} times as fast (target 90) |"
    )
    sweep = Sweep(settled, PRACTICE_CLOUD)
    failures = elements(settled, ("tunnel", "uplink", "instance"))[:singles]
    sweep.try_one((failures[0],))
    lost = lost_ways(settled, failures[:1])
    again = seconds(lambda: plain(network, lost))
    each = seconds(lambda: [sweep.try_one((e,)) for e in failures[1:]]) / (len(failures) - 1)
    yield (
        f"| {name}: a single failure, its flows followed | all tables again | "
        f"{each * 1e6:.0f} us | {again:.2f} s | {again / each:,.0f} times as fast "
        "(target 1,000) |"
    )


def growth(name: str, settled: Settled) -> str:
    tables = seconds(lambda: solve(settled))
    begun = time.perf_counter()
    sweep = Sweep(settled, PRACTICE_CLOUD)
    base = time.perf_counter() - begun
    every: list[Element] = elements(settled)
    drill = seconds(lambda: [sweep.try_one((e,)) for e in every])
    prefixes = sum(len(kind.prefixes) for kind in network_of(settled).classes)
    tunnels = sum(1 for _ in settled.tunnels())
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
    return (
        f"| {name} | {tunnels:,} | {prefixes:,} | {tables:.2f} s | {base:.2f} s | "
        f"{len(every):,} in {drill:.2f} s | {memory:.2f} GB |"
    )


def pairs(sites: int) -> str:
    """Every failure of one and of two elements, as 'obrin drill --depth 2' tries them."""
    settled = design_of(sites)
    sweep, short, count = Sweep(settled, PRACTICE_CLOUD), ShortList(), 0

    def work() -> None:
        nonlocal count
        for failed in failures(elements(settled), 2):
            short.takes(sweep.try_one(failed))
            count += 1

    taken = seconds(work)
    return (
        f"{count:,} singles and pairs of {sites:,} sites in {taken:.0f} s (target 90, stretch 60)"
    )


def main() -> None:
    print("| What | Against | Obrin | Baseline | Ratio |")
    print("| --- | --- | --- | --- | --- |")
    for row in compare("200 sites, 800 tunnels, no hub", design_of(200), 400):
        print(row)
    for sites, networks in ((50, 10), (200, 10)):
        name = f"{sites} sites, {4 * sites} tunnels, 2 hubs, {sites * networks + 1:,} prefixes"
        for row in compare(name, built(two_hubs(sites, networks)), 400):
            print(row)
    print()
    print(
        "| Design | Tunnels | Prefixes | All tables | All flows followed | "
        "All single failures | Memory so far |"
    )
    print("| --- | --- | --- | --- | --- | --- | --- |")
    for sites in (200, 1000, 2000):
        print(growth(f"{sites:,} sites, no hub", design_of(sites)))
    for sites, networks in ((200, 10), (200, 50), (1000, 50), (2000, 50)):
        print(growth(f"{sites:,} sites, 2 hubs", built(two_hubs(sites, networks))))
    print()
    print(pairs(200))


if __name__ == "__main__":
    main()
