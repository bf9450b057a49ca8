"""Options and output that several commands share. No decision is made here."""

from __future__ import annotations

import csv
import functools
import json
import math
import os
import re
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from typing import TYPE_CHECKING, Any, TypeVar, cast

import click

from obrin.cli.shared.outlet import open_outlet
from obrin.core.text import clean
from obrin.live.project import Project, find_project

if TYPE_CHECKING:
    from rich.console import Console

    from obrin.live.http import CloudFaults, InternetClient

PIPED_WIDTH = 110
"""Columns where the output is not a terminal and nobody said how many there are."""
F = TypeVar("F", bound=Callable[..., Any])


def design_option(function: F) -> F:
    return click.option(
        "--design",
        "design_file",
        type=click.Path(),
        help="The design file (or its folder). Otherwise: design.yaml in this folder.",
    )(function)


def say(out: Console, text: str, style: str = "") -> None:
    """One line of text, whatever is in it."""
    outlet = open_outlet()
    with outlet.passed():
        out.print(
            clean(outlet.text(text)),
            style=style or None,
            markup=False,
            soft_wrap=not out.is_terminal,
        )


def writes(*unless: str, waits: str = "") -> Callable[[F], F]:
    """A command that writes in the project: one at a time, unless one of these options is given.
    With the option `waits` it goes on waiting for another command, however long that takes."""

    def decorate(function: F) -> F:
        @functools.wraps(function)
        def locked(*args: Any, **given: Any) -> Any:
            if any(given.get(option) for option in unless):
                return function(*args, **given)
            tell = _tell_waiting if given.get(waits) else None
            with project_of(given.get("design_file")).lock(_command_name(), tell):
                return function(*args, **given)

        return cast(F, locked)

    return decorate


def _tell_waiting(who: str) -> None:
    click.echo(f"Waiting: {who}. End with Ctrl-C; it is taken up later.", err=True)


def _command_name() -> str:
    """Name of the running command, as it is typed after 'obrin'."""
    context: click.Context | None = click.get_current_context()
    names: list[str] = []
    while context is not None and context.parent is not None:
        names.insert(0, context.info_name or "")
        context = context.parent
    return " ".join(names)


def json_option(function: F) -> F:
    return click.option("--json", "as_json", is_flag=True, help="Print JSON for programs.")(
        function
    )


def project_of(design_file: str | None) -> Project:
    return find_project(design_file)


def other_project(design_file: str) -> Project:
    """Find the project of a second design, such as the one to compare with."""
    return replace(find_project(design_file), missing="Check the path")


class Between(click.FloatRange):
    """A range in which `nan` is not, though no comparison says so."""

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> float:
        number = float(super().convert(value, param, ctx))
        if math.isnan(number):
            self.fail(f"{value!r} is not a number.", param, ctx)
        return number


def tell_changed_by_hand(project: Project) -> None:
    """Note on stderr that the settled file was changed by hand, before anything is made of it."""
    for key in project.changed_by_hand():
        click.echo(
            f"note: {key} was changed by hand in {project.settled_path.name}; "
            "it is taken as it stands",
            err=True,
        )


def console(*, stderr: bool = False) -> Console:
    """A console that honours NO_COLOR, COLUMNS, narrow terminals, and output that is none."""
    from rich.console import Console

    made = Console(stderr=stderr, highlight=False, soft_wrap=False)
    if not made.is_terminal and not made.is_jupyter:
        width = made.width if _asked_width() else max(made.width, PIPED_WIDTH)
        made = Console(stderr=stderr, highlight=False, width=width, color_system=None)
    return made


def _asked_width() -> int | None:
    """What COLUMNS asks for, where it is a sensible number."""
    given = os.environ.get("COLUMNS", "")
    return int(given) if given.isdecimal() and len(given) < 5 and int(given) >= 20 else None


def echo_json(data: Any) -> None:
    outlet = open_outlet()
    with outlet.passed():
        click.echo(json.dumps(outlet.data(data), indent=2))


def echo_csv(head: Sequence[str], rows: Iterable[Sequence[str]]) -> None:
    """Lines end in LF alone, as they do in other text."""
    out = csv.writer(sys.stdout, lineterminator="\n")
    out.writerow(head)
    out.writerows(rows)


def ask_secret(what: str, *, confirm: bool = False) -> str:
    """Typed without echo, or the first line of standard input."""
    if sys.stdin.isatty():
        typed: str = click.prompt(what, hide_input=True, confirmation_prompt=confirm, err=True)
        return typed
    return sys.stdin.readline().rstrip("\r\n")


NO_TUNNEL = "The design has no tunnels yet: give it a link."


SHORT = 20, 12, 8, 0
"""Letters of a column that stays on one line, the first number with which all columns fit."""
_DATE = re.compile(r"(\w{3} )?\d{4}-\d\d-\d\d\b[ \d:]*$")


