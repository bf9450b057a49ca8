"""A file of secrets: JSON, mode 0600, outside version control, sealed with a passphrase at will."""

from __future__ import annotations

import getpass
import json
import os
import stat
import sys
from collections.abc import Callable
from pathlib import Path

from obrin.core.errors import ObrinError
from obrin.core.json_text import Json, parse_json
from obrin.live.files import private_folder, write_whole
from obrin.live.secrets.sealed import SealError, is_sealed, seal, unseal

PASSPHRASE = "OBRIN_PASSPHRASE"


class SecretsError(ObrinError):
    """The file cannot be used as it is. Its message never quotes a secret."""


def ask_passphrase() -> str:
    """Read it from the environment, or typed without echo. Raises SecretsError when nobody
    answers."""
    given = os.environ.get(PASSPHRASE)
    if given:
        return given
    if not sys.stdin.isatty():
        raise SecretsError(f"the secrets are sealed. Set {PASSPHRASE}, or run it in a terminal")
    return getpass.getpass("Passphrase of the secrets: ", stream=sys.stderr)


class Passphrase:
    """Asked once, for all files of a project."""

    def __init__(self, ask: Callable[[], str] = ask_passphrase) -> None:
        self._ask = ask
        self._given: str | None = None

    def give(self, passphrase: str) -> None:
        """What was typed elsewhere."""
        self._given = passphrase

    def __call__(self) -> str:
        if self._given is None:
            self._given = self._ask()
        return self._given


class SecretFile:
    """Read whole, written whole, sealed if it was sealed. What is in it is its user's business."""

    def __init__(self, path: Path, passphrase: Callable[[], str]) -> None:
        self.path = path
        self._passphrase = passphrase

    def read(self) -> Json:
        """Empty without a file. Raises SecretsError when it is damaged or open to others."""
        try:
            status = os.lstat(self.path)
        except FileNotFoundError:
            return {}
        except OSError as error:
            raise self._unreadable(error) from None
        if not stat.S_ISREG(status.st_mode):
            raise SecretsError(
                f"{self.path} is not an ordinary file. Remove it, and restore the true one"
            )
        mode = stat.S_IMODE(status.st_mode)
        if mode & 0o077:
            raise SecretsError(
                f"{self.path} can be read by others (mode {mode:o}). Run 'chmod 600' on it, "
                "and renew what is in it if someone may have seen it"
            )
        try:
            data = parse_json(self.path.read_text(encoding="utf-8"))
            if is_sealed(data):
                data = parse_json(unseal(data, self._passphrase()))
        except SealError as error:
            raise SecretsError(
                f"{self.path} cannot be opened: {error}. Nothing was changed"
            ) from None
        except OSError as error:
            raise self._unreadable(error) from None
        except (ValueError, TypeError, RecursionError):
            raise self.damaged() from None
        if not isinstance(data, dict):
            raise self.damaged()
        return data

    def _unreadable(self, error: OSError) -> SecretsError:
        return SecretsError(
            f"{self.path} cannot be read: {error.strerror}. Check its owner and mode"
        )

    def damaged(self) -> SecretsError:
        """What to raise when what is in it makes no sense."""
        return SecretsError(f"{self.path} is damaged. Restore it, or delete it and settle again")

    @property
    def sealed(self) -> bool:
        """Whether it is sealed with a passphrase."""
        try:
            return is_sealed(parse_json(self.path.read_text(encoding="utf-8")))
        except (OSError, ValueError, RecursionError):
            return False

    def write(self, data: Json, *, sealed: bool | None = None) -> None:
        """Sealed as it was, unless asked otherwise."""
        private_folder(self.path.parent)
        if self.sealed if sealed is None else sealed:
            data = seal(json.dumps(data), self._passphrase(), os.urandom)
        write_whole(self.path, json.dumps(data, indent=1) + "\n", 0o600, durable=True)
