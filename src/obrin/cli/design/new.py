"""`new`: a starting design from a few facts, or one for many sites from a table."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from obrin.cli.shared.deeds import Deed, acting
from obrin.core.errors import ObrinError
from obrin.core.text import clean

if TYPE_CHECKING:
    from collections.abc import Callable


@click.command()
@click.argument("name", required=False)
@click.option("--site", help="Name of the site.")
@click.option(
    "--network",
    "networks",
    multiple=True,
    metavar="NAME=PREFIX",
    help="A network of the site; give it once for each.",
)
@click.option(
    "--uplink",
    "uplinks",
    multiple=True,
    metavar="NAME=ADDRESS",
    help="A public address of the site's gateway; two for redundancy.",
)
@click.option("--cloud", help="Name of the cloud network.")
@click.option(
    "--hosts",
    type=click.IntRange(1, 60000),
    default=200,
    show_default=True,
    help="How many hosts the cloud's first subnet must hold.",
)
@click.option(
    "--to",
    "target",
    type=click.Path(),
    default="design.yaml",
    show_default=True,
    help="The file to write.",
)
@click.option("--force", is_flag=True, help="Write over a file that exists.")
@click.option("--sites", "table", type=click.Path(), help="Many sites: a CSV with a row for each.")
@click.option(
    "--template",
    type=click.Path(),
    help="A design with {column} holes, filled from each row of --sites.",
)
@click.option("--keep-good", is_flag=True, help="With --sites: leave bad rows out and go on.")
@click.option("--yes", is_flag=True, help="Ask nothing: what is usual, for what is not given.")
@acting
def new(
    name: str | None,
    site: str | None,
    networks: tuple[str, ...],
    uplinks: tuple[str, ...],
    cloud: str | None,
    hosts: int,
    target: str,
    force: bool,
    table: str | None,
    template: str | None,
    keep_good: bool,
    yes: bool,
    dry_run: bool,
    as_json: bool,
) -> None:
    """Write a starting design for one site and one cloud. What is not given is asked.

    With --dry-run the design goes to standard output.

    \b
    Example:
      obrin new island-clinic --site clinic --network wards=10.30.0.0/22 \\
        --uplink cable=192.0.2.20 --uplink mobile=198.51.100.30 --cloud records
      obrin new --sites skerrow-ferries/kiosks.csv --template skerrow-ferries/kiosk.yaml \\
        --to kiosks.yaml
    """
    if table or template:
        from obrin.cli.design.many_sites import many_sites

        text = many_sites(table, template, keep_good=keep_good)
        _write_new(Path(target), text, force=force, dry_run=dry_run, as_json=as_json)
        return
    from obrin.core.design.starting import USUAL, StartingFacts, starting_design

    path = Path(target)
    given_networks = _pairs(networks, "network", "NAME=PREFIX")
    given_uplinks = _pairs(uplinks, "uplink", "NAME=ADDRESS")
    # What was given is judged, and a file that is in the way is found, before anything is asked.
    _judge_name("name", "NAME", name)
    _judge_name("site", "--site", site)
    _judge_name("cloud", "--cloud", cloud)
    _judge_pairs("networks", "--network", given_networks)
    _judge_pairs("uplinks", "--uplink", given_uplinks)
    if not dry_run:
        _need_free(path, force=force)
    if yes:
        name, site, cloud = name or USUAL.name, site or USUAL.site, cloud or USUAL.cloud
        given_networks = given_networks or USUAL.networks
        given_uplinks = given_uplinks or USUAL.uplinks
    facts = StartingFacts(
        name=_fact("name", name, "Name of the whole", "NAME", USUAL.name),
        site=_fact("site", site, "Name of the site", "--site", USUAL.site),
        networks=_facts("networks", given_networks, "Network 'lan'", "--network", USUAL.networks),
        uplinks=_facts(
            "uplinks", given_uplinks, "Public address 'main'", "--uplink", USUAL.uplinks
        ),
        cloud=_fact("cloud", cloud, "Name of the cloud network", "--cloud", USUAL.cloud),
        hosts=hosts,
    )
    text = starting_design(facts)
    _write_new(path, text, force=force, dry_run=dry_run, as_json=as_json)


def _need_free(path: Path, *, force: bool) -> None:
    if path.exists() and not force:
        raise ObrinError(f"{path} exists. Name another file with --to, or give --force")


def _write_new(path: Path, text: str, *, force: bool, dry_run: bool, as_json: bool) -> None:
    """Raises ObrinError for a file that is in the way, DesignError for what is not a design."""
    from obrin.core.design.document import load_design
    from obrin.live.files import write_whole

    load_design(text, str(path))
    if not dry_run:
        _need_free(path, force=force)
        write_whole(path, text, 0o644)
    elif not as_json:
        click.echo(text, nl=False)
        return
    settle_it = "obrin settle" + ("" if path.name == "design.yaml" else f" --design {path}")
    Deed.wrote(path, settle_it).tell(dry_run=dry_run, as_json=as_json)


Pairs = tuple[tuple[str, str], ...]


def _fact(fact: str, given: str | None, question: str, option: str, usual: str) -> str:
    """What was given; or what is answered, judged, and asked again while it is wrong."""
    if given is not None:
        return given

    def right(answer: str) -> str:
        _judge(fact, answer, question, answer)
        return answer

    return _ask(question, option, usual, right)


def _facts(fact: str, given: Pairs, question: str, option: str, usual: Pairs) -> Pairs:
    if given:
        return given
    ((key, value),) = usual

    def right(answer: str) -> str:
        _judge(fact, ((key, answer),), question, answer)
        return answer

    return ((key, _ask(question, option, value, right)),)


def _judge(fact: str, value: Any, where: str, shown: str) -> None:
    """Raises UsageError with the reason, which a prompt shows before it asks again."""
    from obrin.core.design.starting import fault_of

    fault = fault_of(fact, value)
    if fault:
        raise click.UsageError(f"{where}: '{clean(shown, 80)}' will not do: {fault}")


def _judge_name(fact: str, option: str, value: str | None) -> None:
    if value is not None:
        _judge(fact, value, option, value)


def _judge_pairs(fact: str, option: str, pairs: tuple[tuple[str, str], ...]) -> None:
    """Each by itself, then all together."""
    for pair in pairs:
        _judge(fact, (pair,), option, "=".join(pair))
    if pairs:
        _judge(fact, pairs, option, " ".join("=".join(pair) for pair in pairs))


def _ask(question: str, option: str, default: str, right: Callable[[str], str]) -> str:
    """Ask; without anybody to answer, say what to give instead."""
    try:
        return str(click.prompt(question, default=default, err=True, value_proc=right))
    except click.Abort:
        if sys.stdin.isatty():
            raise
        click.echo(err=True)
        raise click.UsageError(f"{question}: nobody answers, so give {option}") from None


def _pairs(given: tuple[str, ...], what: str, form: str) -> tuple[tuple[str, str], ...]:
    found = []
    for text in given:
        key, equals, value = text.partition("=")
        if not equals or not key or not value:
            raise click.UsageError(f"--{what} '{text}' is not of the form {form}")
        found.append((key, value))
    return tuple(found)
