"""`compare`: what was entered at a gateway against its sheet, or two ends against each other."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from obrin.cli.shared.common import console, design_option, echo_json, json_option, project_of, say
from obrin.cli.shared.redacting import redactable
from obrin.core.errors import ObrinError
from obrin.core.naming import unknown

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from obrin.core.compare.comparison import Comparison
    from obrin.core.compare.differences import Difference
    from obrin.core.handover.sheet.blocks import Value
    from obrin.core.settled.model import Settled
    from obrin.live.entered_files import EnteredFile
    from obrin.live.project import Project

MOST_UNKNOWN = 8


@click.command()
@click.argument("place")
@click.argument("file", type=click.Path())
@click.option(
    "--template",
    type=click.Path(),
    help="How to find values in a text: a TextFSM template with Name and Value, or values by name.",
)
@click.option(
    "--ends",
    is_flag=True,
    help="PLACE is a file as well: hold two ends against each other, without any design.",
)
@click.option(
    "--partial",
    is_flag=True,
    help="Accept that values are not compared, since FILE lacks them: only differences fail.",
)
@design_option
@json_option
@redactable
@click.pass_context
def compare(
    ctx: click.Context,
    place: str,
    file: str,
    template: str | None,
    ends: bool,
    partial: bool,
    design_file: str | None,
    as_json: bool,
) -> None:
    """Hold what was entered at a gateway or cloud against its value sheet.

    FILE is values.csv or a workbook with what was entered in the column 'value' or 'entered', a
    table of names and values, a JSON object, YANG data as JSON, or with '--template' any text. The
    same value may be written in another way: 480 min for 28800 s, aes256gcm16, a mask in full. For
    each difference stands what was probably done, and what will follow. Keys are held against as
    fingerprints that 'keys compare' prints. Exit code 1 where something differs, and where a value
    could not be compared: what was not seen is not right.

    \b
    Examples:
      obrin compare hh-east filled.csv --design skerrow-ferries
      obrin compare --ends site.csv cloud.csv
    """
    after: Mapping[str, str] = {}
    unknown: Sequence[str] = ()
    if ends:
        made = _between(place, file, template)
    else:
        project = project_of(design_file)
        _, settled = project.settled()
        made, after, unknown = _against_sheet(project, settled, place, file, template)
    if as_json:
        echo_json(
            {
                "differences": [_as_json(d, after) for d in made.differences],
                "good": made.good,
                "compared": made.compared,
                "values": made.total,
                "left": [{"name": one.name, "why": one.why} for one in made.left],
                "unknown": list(unknown),
            }
        )
    else:
        _print(made, after, unknown, ends=ends)
    ctx.exit(0 if made.good or (partial and made.good is None and made.compared) else 1)


def _read(path: str, values: Sequence[Value] | None, template: str | None) -> EnteredFile:
    from obrin.live.entered_files import read_entered

    try:
        return read_entered(Path(path), values, None if template is None else Path(template))
    except OSError as error:
        raise ObrinError(f"{path} cannot be read: {error.strerror}. Check the path") from None


def _against_sheet(
    project: Project, settled: Settled, place: str, file: str, template: str | None
) -> tuple[Comparison, Mapping[str, str], list[str]]:
    from obrin.core.compare.against import against, device_defaults
    from obrin.core.compare.differences import Sheet
    from obrin.core.compare.follows import follows
    from obrin.core.handover.pack import gateways_of
    from obrin.core.handover.sheet.blocks import values_of
    from obrin.core.handover.sheet.sheet import value_sheet

    places = list(gateways_of(settled))
    if place not in places:
        raise unknown("gateway or cloud", place, places)
    values = list(values_of(value_sheet(settled, place)))
    entered = _read(file, values, template)
    if entered.data is not None:
        return _yang(settled, place, entered.data), {}, []
    if not entered.values:
        raise ObrinError(
            f"{file} has no value of the sheet of {place}. Fill in 'packs/.../values.csv', or name "
            "the values as its column 'name' does"
        )
    sheet = Sheet(values)
    able = settled.gateways.get(place) or settled.clouds[place]
    defaults = device_defaults(able.profile, sheet)
    made = against(sheet, entered.values, entered.lines, project.keys.prints(), defaults)
    return made, follows(settled, place, made.differences), list(entered.unknown)


def _yang(settled: Settled, place: str, data: dict[str, Any]) -> Comparison:
    from obrin.core.compare.comparison import Comparison, Left
    from obrin.core.compare.differences import Difference
    from obrin.core.handover.configured import device_config
    from obrin.core.handover.differences import differences
    from obrin.core.handover.standard.device import encode

    meant = encode(device_config(settled, place))
    texts = differences({name: meant[name] for name in meant if name in data}, data)
    found = tuple(Difference(text.partition(":")[0], text, "", "", "") for text in texts)
    left = (Left(name, name, "FILE does not have it") for name in meant if name not in data)
    return Comparison(found, sum(name in data for name in meant), tuple(left))


def _between(one: str, two: str, template: str | None) -> Comparison:
    from obrin.core.compare.between import between

    first, second = (_read(path, None, template).values for path in (one, two))
    try:
        return between(first, second)
    except ValueError as error:
        raise ObrinError(f"{error}. Take the values.csv of both ends of one link") from None


def _print(
    made: Comparison, after: Mapping[str, str], unknown: Sequence[str], *, ends: bool
) -> None:
    from obrin.core.compare.comparison import reasons

    out = console()
    for number, difference in enumerate(made.differences):
        if number:
            say(out, "")
        line = f" (line {difference.line})" if difference.line else ""
        say(out, f"{difference.place}{line}", style="bold")
        heads = ("one end", "other") if ends else ("meant", "entered")
        for head, text in (
            (heads[0], difference.meant),
            (heads[1], difference.entered),
            ("what", difference.what),
            ("then", after.get(difference.name, "")),
        ):
            if text:
                say(out, f"  {head:9}{text}")
    for text in unknown[:MOST_UNKNOWN]:
        click.echo(f"note: {text}: nothing of that name is on the sheet", err=True)
    if len(unknown) > MOST_UNKNOWN:
        click.echo(f"note: {len(unknown) - MOST_UNKNOWN} more such rows", err=True)
    if made.differences:
        say(out, "")
    for words in reasons(made.left):
        say(out, f"not compared: {words}", style="yellow")
    style = {True: "green", False: "red", None: "yellow"}[made.good]
    say(out, made.words, style=style)


def _as_json(difference: Difference, after: Mapping[str, str]) -> dict[str, Any]:
    return {
        "name": difference.name,
        "place": difference.place,
        "line": difference.line,
        "meant": difference.meant,
        "entered": difference.entered,
        "kind": difference.kind,
        "what": difference.what,
        "then": after.get(difference.name, ""),
    }
