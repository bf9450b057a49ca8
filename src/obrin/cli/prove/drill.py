"""`drill`: failures tried on the model."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import click

from obrin.cli.shared.common import (
    console,
    design_option,
    echo_csv,
    echo_json,
    json_option,
    print_table,
    project_of,
)
from obrin.cli.shared.working import crew_of, working
from obrin.core.naming import some
from obrin.core.quantity import plain

if TYPE_CHECKING:
    from obrin.core.crew import Crew
    from obrin.core.drill.sweep import Outcome, Sweep

_HEAD = ("Lost", "Outage", "Fails", "Moves", "Fullest", "Mind")
MOST = 2_000_000
"""Failures that one run tries."""


@click.command()
@click.argument("failures", nargs=-1, metavar="[KIND:NAME]...")
@click.option(
    "--depth",
    type=click.IntRange(1, 4),
    default=1,
    show_default=True,
    help="So many elements at once: 2 for all pairs.",
)
@click.option("--kind", "kinds", multiple=True, help="Only elements of this kind, such as uplink.")
@click.option(
    "--all",
    "whole",
    is_flag=True,
    help="Failures that cost nothing, and all that follow from smaller ones, too.",
)
@click.option(
    "--availability",
    "yearly",
    is_flag=True,
    help="Minutes a year without each flow, by the design's 'reliability'.",
)
@click.option("--csv", "as_csv", is_flag=True, help="Print CSV for spreadsheets.")
@working
@design_option
@json_option
@click.pass_context
def drill(
    ctx: click.Context,
    failures: tuple[str, ...],
    depth: int,
    kinds: tuple[str, ...],
    whole: bool,
    yearly: bool,
    as_csv: bool,
    workers: int,
    cluster: str | None,
    trusted: bool,
    design_file: str | None,
    as_json: bool,
) -> None:
    """Let things fail, one by one or together: what is lost, what moves, for how many seconds.

    Elements are tunnel, uplink, provider, gateway, instance and cloud. Named ones fail together.
    Loads of expectations ('load') are held against uplinks ('rate'), devices and instances. Of
    several elements at once only the short list is shown: what no smaller failure breaks already.
    Exit code 1 when a failure loses a flow or overloads something.

    \b
    Examples:
      obrin drill --design skerrow-ferries
      obrin drill --depth 2 --design skerrow-ferries
      obrin drill provider:north-fibre instance:timetable/2 --design skerrow-ferries
    """
    from obrin.core.drill.assumed import assumptions
    from obrin.core.drill.breaking import breaking, looked_at
    from obrin.core.drill.elements import KINDS, parse_elements
    from obrin.core.drill.jobs import outcomes
    from obrin.core.drill.sweep import Sweep
    from obrin.core.drill.sweep import failures as all_failures
    from obrin.core.errors import ObrinError

    project = project_of(design_file)
    document, _, settled, _ = project.on_trial()
    for kind in kinds:
        if kind not in KINDS:
            raise ObrinError(f"there is no kind '{kind}'. There are: {', '.join(KINDS)}")
    named = parse_elements(settled, failures)
    sweep = Sweep(settled, project.offering(document.design))
    known = sweep.elements(kinds or KINDS)
    for text in assumptions(settled):
        click.echo(f"assumed: {text}.", err=True)
    if yearly:
        with crew_of(workers, cluster, trusted=trusted) as crew:
            _yearly(sweep, crew, as_json=as_json)
        return
    count = _combinations(len(known), depth)
    looked = _combinations(len(known) if whole else looked_at(sweep, known), depth)
    if not named and depth > 1 and looked > MOST:
        raise ObrinError(f"{looked:,} failures are too many. Choose a --kind, or a smaller --depth")
    with crew_of(workers, cluster, trusted=trusted) as crew:
        if named or whole or depth == 1:
            every = [named] if named else all_failures(known, depth)
            tried = _try(outcomes(crew, sweep, every), whole=whole or bool(named))
        else:
            more = [f for f in breaking(sweep, known, depth, crew) if len(f) > 1]
            every = itertools.chain(all_failures(known, 1), more)
            tried = _try(outcomes(crew, sweep, every), whole=False)
            tried.count, tried.short = count, True
    if as_json:
        echo_json([_as_json(outcome) for outcome in tried.shown])
    elif as_csv:
        echo_csv(_HEAD, [_cells(outcome, len(sweep.flows)) for outcome in tried.shown])
    else:
        _print(tried, len(sweep.flows), lost=tried.shown[0].lost if named else ())
    ctx.exit(1 if tried.bad else 0)


def _combinations(elements: int, depth: int) -> int:
    from math import comb

    return sum(comb(elements, size) for size in range(1, depth + 1))


@dataclass(slots=True)
class _Tried:
    """`points` are the elements that alone lose a flow; `count` says of how many failures `bad`
    break the promise, those apart in which a smaller one does."""

    shown: list[Outcome] = field(default_factory=list)
    points: list[str] = field(default_factory=list)
    count: int = 0
    bad: int = 0
    short: bool = False


def _try(found: Iterable[Outcome], *, whole: bool) -> _Tried:
    """`whole`: what costs nothing, or follows from a smaller failure, is shown too."""
    from obrin.core.drill.sweep import ShortList

    tried, short = _Tried(), ShortList()
    for outcome in found:
        failed = outcome.failed
        tried.count += 1
        tried.bad += not outcome.keeps_the_promise
        if len(failed) == 1 and outcome.lost:
            tried.points.append(str(failed[0]))
        single = len(failed) == 1 and bool(outcome.moved or outcome.apart)
        if short.takes(outcome) or whole or single:
            tried.shown.append(outcome)
    return tried


def _print(tried: _Tried, flows: int, *, lost: Sequence[str]) -> None:
    """Columns that say nothing are left out; the flows that are `lost` are named."""
    rows = [_cells(outcome, flows) for outcome in tried.shown]
    kept = [n for n, name in enumerate(_HEAD) if n < 3 or any(row[n] for row in rows)]
    print_table(
        console(),
        [_HEAD[n] for n in kept],
        [[row[n] for n in kept] for row in rows],
        styles={"nothing": "green"},
        names=_HEAD.index("Fails"),
    )
    for flow in lost:
        click.echo(f"lost: {flow}")
    alone = some(tried.points, 6) or "none"
    many = f"{tried.count:,} failure{'' if tried.count == 1 else 's'}"
    click.echo(
        f"{many} judged on {flows} flows; {tried.bad:,} break the promise"
        f"{', the larger ones that follow from them not counted' if tried.short else ''}. "
        f"Single points of failure: {alone}."
    )


def _cells(outcome: Outcome, flows: int) -> tuple[str, ...]:
    moved = sorted({_move(m.before, m.after) for m in outcome.moved})
    seconds = outcome.seconds
    outage = "until mended" if outcome.lost or seconds is None else f"up to {plain(seconds)} s"
    fullest = outcome.fullest
    mind = [*outcome.too_much, *(f"both directions part: {flow}" for flow in outcome.apart)]
    return (
        f"{len(outcome.lost)} of {flows} flows" if outcome.lost else "nothing",
        outage if outcome.lost or outcome.moved else "",
        " + ".join(map(str, outcome.failed)),
        "; ".join(moved),
        "" if fullest is None else f"{fullest.share * 100:.0f} % of {fullest.name}",
        "; ".join(mind),
    )


def _move(before: str, after: str) -> str:
    """`link: one to other`, as both are tunnels of the same link, mostly."""
    link, _, one = before.partition("/")
    other_link, _, other = after.partition("/")
    return f"{link}: {one} to {other}" if link == other_link else f"{before} to {after}"


def _yearly(sweep: Sweep, crew: Crew, *, as_json: bool) -> None:
    from obrin.core.drill.availability import Repair, availability, repairs_of
    from obrin.core.errors import ObrinError

    given = sweep.settled.standards.reliability
    if not given:
        raise ObrinError(
            "nothing says how often things fail. Add for example: "
            "reliability: {uplink: {fails-every: 90 d, mended-in: 4 h}}"
        )

    def repair(kind: str) -> Repair | None:
        found = given.get(kind)
        return None if found is None else Repair(found.fails_every, found.mended_in)

    known = sweep.elements()
    repairs = repairs_of(known, repair)
    found = availability(sweep, repairs, draws=200_000, seed=1, crew=crew)
    if as_json:
        echo_json(
            [
                {
                    "flow": a.flow,
                    "share": a.share,
                    "low": a.low,
                    "high": a.high,
                    "minutes_a_year": a.minutes,
                }
                for a in found
            ]
        )
        return
    exact = all(a.low == a.high for a in found)
    rows = [
        (
            a.flow,
            f"{a.share * 100:.5f} %",
            f"{a.minutes:.1f} min",
            "exact" if exact else f"{a.low * 100:.5f} to {a.high * 100:.5f} %",
        )
        for a in found
    ]
    print_table(console(), ("Flow", "Works", "Without it, a year", "Between"), rows)
    unsaid = sorted({e.kind for e in known} - set(given))
    if unsaid:
        click.echo(f"Taken never to fail: {', '.join(unsaid)}.")


def _as_json(outcome: Outcome) -> dict[str, object]:
    return {
        "failed": [str(element) for element in outcome.failed],
        "lost": list(outcome.lost),
        "moved": [
            {
                "flow": m.flow,
                "before": m.before,
                "after": m.after,
                "seconds": m.seconds,
                "noticed_by": None if m.noticed is None else m.noticed.name,
            }
            for m in outcome.moved
        ],
        "seconds": outcome.seconds,
        "too_much": list(outcome.too_much),
        "fullest": None
        if outcome.fullest is None
        else {
            "name": outcome.fullest.name,
            "rate": outcome.fullest.rate,
            "most": outcome.fullest.most,
        },
        "apart": list(outcome.apart),
        "keeps_the_promise": outcome.keeps_the_promise,
    }