def print_table(
    out: Console,
    head: Sequence[str],
    rows: Iterable[Sequence[str]],
    *,
    title: str = "",
    styles: dict[str, str] | None = None,
    names: int = 0,
    nothing: str = "",
) -> None:
    """A table with thin lines; a cell whose whole text is in `styles` is coloured. Without rows
    `nothing` is said instead. Column number `names` says what its row is about.

    No word is broken, and no date. A short state or name is broken only where it does not fit as a
    whole. Where the words of all columns do not fit side by side, a table on a screen becomes a
    block for each row, and one that goes elsewhere becomes as wide as it must be.
    """
    from rich import box
    from rich.cells import cell_len
    from rich.table import Table
    from rich.text import Text

    outlet = open_outlet()
    cells = [tuple(clean(outlet.text(cell)) for cell in row) for row in rows]
    colours = styles or {}
    if not cells:
        if nothing:
            click.echo(nothing)
        return
    columns = list(zip(head, *cells, strict=True))
    wishes = [max(map(cell_len, column)) for column in columns]
    longest = _least(columns, wishes, out.width)
    needed = _side_by_side(longest)
    if needed > out.width and (out.is_terminal or _asked_width()):
        first = [names, *(n for n in range(len(head)) if n != names)]
        with outlet.passed():
            _print_blocks(
                out,
                [head[n] for n in first],
                [[row[n] for n in first] for row in cells],
                outlet.text(title),
                colours,
            )
        return
    title = outlet.text(title)
    table = Table(box=box.SIMPLE_HEAD, title=title or None, title_justify="left", pad_edge=False)
    widths = _shared_out(max(out.width, needed) - 3 * len(longest) - 1, longest, wishes)
    for name, width in zip(head, widths, strict=True):
        table.add_column(name, overflow="fold", width=width)
    for row in cells:
        table.add_row(*(Text(cell, colours.get(cell, "")) for cell in row))
    before, out.width = out.width, max(out.width, needed)
    try:
        with outlet.passed():
            out.print(table, crop=False)
    finally:
        out.width = before


def _least(columns: Sequence[Sequence[str]], wishes: Sequence[int], room: int) -> list[int]:
    """The widths that columns need: whole where they are short and there is room for that, else
    their longest words."""
    words = [max(map(_longest_word, column)) for column in columns]
    for number, (wish, column) in enumerate(zip(wishes, columns, strict=True)):
        # The first names the rest of its row.
        if any(map(_DATE.match, column)) or (number == 0 and len(columns) > 2):
            words[number] = wish
    for short in SHORT:
        both = zip(wishes, words, strict=True)
        least = [wish if wish <= short else word for wish, word in both]
        if _side_by_side(least) <= room:
            return least
    return words


def _side_by_side(widths: Sequence[int]) -> int:
    """The width of a table of such columns."""
    return sum(widths) + 3 * len(widths) + 1


def _shared_out(room: int, least: Sequence[int], wishes: Sequence[int]) -> list[int]:
    """Widths of columns: each its least, and of what is left, the modest wishes come first."""
    widths, left = list(least), room - sum(least)
    waiting = sorted(range(len(least)), key=lambda i: wishes[i] - least[i])
    for place, index in enumerate(waiting):
        more = min(wishes[index] - least[index], left // (len(waiting) - place))
        widths[index] += more
        left -= more
    return widths


def _longest_word(text: str) -> int:
    from rich.cells import cell_len

    return max((cell_len(word) for word in text.split()), default=0)


def _print_blocks(
    out: Console,
    head: Sequence[str],
    rows: Sequence[Sequence[str]],
    title: str,
    styles: dict[str, str],
) -> None:
    """Each row as lines of a name and a value; a first cell that is empty goes on with the row, a
    column without a name with the line before."""
    from rich.text import Text

    if title:
        out.print(Text(title, "italic"))
    margin = max(map(len, head[1:]), default=0) + 2
    for row in rows:
        if row[0]:
            out.print()
            out.print(Text(row[0], styles.get(row[0], "bold")), soft_wrap=True)
        lines: list[Text] = []
        for name, cell in zip(head[1:], row[1:], strict=True):
            value = Text(cell, styles.get(cell, ""))
            if cell and lines and not name:
                lines[-1] += Text("   ") + value
            elif cell:
                lines.append(Text(f"  {name}".ljust(margin + 2), "dim") + value)
        for line in lines:
            out.print(line, soft_wrap=not out.is_terminal)
    out.print()


STYLES = {
    "error": "bold red",
    "warning": "yellow",
    "note": "cyan",
    "up": "green",
    "down": "bold red",
    "established": "green",
    "idle": "bold red",
    "connect": "bold red",
    "active": "bold red",
    "answers": "green",
    "DEAD": "bold red",
    "as wished": "green",
    "NOT AS WISHED": "bold red",
    "not known": "yellow",
    "yes": "green",
    "NO": "bold red",
}


@contextmanager
def practice_internet(project: Project) -> Iterator[InternetClient]:
    """The practice internet's door for faults, of the world that runs in this project."""
    from contextlib import closing

    from obrin.live.http import InternetClient
    from obrin.live.practice.record import need_world

    world = need_world(project.practice_folder)
    client = InternetClient("the practice internet", world.internet, world.token)
    with closing(client):
        yield client


@contextmanager
def practice_cloud(project: Project) -> Iterator[CloudFaults]:
    """Client for the practice cloud's fault endpoint."""
    from contextlib import closing

    from obrin.live.http import CloudFaults
    from obrin.live.practice.record import need_world

    world = need_world(project.practice_folder)
    with closing(CloudFaults("the practice cloud", world.cloud, world.token)) as client:
        yield client
