"""Packs as files: made from the settled design, proven, then written whole."""

from __future__ import annotations

import contextlib
import hashlib
import json
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from obrin.core.crew import HERE, Crew, Job, batches
from obrin.core.errors import ObrinError, OutsideError
from obrin.core.handover.differences import differences
from obrin.core.handover.pack import (
    CONFIG,
    KEYS,
    MIRROR,
    SERVICE_VALUES,
    SERVICES,
    SHEET,
    STEPS,
    VALUES,
    Pack,
    PackMaker,
    gateways_of,
)
from obrin.core.handover.secrets import Secrets
from obrin.core.handover.sheet.blocks import changed_values
from obrin.core.handover.sheet.page import as_page
from obrin.core.handover.standard.basic import as_json
from obrin.core.handover.standard.device import encode, parts
from obrin.core.json_text import parse_json
from obrin.core.settled.model import Settled
from obrin.live.files import (
    folder_of_ours,
    keep_out,
    private_folder,
    read_file,
    write_whole,
    write_whole_bytes,
)
from obrin.live.project import Project

AT_ONCE = 8
"""How many tunnels and filter rules are validated at once."""
PACKS_AT_ONCE = 8
MOST_LISTED = 12
"""Differences of one pack that are listed one by one."""
MOST_AROUND = 3
MOST_BYTES = 256 << 20
"""Largest size of one file of a pack. The cloud's of a thousand links has a few million bytes."""
EDITED = ".edited"
Files = dict[str, Any]

PAGE = "sheet.html"
OWN_FILES = frozenset({CONFIG, KEYS, SHEET, STEPS, MIRROR, VALUES, SERVICES, SERVICE_VALUES, PAGE})
"""Names of a pack's own files; nothing else is written by one of them."""


class PackError(ObrinError):
    """A pack cannot be made from this design as it stands."""

    exit_code = 1


def make_packs(project: Project, settled: Settled, crew: Crew = HERE) -> dict[str, Pack]:
    """All packs, validated against their modules and proven to mirror each other."""
    secrets = project.secrets(settled)
    missing = secrets.missing(settled)
    if missing:
        raise PackError(f"not there yet: {', '.join(missing)}. Run 'obrin settle'")
    maker = PackMaker(settled)
    faults = maker.mirror_faults()
    if faults:
        raise PackError("the two ends are not mirror images: " + "; ".join(faults))
    names = [name for name in gateways_of(settled) if name not in secrets.barred]
    pieces = batches(names, PACKS_AT_ONCE)
    found = crew.each(_PACKS, (settled, secrets), pieces, _Making(maker, secrets))
    return {pack.gateway: pack for packs in found for pack in packs}


class _Making:
    """What all packs are made with."""

    def __init__(self, maker: PackMaker, secrets: Secrets) -> None:
        from obrin.live.standard_shapes import Alike

        self.maker, self.secrets, self.alike = maker, secrets, Alike()


def _making(given: tuple[Settled, Secrets]) -> _Making:
    return _Making(PackMaker(given[0]), given[1])


def _packs(making: _Making, names: Sequence[str]) -> list[Pack]:
    for name in names:
        # Validation takes time with the square of the size, so large packs go in parts.
        for part in parts(making.maker.device_config_of(name), AT_ONCE):
            making.alike.validate(encode(part))
    return [making.maker.make(name, making.secrets) for name in names]


_PACKS: Job[tuple[Settled, Secrets], _Making, Sequence[str], list[Pack]] = Job(_making, _packs)


@dataclass(frozen=True, slots=True)
class Written:
    """Paths by gateway, and what the owner should know about packs that were there before."""

    files: dict[str, list[Path]]
    notes: tuple[str, ...]


def write_packs(project: Project, settled: Settled, crew: Crew = HERE) -> Written:
    """Everything is made before anything is written.

    A file that was changed by hand since the last handover is kept under another name.
    """
    packs = make_packs(project, settled, crew)
    notes = [*retire_old(project, packs), *_stand_ins(settled)]
    record = PackRecord(project)
    for name in packs:
        for file in [f for f in (CONFIG, KEYS) if record.edited(name, f)]:
            old = project.packs / name / file
            write_whole_bytes(old.with_name(file + EDITED), old.read_bytes(), 0o600)
            notes.append(f"{shown(project, old)} was changed by hand; that is {file}{EDITED} now")
    notes += _around(project, packs)
    record.expect(packs)
    written = {name: _write_pack(project, name, pack) for name, pack in packs.items()}
    return Written(written, tuple(notes))


