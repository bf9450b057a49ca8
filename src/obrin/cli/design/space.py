"""`space`: questions about the address space; without a question, its map."""

from __future__ import annotations

import sys
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any

import click

from obrin.cli.shared.common import (
    console,
    design_option,
    echo_json,
    json_option,
    print_table,
)
from obrin.cli.shared.spaces import in_the_way, load_space
from obrin.core.check.finding import Severity
from obrin.core.errors import AddressError, ObrinError

if TYPE_CHECKING:
    from obrin.core.address.prefix import Prefix
    from obrin.core.space.view import Entry

HEAD = ("Range", "What", "Whose", "Region", "Note")


@click.group(invoke_without_command=True)
@design_option
@json_option
@click.option("--all", "whole", is_flag=True, help="Every site and network, however many.")
@click.pass_context
def space(ctx: click.Context, design_file: str | None, as_json: bool, whole: bool) -> None:
    """Questions about the address space. Without one: a map of what is used, kept and free.

    Nothing is written; blanks that are not settled yet are settled for the question.

    \b
    Examples:
      obrin space --design skerrow-ferries
      obrin space who 10.20.1.7 --design skerrow-ferries
    """
    if ctx.invoked_subcommand is not None:
        return
    from obrin.cli.design.space_map import print_map
    from obrin.core.space.chart import chart

    settled, view = load_space(design_file)
    if as_json:
        echo_json([entry_json(entry) for entry in view.entries])
        return
    print_map(console(), chart(settled, view, in_the_way(settled, view)), whole=whole)


def entry_json(entry: Entry) -> dict[str, str]:
    return {
        "prefix": str(entry.prefix),
        "kind": entry.kind,
        "owner": entry.owner,
        "region": entry.region,
        "note": entry.note,
    }


def entry_row(entry: Entry) -> tuple[str, str, str, str, str]:
    return (str(entry.prefix), entry.kind, entry.owner, entry.region, entry.note)


def targets_of(given: tuple[str, ...]) -> Iterator[tuple[str, Prefix]]:
    """Addresses and prefixes, given or one a line on stdin (`-`). All bad ones are reported at
    once."""
    from obrin.core.space.view import target_prefix

    texts: list[tuple[str, str]] = []
    for text in given:
        if text == "-":
            lines = (line.partition("#")[0].strip() for line in sys.stdin)
            texts += [(f"stdin:{n}:1: ", line) for n, line in enumerate(lines, 1) if line]
        else:
            texts.append(("", text))
    wrong = []
    found = []
    for where, text in texts:
        try:
            found.append((text, target_prefix(text)))
        except AddressError as error:
            wrong.append(f"{where}{error}")
    if wrong:
        raise ObrinError("\n".join(wrong))
    if not found:
        raise ObrinError("stdin holds no address or prefix. Give one a line")
    yield from found


@space.command()
@click.argument("targets", nargs=-1, required=True)
@design_option
@json_option
def who(targets: tuple[str, ...], design_file: str | None, as_json: bool) -> None:
    """Say who has an address or prefix: all that it lies in, and all that lies in it.

    TARGETS may be `-`: then one a line is read from stdin.

    \b
    Example:
      obrin space who 10.20.1.7 10.64.0.0/16 --design skerrow-ferries
    """
    _, view = load_space(design_file)
    answers = {
        text: [*view.above(prefix), *view.inside(prefix)] for text, prefix in targets_of(targets)
    }
    if as_json:
        echo_json({text: [entry_json(e) for e in found] for text, found in answers.items()})
        return
    rows: list[tuple[str, ...]] = []
    for text, found in answers.items():
        rows += [(text, *entry_row(e)) for e in found] or [(text, "nobody has it", "", "", "", "")]
    print_table(console(), ("Asked", *HEAD), rows)


