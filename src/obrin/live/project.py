"""A project folder: the design, the settled file beside it, packs, and Obrin's own folder."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from obrin.core.design.building import build_settled
from obrin.core.design.choices import Choice, format_choices, parse_choices
from obrin.core.design.document import Document, load_design
from obrin.core.design.model import Design
from obrin.core.design.offering import PRACTICE_CLOUD, Offering
from obrin.core.design.reader import MAX_BYTES
from obrin.core.design.settle import settle
from obrin.core.design.settled import Settled
from obrin.core.errors import DesignError, Problem
from obrin.live.files import write_whole
from obrin.live.secrets.store import KeyStore

DESIGN_NAME = "design.yaml"


@dataclass(frozen=True)
class Project:
    """All paths hang on the design file's."""

    design_path: Path

    @property
    def folder(self) -> Path:
        return self.design_path.parent

    @property
    def settled_path(self) -> Path:
        return self.design_path.with_name(self.design_path.stem + ".settled.yaml")

    @property
    def packs(self) -> Path:
        return self.folder / "packs"

    @property
    def own_folder(self) -> Path:
        """Keys, journal, and the state of the practice world. Made when first written to."""
        return self.folder / ".obrin"

    @cached_property
    def keys(self) -> KeyStore:
        """One for each project, so that a passphrase is asked once."""
        return KeyStore(self.own_folder / f"keys-{self.design_path.stem}.json")

    @property
    def journal_path(self) -> Path:
        return self.own_folder / "journal.sqlite"

    @property
    def practice_folder(self) -> Path:
        return self.own_folder / "practice"

    def read(self) -> Document:
        return load_design(read_text(self.design_path), str(self._shown(self.design_path)))

    def read_choices(self) -> dict[str, Choice]:
        """Empty when nothing was settled yet."""
        if not self.settled_path.exists():
            return {}
        return parse_choices(read_text(self.settled_path), str(self._shown(self.settled_path)))

    def write_choices(self, choices: Mapping[str, Choice]) -> None:
        write_whole(self.settled_path, format_choices(choices), 0o644)

    def settled(self) -> tuple[Document, Settled]:
        """The design with its choices. Raises SettleError while a blank has none."""
        document = self.read()
        return document, build_settled(document.design, self.read_choices())

    def offering(self, design: Design) -> Offering:
        """The cloud's classes and rules: a file that the design names, or the practice cloud's."""
        if design.offering is None:
            return PRACTICE_CLOUD
        from obrin.core.design.offering_file import parse_offering

        path = self.folder / design.offering
        return parse_offering(read_text(path), str(self._shown(path)))

    def settle(
        self, design: Design, previous: Mapping[str, Choice] | None = None
    ) -> dict[str, Choice]:
        """Choices for every blank, around those of before; nothing is written."""
        before = self.read_choices() if previous is None else previous
        return settle(design, before, self.offering(design), os.urandom(5))

    def on_trial(self) -> tuple[Document, dict[str, Choice], Settled]:
        """The design settled for a question: blanks that have no choice get one, unwritten."""
        document = self.read()
        choices = self.settle(document.design)
        return document, choices, build_settled(document.design, choices)

    @staticmethod
    def _shown(path: Path) -> Path:
        """Relative to the current folder where that is shorter."""
        with contextlib.suppress(ValueError):
            return path.relative_to(Path.cwd())
        return path


def read_text(path: Path) -> str:
    """Raises DesignError when the file cannot be read as UTF-8 text."""
    try:
        if path.stat().st_size > MAX_BYTES:
            what = f"the file has {path.stat().st_size:,} bytes; at most {MAX_BYTES:,} are read"
            raise DesignError([Problem(str(path), what, "Split it, or check that it is the file")])
        return path.read_text(encoding="utf-8-sig")
    except FileNotFoundError:
        fix = "Make one with 'obrin new', or name it with --design"
        raise DesignError([Problem(str(path), "there is no such file", fix)]) from None
    except UnicodeDecodeError as error:
        raise DesignError(
            [Problem(str(path), f"not UTF-8 text (byte {error.start})", "Save it as UTF-8")]
        ) from None
    except OSError as error:
        raise DesignError(
            [Problem(str(path), f"cannot be read: {error.strerror}", "Check the path")]
        ) from None


def find_project(given: str | None) -> Project:
    """The design named by an option, or `design.yaml` in the current folder."""
    path = Path(given) if given else Path(DESIGN_NAME)
    if path.is_dir():
        path /= DESIGN_NAME
    return Project(Path(os.path.abspath(path)))