def _around(project: Project, packs: Mapping[str, Pack]) -> Iterator[str]:
    """What changed for the people around since the last handover, once for each site."""
    seen: set[str] = set()
    for name, pack in packs.items():
        path = project.packs / name / SERVICE_VALUES
        if pack.services is None or path.is_symlink() or not path.is_file():
            continue
        before = read_file(path, MOST_BYTES).decode("utf-8", "replace")
        found = changed_values(before, pack.services[1])
        if not found or pack.services[0] in seen:
            continue
        seen.add(pack.services[0])
        more = f" and {len(found) - MOST_AROUND} more" if len(found) > MOST_AROUND else ""
        where = shown(project, path.with_name(SERVICES))
        changes = "; ".join(found[:MOST_AROUND])
        yield f"inform the people around: {where} has changed: {changes}{more}"


def _write_pack(project: Project, name: str, pack: Pack) -> list[Path]:
    folder_of_ours(project.packs.parent)
    keep_out(project.packs.parent, KEYS, KEYS + EDITED)
    folder_of_ours(project.packs)
    folder = project.packs / name
    folder_of_ours(folder)
    files = pack.open_files()
    files[PAGE] = as_page(name, "\n\n".join((pack.sheet, pack.steps, pack.mirror)))
    for file, text in files.items():
        write_whole(folder / file, text, 0o644)
    write_whole(folder / KEYS, pack.data_text(KEYS), 0o600)
    return [folder / file for file in (*files, KEYS)]


def retire_old(project: Project, packs: Collection[str]) -> Iterator[str]:
    """Packs that no longer fit: named, and their keys taken away, since they have ended."""
    for folder in sorted(_pack_folders(project.packs)):
        if folder.name not in packs:
            had = (folder / KEYS).exists()
            (folder / KEYS).unlink(missing_ok=True)
            gone = "; its keys are taken away" if had else ""
            yield (
                f"{shown(project, folder)} belongs to nothing that the design still hands over"
                f"{gone}. Remove it when nobody needs it"
            )
    for folder in sorted(_pack_folders(project.packs.parent)):
        yield f"{shown(project, folder)} belongs to no design. Remove it when nobody needs it"


def _stand_ins(settled: Settled) -> Iterator[str]:
    for name, cloud in settled.clouds.items():
        if cloud.gateway is not None and cloud.gateway.unknown:
            yield (
                f"{name} chooses its {' and '.join(sorted(cloud.gateway.unknown))} itself; others "
                "stand in for them until 'obrin connect' has built it and writes the packs anew"
            )


def _pack_folders(folder: Path) -> list[Path]:
    if not folder.is_dir() or folder.is_symlink():
        return []
    return [f for f in folder.iterdir() if not f.is_symlink() and (f / CONFIG).is_file()]


@dataclass(frozen=True, slots=True)
class HandedOver:
    """The packs as they lie there, and in what they are not what the design says; `anew` are those
    of an older design, which were written again."""

    packs: dict[str, Pack]
    notes: tuple[str, ...]
    anew: tuple[str, ...] = ()


def handed_over(project: Project, settled: Settled, *, write: bool = True) -> HandedOver:
    """The packs to go by. One that is missing, or was written for an older design and not touched
    since, is written (unless `write` is false); one that was changed by hand is taken as it is, and
    its differences listed.

    Raises ObrinError for one that cannot be used.
    """
    made, record = make_packs(project, settled), PackRecord(project)
    found: dict[str, Pack] = {}
    old: dict[str, Pack] = {}
    notes, anew = list[str](), list[str]()
    for name, pack in made.items():
        files = {CONFIG: _read(project, name, CONFIG), KEYS: _read(project, name, KEYS)}
        meant = {CONFIG: pack.config, KEYS: pack.keys}
        edited = [f for f in files if files[f] is not None and record.edited(name, f)]
        if edited:
            held = {f: meant[f] if files[f] is None else files[f] for f in files}
            notes += _edited(project, name, meant, held)
            _judge(project, name, held)
            texts = {file: as_json(data) for file, data in held.items()}
            pack = replace(pack, config_text=texts[CONFIG], keys_text=texts[KEYS])
        elif files != meant:
            if None not in files.values():
                anew.append(name)
                notes.append(f"the pack of {name} was of an older design; it is written anew")
            old[name] = pack
        found[name] = pack
    if old and write:
        record.expect(old)
        for name, pack in old.items():
            _write_pack(project, name, pack)
    return HandedOver(found, tuple(notes), tuple(anew))


