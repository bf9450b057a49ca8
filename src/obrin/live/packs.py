"""Packs as files: made from the settled design, proven, then written whole."""

from __future__ import annotations

from pathlib import Path

from obrin.core.design.settled import Settled
from obrin.core.errors import ObrinError
from obrin.core.handover.pack import (
    KEYS,
    Pack,
    as_json,
    gateways_of,
    make_pack,
    mirror_faults,
)
from obrin.core.handover.standard_data import parts_of_standard_data
from obrin.live.files import folder_of_ours, keep_out, write_whole
from obrin.live.project import Project

AT_ONCE = 50
"""How many tunnels and filter rules are validated at once."""


PAGE = "sheet.html"
_STYLE = (
    "body{font:14px/1.5 sans-serif;max-width:70em;margin:2em auto;padding:0 1em;color:#222}"
    "table{border-collapse:collapse;margin:1em 0}td,th{border:1px solid #bbb;padding:.25em .6em;"
    "text-align:left}th{background:#eef2f4}h2{break-before:auto;margin-top:1.6em}"
    "@media print{body{margin:0;font-size:11px}h2{break-after:avoid}tr{break-inside:avoid}}"
)


class PackError(ObrinError):
    """A pack cannot be made from this design as it stands."""

    exit_code = 1


def make_packs(project: Project, settled: Settled) -> dict[str, Pack]:
    """All packs, validated against their modules and proven to mirror each other."""
    from obrin.live.standard_modules import validate

    secrets = project.secrets(settled)
    missing = secrets.missing(settled)
    if missing:
        raise PackError(f"not there yet: {', '.join(missing)}. Run 'obrin settle'")
    faults = mirror_faults(settled)
    if faults:
        raise PackError("the two ends are not mirror images: " + "; ".join(faults))
    packs = {
        name: make_pack(settled, name, secrets)
        for name in gateways_of(settled)
        if name not in secrets.barred
    }
    for name in packs:
        # Validation takes time with the square of the size, so large packs go in parts.
        for part in parts_of_standard_data(settled, name, AT_ONCE):
            validate(part)
    return packs


def _page(name: str, pack: Pack) -> str:
    """Sheet, steps and mirror proof as one page, to be printed or mailed. It loads nothing."""
    from html import escape

    from markdown_it import MarkdownIt

    body = (
        MarkdownIt("commonmark", {"html": False})
        .enable("table")
        .render("\n\n".join((pack.sheet, pack.steps, pack.mirror)))
    )
    return (
        '<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8">'
        f"<title>{escape(name)}</title>"
        f"<style>{_STYLE}</style></head><body>\n{body}</body></html>\n"
    )


def write_packs(project: Project, settled: Settled) -> dict[str, list[Path]]:
    """Paths written, by gateway. Everything is made before anything is written."""
    packs = make_packs(project, settled)
    written: dict[str, list[Path]] = {}
    folder_of_ours(project.packs)
    keep_out(project.packs, KEYS)
    for name, pack in packs.items():
        folder = project.packs / name
        folder_of_ours(folder)
        files = pack.open_files()
        files[PAGE] = _page(name, pack)
        for file, text in files.items():
            write_whole(folder / file, text, 0o644)
        write_whole(folder / KEYS, as_json(pack.keys), 0o600)
        written[name] = [folder / file for file in (*files, KEYS)]
    return written
