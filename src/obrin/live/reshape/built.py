"""The design that the last connect ended with: what a change begins from."""

from __future__ import annotations

import subprocess
import tempfile
from pathlib import Path

from obrin.core.errors import ObrinError, OutsideError
from obrin.core.settled.model import Settled
from obrin.live.files import private_folder, write_whole
from obrin.live.project import Project, read_text
from obrin.live.reshape.change_file import forget

DESIGN = "design.yaml"


def _folder(project: Project) -> Path:
    return project.own_folder / f"built-{project.design_path.stem}"


def keep_built(project: Project) -> None:
    """What stands in the design and its settled file now is built, and no change is under way; keys
    may be others still."""
    folder = _folder(project)
    private_folder(project.own_folder)
    private_folder(folder)
    texts = read_text(project.design_path), read_text(project.settled_path)
    kept = Project(folder / DESIGN)
    write_whole(kept.settled_path, texts[1], 0o600)
    write_whole(kept.design_path, texts[0], 0o600, durable=True)
    forget(project)


def built(project: Project, otherwise: str = "") -> Settled:
    """Raises ObrinError where nothing is known to be built, and says what one does `otherwise`."""
    kept = Project(_folder(project) / DESIGN)
    if not kept.design_path.exists():
        raise ObrinError(f"nothing is known to be built yet. Run 'obrin connect' first{otherwise}")
    return kept.settled()[1]


def of_revision(project: Project, revision: str) -> Settled:
    """The design as it stood in a revision of version control (git). Raises ObrinError for one that
    is not there."""
    with tempfile.TemporaryDirectory() as folder:
        kept = Project(Path(folder) / project.design_path.name)
        for path, target in (
            (project.design_path, kept.design_path),
            (project.settled_path, kept.settled_path),
        ):
            write_whole(target, _shown(project.folder, revision, path.name), 0o600)
        return kept.settled()[1]


def _shown(folder: Path, revision: str, name: str) -> str:
    if revision.startswith("-") or ":" in revision:
        raise ObrinError(f"'{revision}' is not a revision. Give a commit, a tag or a branch")
    command = ["git", "-C", str(folder), "show", f"{revision}:./{name}"]
    try:
        found = subprocess.run(command, capture_output=True, check=False)
    except OSError as error:
        raise OutsideError(f"git cannot be run: {error.strerror}. Give --from FILE") from None
    if found.returncode:
        said = found.stderr.decode("utf-8", "replace").strip().splitlines()
        why = said[-1] if said else "git says no more"
        raise ObrinError(f"{name} at '{revision}': {why}. Name a revision that has it")
    return found.stdout.decode("utf-8", "replace")
