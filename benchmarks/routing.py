"""Tables and failures against a plain simulation: per prefix, from scratch, over a graph library.

    python -m benchmarks.routing

The baseline is what one writes first: a graph whose nodes are routers and whose edges are tunnels
with their preferences; for every prefix each router looks at its neighbours' routes until nothing
changes; after a failure all is done again. Both find the same tables, which is checked first.
"""

from __future__ import annotations

import statistics
import time
from collections.abc import Iterable

import networkx as nx

from benchmarks.designs import four_tunnels
from obrin.core.design.building import build_settled
from obrin.core.design.document import load_design
from obrin.core.design.offering import PRACTICE_CLOUD
from obrin.core.design.settle import settle
from obrin.core.design.settled import Settled
from obrin.core.drill.elements import Element, elements
from obrin.core.drill.sweep import ShortList, Sweep, failures
from obrin.core.reach.model import ReachModel
from obrin.core.routing.forwarding import RouteKind
from obrin.core.routing.model import all_up, announced_by_cloud, announced_by_site, local_pref

Tables = dict[str, dict[str, str]]


def network(settled: Settled, up: frozenset[str]) -> nx.MultiGraph:
    graph = nx.MultiGraph()
    for tunnel in settled.tunnels():
        if tunnel.label in up:
            graph.add_edge(
                tunnel.gateway, tunnel.cloud, key=tunnel.label, pref=local_pref(tunnel.preference)
            )
    return graph


def origins(settled: Settled) -> dict[str, set[str]]:
    found: dict[str, set[str]] = {}
    for link in settled.links.values():
        for prefix in announced_by_cloud(link):
            found.setdefault(str(prefix), set()).add(link.cloud)
        for prefix in announced_by_site(link):
            for tunnel in link.tunnels:
                found.setdefault(str(prefix), set()).add(tunnel.gateway)
    return found


def plain(settled: Settled, up: frozenset[str]) -> Tables:
    """Every prefix on its own, by asking neighbours until nothing changes."""
    graph = network(settled, up)
    tables: Tables = {name: {} for name in graph}
    for prefix, owners in origins(settled).items():
        best: dict[str, tuple[int, str]] = {}
        changed = True
        while changed:
            changed = False
            for router in graph:
                if router in owners:
                    continue
                offers = [
                    (-data["pref"], label)
                    for _, neighbour, label, data in graph.edges(router, keys=True, data=True)
                    if neighbour in owners  # a gateway is no transit
                ]
                choice = min(offers, default=None)
                if choice is not None and best.get(router) != choice:
                    best[router] = choice
                    changed = True
        for router, (_, label) in best.items():
            tables[router][prefix] = label
    return tables


def ours(settled: Settled) -> Tables:
    model = ReachModel(settled)
    return {
        place: {
            str(prefix): route.via
            for prefix, route in model.whole_table(place).items()
            if route.kind is RouteKind.BGP
        }
        for place in (*settled.gateways, *settled.clouds)
    }


def design_of(sites: int) -> Settled:
    wishes = ["expectations:"] + [
        f"  - {{from: site-{n:04}/office, to: timetable/booking, flow: tcp/443, must: work}}"
        for n in range(sites)
    ]
    text = four_tunnels(sites).rstrip() + "\n" + "\n".join(wishes) + "\n"
    design = load_design(text, "a").design
    return build_settled(design, settle(design, {}, PRACTICE_CLOUD))


def seconds(work, rounds: int = 1) -> float:
    found = []
    for _ in range(rounds):
        begun = time.perf_counter()
        work()
        found.append(time.perf_counter() - begun)
    return statistics.median(found)


def compare(sites: int, singles: int) -> Iterable[str]:
    settled = design_of(sites)
    up = all_up(settled)
    if ours(settled) != plain(settled, up):
        raise SystemExit("the two do not find the same tables")
    mine, theirs = seconds(lambda: ours(settled), 3), seconds(lambda: plain(settled, up))
    name = f"{sites:,} sites, {4 * sites:,} tunnels"
    yield (f"| {name}: all tables | per prefix, from scratch | {mine * 1e3:.0f} ms | "
           f"{theirs:.2f} s | {theirs / mine:.0f} times as fast (target 90) |")  # fmt: skip
    sweep = Sweep(settled, PRACTICE_CLOUD)
    failures = elements(settled, ("tunnel", "uplink", "instance"))[:singles]
    sweep.try_one((failures[0],))
    each = seconds(lambda: [sweep.try_one((e,)) for e in failures[1:]]) / (len(failures) - 1)
    yield (f"| {name}: a single failure, its flows followed | all tables again | "
           f"{each * 1e6:.0f} us | {theirs:.2f} s | {theirs / each:,.0f} times as fast "
           "(target 1,000) |")  # fmt: skip


def growth(sites: int) -> str:
    settled = design_of(sites)
    tables = seconds(lambda: ours(settled))
    begun = time.perf_counter()
    sweep = Sweep(settled, PRACTICE_CLOUD)
    base = time.perf_counter() - begun
    every: list[Element] = elements(settled)
    drill = seconds(lambda: [sweep.try_one((e,)) for e in every])
    return (f"| {sites:,} | {4 * sites:,} | {2 * sites + 1:,} | {tables:.2f} s | {base:.2f} s | "
            f"{len(every):,} in {drill:.2f} s |")  # fmt: skip


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
    for sites in (50, 200):
        for row in compare(sites, 400):
            print(row)
    print()
    print("| Sites | Tunnels | Prefixes | All tables | All flows followed | All single failures |")
    print("| --- | --- | --- | --- | --- | --- |")
    for sites in (200, 500, 1000, 2000):
        print(growth(sites))
    print()
    print(pairs(200))


if __name__ == "__main__":
    main()
