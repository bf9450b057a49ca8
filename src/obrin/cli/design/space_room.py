"""`space free` and `space fit`: what room there is, and whether more fits into it."""

from __future__ import annotations

from typing import Any

import click

from obrin.cli.design.space import counted, space
from obrin.cli.shared.common import console, design_option, echo_json, json_option, print_table
from obrin.cli.shared.spaces import load_space
from obrin.core.errors import ObrinError

__all__ = ["space"]


@space.command()
@click.argument("length", required=False)
@click.option("--pool", "pool_name", help="Only this pool.")
@click.option(
    "--count",
    default=8,
    show_default=True,
    type=click.IntRange(1, 10000),
    help="How many blocks to list in each pool.",
)
@design_option
@json_option
def free(
    length: str | None, pool_name: str | None, count: int, design_file: str | None, as_json: bool
) -> None:
    """Free blocks of a LENGTH such as /24 in each pool; without one, the largest free block.

    \b
    Example:
      obrin space free /24 --design skerrow-ferries
    """
    from obrin.core.space.pools import free_of_length, pool_named, pool_uses

    wanted = _length(length)
    settled, view = load_space(design_file)
    uses = pool_uses(settled, view)
    uses = [pool_named(uses, pool_name)] if pool_name else uses
    rows: list[tuple[str, str, str, str]] = []
    data: list[dict[str, Any]] = []
    for use in uses:
        if wanted is not None and wanted > use.free.bits:
            raise ObrinError(
                f"a /{wanted} does not exist in {use.name}. Use at most /{use.free.bits}"
            )
        size = wanted if wanted is not None else use.free.largest()
        blocks = [] if size is None else free_of_length(use, size, count if wanted else 1)
        there = 0 if size is None else use.free.slots(size)
        rows.append(
            (
                use.name,
                use.purpose,
                f"{there:,} of /{size}" if there else "none",
                ", ".join(map(str, blocks)) or "full",
            )
        )
        data.append(
            {
                "pool": use.name,
                "purpose": use.purpose,
                "length": size,
                "count": there,
                "blocks": [str(b) for b in blocks],
            }
        )
    if as_json:
        echo_json(data)
        return
    what = "Largest free block" if wanted is None else "First free blocks"
    print_table(console(), ("Pool", "For", "Free", what), rows)


def _length(text: str | None) -> int | None:
    if text is None:
        return None
    digits = text.removeprefix("/")
    if not (digits.isascii() and digits.isdigit() and int(digits[:4]) <= 128):
        raise click.UsageError(f"'{text}' is not a prefix length; write for example /24")
    return int(digits)


@space.command()
@click.option(
    "--add",
    "added",
    multiple=True,
    metavar="NAME=HOSTS[xCOUNT]",
    help="A network to be added, by hosts; 'x12' for twelve of them.",
)
@click.option("--pool", "pool_name", required=True, help="The pool to add them to.")
@click.option("--growth", default="0 %", show_default=True, help="Growth a year, such as '20 %'.")
@click.option(
    "--years", default=3, show_default=True, type=click.IntRange(0, 30), help="How far to look."
)
@design_option
@json_option
@click.pass_context
def fit(
    ctx: click.Context,
    added: tuple[str, ...],
    pool_name: str,
    growth: str,
    years: int,
    design_file: str | None,
    as_json: bool,
) -> None:
    """Show whether these networks fit beside all there is, and for how many years.

    Exit code 1 when they do not fit for all of them.

    \b
    Example:
      obrin space fit --pool 10.128.0.0/9 --add kiosk=40x120 --growth '20 %' \\
        --design skerrow-ferries
    """
    from obrin.core.design.values import parse_growth
    from obrin.core.space.pools import pool_named, pool_uses
    from obrin.core.space.whatif import outlook

    if not added:
        raise click.UsageError("nothing to add: give --add NAME=HOSTS")
    try:
        factor = parse_growth(growth)
    except ValueError as error:
        raise click.UsageError(f"--growth: {error}") from None
    wishes = [_wish(text) for text in added]
    settled, view = load_space(design_file)
    pool = pool_named(pool_uses(settled, view), pool_name)
    found = outlook(pool, wishes, factor, years)
    good = all(not year.short for year in found)
    if as_json:
        echo_json(
            [
                {
                    "year": y.year,
                    "wanted": y.wanted,
                    "free": y.free,
                    "fits": not y.short,
                    "short": y.short,
                    "placed": [[n, str(p)] for n, p in y.placed],
                }
                for y in found
            ]
        )
    else:
        rows = [(str(y.year), counted(y.wanted), counted(y.free), y.short or "fits") for y in found]
        print_table(console(), ("Year", "Wanted", "Free", ""), rows)
        if good:
            for name, prefix in found[-1].placed[:8]:
                click.echo(f"{name}: {prefix} holds it to the end")
    ctx.exit(0 if good else 1)


def _wish(text: str) -> Any:
    from obrin.core.space.whatif import AddedWish

    name, equals, rest = text.partition("=")
    hosts, _, count = rest.partition("x")
    if not (equals and name and hosts.isdigit() and (count.isdigit() or not count)):
        raise click.UsageError(f"--add '{text}' is not of the form NAME=HOSTS or NAME=HOSTSxCOUNT")
    if not 1 <= int(hosts[:9]) <= 16_000_000 or not 1 <= int(count[:7] or 1) <= 100_000:
        raise click.UsageError(f"--add '{text}': 1 to 16000000 hosts, 1 to 100000 networks")
    return AddedWish(name, int(hosts), int(count or 1))
