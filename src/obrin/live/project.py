"""A project folder: the design, the settled file beside it, packs, and Obrin's own folder."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Mapping
from contextlib import AbstractContextManager
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime, time
from functools import cached_property, lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from obrin.core.catalogue.offering import PRACTICE_CLOUD, Offered, Offering, Offerings
from obrin.core.design.document import Document, load_design
from obrin.core.design.model import Design
from obrin.core.design.positions import Locator
from obrin.core.design.reader import MAX_BYTES
from obrin.core.errors import DesignError, Misfit, ObrinError, OutsideError, Problem
from obrin.core.settle.choices import Choice, format_choices, parse_choices
from obrin.core.settle.drift import Drift, drifts
from obrin.core.settle.judge import judge_choices
from obrin.core.settle.settle import settle, without
from obrin.core.settled.building import build_settled
from obrin.core.settled.model import Settled
from obrin.live import warm
from obrin.live.files import private_folder, read_file, write_whole
from obrin.live.lock import Tell, project_lock
from obrin.live.secrets.file import (
    PASSPHRASE,
    Passphrase,
    SecretFile,
    SecretsError,
    ask_passphrase,
)
from obrin.live.secrets.store import KeyStore

if TYPE_CHECKING:
    from obrin.core.calendar.endings import Dated
    from obrin.core.handover.secrets import KeyOwner, Secrets
    from obrin.live.secrets.authority import AuthorityStore

DESIGN_NAME = "design.yaml"
TODAY = "OBRIN_TODAY"


class Trial(NamedTuple):
    """A design on trial: `moved` are settled values that `settle` would choose anew."""

    document: Document
    choices: dict[str, Choice]
    settled: Settled
    moved: tuple[Drift, ...]


@dataclass(frozen=True)
class Project:
    """All paths hang on the design file's."""

    design_path: Path
    missing: str = "Make one with 'obrin new', or name it with --design"
    """How to put it right where no such design is there."""

    @property
    def folder(self) -> Path:
        return self.design_path.parent

    @property
    def today(self) -> date:
        """The day by the clock here, or OBRIN_TODAY (ISO 8601) to look at another one."""
        given = os.environ.get(TODAY)
        if not given:
            return date.today()
        try:
            return date.fromisoformat(given)
        except ValueError:
            raise ObrinError(f"{TODAY} is '{given}'. Give a date such as 2026-11-23") from None

    @property
    def now(self) -> datetime:
        """The time here in UTC; noon of the day when OBRIN_TODAY gives one."""
        if os.environ.get(TODAY):
            return datetime.combine(self.today, time(12), UTC)
        return datetime.now(UTC).replace(microsecond=0)

    @property
    def settled_path(self) -> Path:
        return self.design_path.with_name(self.design_path.stem + ".settled.yaml")

    @property
    def packs(self) -> Path:
        """A folder for each design, since two designs may have gateways of one name."""
        return self.folder / "packs" / self.design_path.stem

    @property
    def own_folder(self) -> Path:
        """Keys, journal, and the state of the practice world. Made when first written to."""
        return self.folder / ".obrin"

    def lock(self, what: str, tell: Tell | None = None) -> AbstractContextManager[None]:
        """Held while `what` writes in this project. Raises BusyError when somebody else does, or
        waits for them where there is somebody to `tell` so.

        Without a design there is nothing to write for, and the command itself will say so.
        """
        if not self.design_path.exists():
            return contextlib.nullcontext()
        return project_lock(self.folder, self.own_folder, what, tell)

    @cached_property
    def passphrase(self) -> Passphrase:
        """One for each project, so that it is asked once."""
        return Passphrase(self._find_passphrase)

    @property
    def _keyring_note(self) -> Path:
        """Holds the name under which the system's keyring knows this project, if it does."""
        return self.own_folder / f"keyring-{self.design_path.stem}"

    def _find_passphrase(self) -> str:
        """Find the passphrase in the environment or the system's keyring, or ask for it."""
        if not os.environ.get(PASSPHRASE) and self._keyring_note.exists():
            from obrin.live.secrets.keyring import look_up

            found = look_up(read_text(self._keyring_note).strip())
            if found is not None:
                return found
        return ask_passphrase()

    def keep_in_keyring(self, passphrase: str) -> str:
        """Lay the passphrase in the system's keyring, and return it. Raises SecretsError."""
        from obrin.live.secrets.keyring import lay_in

        name = f"{self.design_path.stem}-{os.urandom(8).hex()}"
        lay_in(name, passphrase)
        private_folder(self.own_folder)
        write_whole(self._keyring_note, name + "\n", 0o600, durable=True)
        return passphrase

    def leave_keyring(self) -> None:
        """Take the passphrase out of the system's keyring, if it is there."""
        if self._keyring_note.exists():
            from obrin.live.secrets.keyring import take_out

            take_out(read_text(self._keyring_note).strip())
            self._keyring_note.unlink()

    @cached_property
    def keys(self) -> KeyStore:
        """Pre-shared keys."""
        return KeyStore(self._secret_file("keys"))

    @cached_property
    def authority(self) -> AuthorityStore:
        """The certificate authority."""
        from obrin.live.secrets.authority import AuthorityStore

        return AuthorityStore(self._secret_file("certificates"))

    def _secret_file(self, what: str) -> SecretFile:
        name = f"{what}-{self.design_path.stem}.json"
        return SecretFile(self.own_folder / name, self.passphrase)

    def secret_files(self) -> list[SecretFile]:
        """Every file of secrets that the project can have."""
        return [self._secret_file(what) for what in ("keys", "certificates")]

    def fill_secrets(self, settled: Settled) -> list[str]:
        """Make the keys and certificates that are missing; what was made, in words."""
        made = self.keys.fill(settled, os.urandom, self.today)
        needs = settled.certified()
        if needs:
            from obrin.live.secrets.material import lives_of

            lives = lives_of(settled)
            found = self.authority.fill(settled.name, needs, lives, self.now)
            made += [f"certificate of {name}" for name in found]
        return made

    def secrets(self, settled: Settled) -> Secrets:
        """All that packs need. Raises SecretsError."""
        from obrin.core.handover.secrets import Secrets

        if not settled.certified():
            return Secrets(self.keys.read(), made=self.keys.made())
        from obrin.live.secrets.material import certificate_files

        authority = self.authority.read(settled.name)
        return Secrets(
            self.keys.read(),
            certificate_files(authority, settled, self.now),
            frozenset(authority.barred()),
            self.keys.made(),
        )

    def secrets_in_force(self, settled: Settled) -> Secrets:
        """What the ends have: a key that was made anew is not there yet. Raises SecretsError."""
        found = self.secrets(settled)
        return replace(found, keys={**found.keys, **self.keys.entered()})

    def secrets_to_judge(self, settled: Settled) -> Secrets:
        """The same, with what they are held against. Raises SecretsError."""
        prints = self.keys.prints() if any(s.entered for s in settled.links.values()) else {}
        return replace(self.secrets(settled), beside=self.keys_beside(), prints=prints)

    def keys_beside(self) -> dict[KeyOwner, str]:
        """The keys of other designs in this folder. Those of files that cannot be opened are left
        out: they are for their own designs to complain of."""
        from obrin.core.handover.secrets import KeyOwner

        found: dict[KeyOwner, str] = {}
        own = self.keys.file.path
        for path in sorted(own.parent.glob("keys-*.json")):
            if path == own:
                continue
            with contextlib.suppress(SecretsError):
                store = KeyStore(SecretFile(path, self._no_passphrase))
                name = path.stem.removeprefix("keys-")
                found |= {KeyOwner(label, name): key for label, key in store.read().items()}
        return found

    @staticmethod
    def _no_passphrase() -> str:
        raise SecretsError("it is sealed")

    def barred(self, settled: Settled) -> dict[str, date]:
        """Gateways all of whose certificates are revoked, and since when. Raises SecretsError."""
        if not settled.certified():
            return {}
        return self.authority.read(settled.name).barred()

    @property
    def journal_path(self) -> Path:
        return self.own_folder / "journal.sqlite"

    @property
    def places_path(self) -> Path:
        """Which driver serves which place, where it is not the practice world."""
        return self.design_path.with_name(f"{self.design_path.stem}.places.yaml")

    @property
    def practice_folder(self) -> Path:
        return self.own_folder / "practice"

    def read(self) -> Document:
        text = read_text(self.design_path, self.missing)
        source = str(self.shown(self.design_path))
        held = warm.get("design", text)
        if isinstance(held, Design):
            return Document(held, Locator(text, source))
        document = load_design(text, source)
        warm.keep("design", document.design, text)
        return document

    def read_choices(self, design: Design, anew: tuple[str, ...] = ()) -> dict[str, Choice]:
        """Read choices, but for those at places to choose anew; each judged value by value. Raises
        DesignError.

        Empty when nothing was settled yet.
        """
        held, locator = self._settled_file()
        choices = without(held, anew)
        judge_choices(design, choices, self.offering(design), locator)
        return choices

    def _settled_file(self) -> tuple[Mapping[str, Choice], Locator]:
        text, source = self._settled_text(), str(self.shown(self.settled_path))
        held = {} if text is None else _parsed(text, source)
        return held, Locator(text or "", source)

    def _settled_text(self) -> str | None:
        """Return None where there is no such file."""
        return read_text(self.settled_path) if os.path.lexists(self.settled_path) else None

    def was_settled(self, place: str) -> bool:
        """Whether the settled file holds something at or below a place (`all`: anything)."""
        choices, _ = self._settled_file()
        return place == "all" or without(choices, (place,)) != choices

    def changed_by_hand(self) -> list[str]:
        """Places whose value in the settled file is not the one that was written there."""
        return [key for key, choice in self._settled_file()[0].items() if choice.by_hand]

    def write_choices(self, choices: Mapping[str, Choice]) -> None:
        write_whole(self.settled_path, format_choices(choices), 0o644, durable=True)

    def settled(self) -> tuple[Document, Settled]:
        """The design with its choices. Raises SettleError while a blank has none."""
        document = self.read()
        return document, self._settled(document)

    def _settled(self, document: Document) -> Settled:
        known = self._known(document)
        held = warm.get("settled", *known)
        if isinstance(held, Settled):
            return held
        settled = self.build(document, self.read_choices(document.design))
        if self._known(document) == known:  # nobody wrote in between
            warm.keep("settled", settled, *known)
        return settled

    def _known(self, document: Document) -> list[str]:
        """All that a settled design is made from."""
        design = document.design
        names = dict.fromkeys((design.offering, *(c.offering for c in design.clouds.values())))
        texts = [read_text(self.folder / name) for name in names if name is not None]
        today = self.today.isoformat()
        return [document.locator.text, self._settled_text() or "", today, *texts]

    def build(self, document: Document, choices: Mapping[str, Choice]) -> Settled:
        """The settled design of today. Raises SettleError; DesignError with the place in the file
        for values that do not fit each other."""
        try:
            return build_settled(document.design, choices, self.today)
        except Misfit as error:
            where = document.locator.where(error.place)
            raise DesignError([Problem(where, error.what, error.fix)]) from None

    def offering(self, design: Design) -> Offered:
        """The clouds' classes and rules: files that the design names, or the practice cloud's."""
        usual = PRACTICE_CLOUD if design.offering is None else self._offering(design.offering)
        own = {
            name: self._offering(cloud.offering)
            for name, cloud in design.clouds.items()
            if cloud.offering is not None
        }
        return Offerings(usual, own) if own else usual

    def _offering(self, name: str) -> Offering:
        from obrin.core.design.offering_file import parse_offering

        path = self.folder / name
        return parse_offering(read_text(path), str(self.shown(path)))

    def settle(
        self, design: Design, previous: Mapping[str, Choice] | None = None
    ) -> dict[str, Choice]:
        """Choices for every blank, around those of before; nothing is written."""
        before = self.read_choices(design) if previous is None else previous
        return settle(design, before, self.offering(design), os.urandom(5))

    def on_trial(self) -> Trial:
        """The design settled for a question, nothing written.

        Where every blank has its value in the settled file, that is what holds, for this as for
        packs, even if `settle` would choose otherwise by now. Otherwise it is what `settle` would
        make of it.
        """
        document = self.read()
        before = self.read_choices(document.design)
        anew = self.settle(document.design, before)
        whole = anew.keys() <= before.keys()
        choices = {key: before[key] for key in anew} if whole else anew
        settled = self._settled(document) if choices == before else self.build(document, choices)
        return Trial(document, choices, settled, drifts(choices, anew))

    def dated(self, settled: Settled) -> list[Dated]:
        """The certificates in use, with their last days."""
        if not settled.certified():
            return []
        from obrin.live.secrets.material import dated

        return dated(self.authority.read(settled.name), settled)

    @staticmethod
    def shown(path: Path) -> Path:
        """Relative to the current folder where that is shorter."""
        with contextlib.suppress(ValueError):
            return path.relative_to(Path.cwd())
        return path


_parsed = lru_cache(maxsize=2)(parse_choices)
"""One text is parsed once, whatever a command asks of it; two, since `--against` reads another."""


def read_text(path: Path, fix: str = "Check the path", most: int = MAX_BYTES) -> str:
    """Raises DesignError when the file cannot be read as UTF-8 text of at most so many bytes, with
    the `fix` for one that is not there."""
    try:
        return read_file(path, most).decode("utf-8-sig")
    except FileNotFoundError:
        raise DesignError([Problem(str(path), "there is no such file", fix)]) from None
    except UnicodeDecodeError as error:
        raise DesignError(
            [Problem(str(path), f"not UTF-8 text (byte {error.start})", "Save it as UTF-8")]
        ) from None
    except OutsideError as error:
        raise DesignError([Problem(str(path), str(error), "Check the path")]) from None


def find_project(given: str | None) -> Project:
    """The design named by an option, or `design.yaml` in the current folder."""
    path = Path(given) if given else Path(DESIGN_NAME)
    if path.is_dir():
        path /= DESIGN_NAME
    return Project(Path(os.path.abspath(path)))
