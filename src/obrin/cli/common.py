"""Options and output that several commands share. No decision is made here."""

from __future__ import annotations

import csv
import functools
import json
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, TypeVar, cast

import click

from obrin.core.text import clean
from obrin.live.project import Project, find_project

if TYPE_CHECKING:
    from rich.console import Console

    from obrin.live.http import Ends

F = TypeVar("F", bound=Callable[..., Any])


def design_option(function: F) -> F:
    return click.option(
        "--design",
        "design_file",
        type=click.Path(),
        help="The design file (or its folder). Otherwise: design.yaml in this folder.",
    )(function)


def writes(*unless: str) -> Callable[[F], F]:
    """A command that writes in the project: one at a time, unless one of these options is given."""

    def decorate(function: F) -> F:
        @functools.wraps(function)
        def locked(*args: Any, **given: Any) -> Any:
            if any(given.get(option) for option in unless):
                return function(*args, **given)
            with project_of(given.get("design_file")).lock(_command_name()):
                return function(*args, **given)

        return cast(F, locked)

    return decorate


def _command_name() -> str:
    """As it is typed after 'obrin'."""
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


def tell_changed_by_hand(project: Project) -> None:
    """On stderr, before something is made of the settled file."""
    for key in project.changed_by_hand():
        click.echo(
            f"note: {key} was changed by hand in {project.settled_path.name}; "
            "it is taken as it stands",
            err=True,
        )


def console(*, stderr: bool = False) -> Console:
    """A console that honours NO_COLOR, narrow terminals, and output that is no terminal."""
    from rich.console import Console

    made = Console(stderr=stderr, highlight=False, soft_wrap=False)
    if not made.is_terminal and not made.is_jupyter:
        made = Console(
            stderr=stderr, highlight=False, width=max(made.width, 110), color_system=None
        )
    return made


def echo_json(data: Any) -> None:
    click.echo(json.dumps(data, indent=2))


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


def print_table(
    out: Console,
    head: Sequence[str],
    rows: Iterable[Sequence[str]],
    *,
    title: str = "",
    styles: dict[str, str] | None = None,
) -> None:
    """A table with thin lines; a cell whose whole text is in `styles` is coloured."""
    from rich import box
    from rich.table import Table
    from rich.text import Text

    table = Table(box=box.SIMPLE_HEAD, title=title or None, title_justify="left", pad_edge=False)
    for index, name in enumerate(head):
        table.add_column(name, overflow="fold", no_wrap=index == 0 and len(head) > 2)
    for row in rows:
        table.add_row(*(Text(clean(cell), (styles or {}).get(cell, "")) for cell in row))
    out.print(table)


STYLES = {
    "error": "bold red", "warning": "yellow", "note": "cyan",
    "up": "green", "down": "bold red", "established": "green",
    "idle": "bold red", "connect": "bold red", "active": "bold red",
    "answers": "green", "DEAD": "bold red",
    "as wished": "green", "NOT AS WISHED": "bold red", "yes": "green", "NO": "bold red",
}  # fmt: skip


@contextmanager
def practice_ends(project: Project) -> Iterator[Ends]:
    """Clients for the practice world that runs in this project."""
    from obrin.live.http import open_ends
    from obrin.live.practice.record import need_world

    world = need_world(project.practice_folder)
    with open_ends(world.token, world.cloud, world.gateways, world.internet) as ends:
        yield ends