def _edited(project: Project, name: str, meant: Files, held: Files) -> Iterator[str]:
    lines = [f"{CONFIG}: {text}" for text in differences(meant[CONFIG], held[CONFIG])]
    lines += [f"{KEYS}: {text}" for text in differences(meant[KEYS], held[KEYS], secret=True)]
    where = shown(project, project.packs / name)
    for line in lines[:MOST_LISTED]:
        yield f"{where} is not what the design says: {line}"
    if len(lines) > MOST_LISTED:
        yield f"{where}: {len(lines) - MOST_LISTED} more differences"
    if lines:
        yield f"{name} gets what its pack says. 'obrin handover' writes it as the design says"


def _read(project: Project, name: str, file: str) -> Any:
    """Return None where there is no such file. Raises ObrinError."""
    path = project.packs / name / file
    try:
        if path.is_symlink():
            raise ObrinError(f"{path} is a symbolic link. Run 'obrin handover' for a true one")
        return parse_json(read_file(path, MOST_BYTES).decode("utf-8"))
    except FileNotFoundError:
        return None
    except OutsideError as error:
        raise ObrinError(f"{path} {error}. Mend that, or run 'obrin handover'") from None
    except (ValueError, RecursionError) as error:
        raise ObrinError(f"{path} is not JSON: {error}. Mend it, or run 'obrin handover'") from None


def _judge(project: Project, name: str, held: Files) -> None:
    from obrin.live.standard_modules import StandardDataError, validate

    for file, data in held.items():
        try:
            validate(data)
        except StandardDataError as error:
            where = shown(project, project.packs / name / file)
            raise ObrinError(f"{where}: {error}. Mend it, or run 'obrin handover'") from None


def shown(project: Project, path: Path) -> str:
    """Relative to the project's folder."""
    return str(path.relative_to(project.folder))


class PackRecord:
    """What was handed over lately, to find what was changed by hand since.

    It is written before the packs are, and remembers the last few: whoever is killed between two
    files has not changed any by hand. It lies with the keys, since it could be used to try guesses
    at them.
    """

    REMEMBERED = 4

    def __init__(self, project: Project) -> None:
        self._project = project
        self._path = project.own_folder / f"packs-{project.design_path.stem}.json"
        self._digests: dict[str, list[str]] = {}
        with contextlib.suppress(OSError, ValueError, RecursionError):
            found = parse_json(self._path.read_text(encoding="utf-8"))
            if isinstance(found, dict):
                self._digests = {str(n): d for n, d in found.items() if isinstance(d, list)}

    def expect(self, packs: Mapping[str, Pack]) -> None:
        """These are going to be written."""
        for name, pack in packs.items():
            for file in (CONFIG, KEYS):
                digest, known = _digest(pack.data_text(file).encode()), self._known(name, file)
                lately = [digest, *(d for d in known if d != digest)]
                self._digests[f"{name}/{file}"] = lately[: self.REMEMBERED]
        private_folder(self._project.own_folder)
        write_whole(self._path, json.dumps(self._digests) + "\n", 0o600, durable=True)

    def edited(self, name: str, file: str) -> bool:
        """Whether the file is there and is none that was handed over."""
        try:
            data = read_file(self._project.packs / name / file, MOST_BYTES)
        except (OSError, OutsideError):
            return False
        return _digest(data) not in self._known(name, file)

    def _known(self, name: str, file: str) -> list[str]:
        return self._digests.get(f"{name}/{file}", [])


def _digest(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()