@space.command()
@click.argument("targets", nargs=-1, required=True)
@design_option
@json_option
@click.pass_context
def clash(
    ctx: click.Context, targets: tuple[str, ...], design_file: str | None, as_json: bool
) -> None:
    """What proposed prefixes would collide with. Silent and exit code 0 when with nothing.

    Proposed prefixes are also held against each other.

    \b
    Example:
      obrin space clash 10.66.0.0/16 --design skerrow-ferries
    """
    _, view = load_space(design_file)
    asked = list(targets_of(targets))
    found: list[dict[str, Any]] = []
    for index, (text, prefix) in enumerate(asked):
        found += [{"asked": text, **entry_json(e)} for e in view.clashes(prefix)]
        for other_text, other in asked[:index]:
            if other.overlaps(prefix):
                found.append(
                    {
                        "asked": text,
                        "prefix": str(other),
                        "kind": "proposed",
                        "owner": other_text,
                        "region": "",
                        "note": "",
                    }
                )
    if as_json:
        echo_json(found)
    else:
        for hit in found:
            click.echo(
                f"{hit['asked']} collides with {hit['prefix']}, {hit['kind']} {hit['owner']}"
                + (f" ({hit['note']})" if hit["note"] else "")
            )
        for text, prefix in asked:
            for entry in view.reserved(prefix):
                click.echo(
                    f"{text} lies in what is kept for {entry.label} ({entry.prefix})", err=True
                )
    ctx.exit(1 if found else 0)


@space.command()
@design_option
@json_option
def use(design_file: str | None, as_json: bool) -> None:
    """How full each pool is.

    \b
    Example:
      obrin space use --design skerrow-ferries
    """
    from obrin.core.space.pools import pool_uses

    settled, view = load_space(design_file)
    uses = pool_uses(settled, view)
    if as_json:
        echo_json(
            [
                {
                    "pool": u.name,
                    "purpose": u.purpose,
                    "region": u.region,
                    "addresses": u.size,
                    "used": u.used,
                    "share": u.used / u.size,
                    "prefixes": [str(p) for p in u.prefixes],
                    "largest_free": u.free.largest(),
                }
                for u in uses
            ]
        )
        return
    rows = []
    for u in uses:
        largest = u.free.largest()
        rows.append(
            (
                u.name,
                u.purpose,
                u.region,
                ", ".join(map(str, u.prefixes)),
                counted(u.size),
                f"{100 * u.used / u.size:.1f} %",
                "none" if largest is None else f"/{largest}",
            )
        )
    head = ("Pool", "For", "Region", "Prefixes", "Addresses", "Used", "Largest free")
    print_table(console(), head, rows)


def counted(number: int) -> str:
    return f"{number:,}" if number < 1 << 40 else f"2^{number.bit_length() - 1}"


@space.command()
@design_option
@json_option
@click.pass_context
def overlaps(ctx: click.Context, design_file: str | None, as_json: bool) -> None:
    """Ranges that two owners use. Exit code 1 when one is in the other's way.

    What nothing joins, and what a translation keeps apart, may be alike and is left out.

    \b
    Example:
      obrin space overlaps --design skerrow-ferries/draft.yaml
    """
    from obrin.core.check.space.spaces import contested
    from obrin.core.space.pools import overlapping

    settled, view = load_space(design_file)
    judge = contested(settled)
    pairs = [
        (a, b, "apart so far" if judge(a, b) is Severity.WARNING else _IN_THE_WAY)
        for a, b in overlapping(view, judge)
    ]
    if as_json:
        found = [{"outer": entry_json(a), "inner": entry_json(b), "state": s} for a, b, s in pairs]
        echo_json(found)
    elif pairs:
        rows = [(str(a.prefix), a.label, str(b.prefix), b.label, s) for a, b, s in pairs]
        print_table(console(), ("Range", "Whose", "overlaps", "Whose", ""), rows)
        click.echo("'obrin space remedies' shows ways out.")
    else:
        click.echo("No two owners are in each other's way.")
    ctx.exit(1 if any(state == _IN_THE_WAY for _, _, state in pairs) else 0)


_IN_THE_WAY = "in the way"


@space.command()
@design_option
@json_option
def announce(design_file: str | None, as_json: bool) -> None:
    """The fewest prefixes that cover exactly what each region, site and cloud has.

    Where a space is kept for one owner alone, it is shown too: shorter to announce, and it stays
    true when the owner grows.

    \b
    Example:
      obrin space announce --design skerrow-ferries
    """
    from obrin.core.space.announce import announcements

    _, view = load_space(design_file)
    found = announcements(view)
    if as_json:
        echo_json(
            [
                {
                    "kind": a.kind,
                    "name": a.name,
                    "ranges": a.networks,
                    "exact": [str(p) for p in a.exact],
                    "held": [str(p) for p in a.held],
                }
                for a in found
            ]
        )
        return
    rows = [(a.name, a.kind, str(a.networks), _listed(a.exact), _listed(a.held)) for a in found]
    print_table(console(), ("Whose", "", "Ranges", "Announce exactly", "Or what is kept"), rows)


def _listed(prefixes: Iterable[Prefix]) -> str:
    return ", ".join(map(str, prefixes))
