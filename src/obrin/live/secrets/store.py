"""Pre-shared keys at rest: one file per project, mode 0600, outside version control."""

from __future__ import annotations

import getpass
import json
import os
import stat
import sys
from collections.abc import Callable, Iterable
from pathlib import Path

from obrin.core.errors import ObrinError
from obrin.core.ipsec.shared_keys import make_key
from obrin.live.files import private_folder, write_whole
from obrin.live.secrets.sealed import SealError, is_sealed, seal, unseal


class SecretsError(ObrinError):
    """The key file cannot be used as it is. Its message never quotes a key."""


PASSPHRASE = "OBRIN_PASSPHRASE"


def ask_passphrase() -> str:
    """From the environment, or typed without echo. Raises SecretsError when nobody answers."""
    given = os.environ.get(PASSPHRASE)
    if given:
        return given
    if not sys.stdin.isatty():
        raise SecretsError(f"the keys are sealed. Set {PASSPHRASE}, or run it in a terminal")
    return getpass.getpass("Passphrase of the keys: ", stream=sys.stderr)


class KeyStore:
    """A map from tunnel labels to keys. Read whole, written whole, sealed if it was sealed."""

    def __init__(self, path: Path, passphrase: Callable[[], str] = ask_passphrase) -> None:
        self.path = path
        self._ask = passphrase
        self._given: str | None = None

    def _passphrase(self) -> str:
        """Asked once."""
        if self._given is None:
            self._given = self._ask()
        return self._given

    def read(self) -> dict[str, str]:
        """Raises SecretsError when the file is damaged or open to others."""
        if not self.path.exists():
            return {}
        mode = stat.S_IMODE(os.stat(self.path).st_mode)
        if mode & 0o077:
            raise SecretsError(
                f"{self.path} can be read by others (mode {mode:o}). Run 'chmod 600' on it, "
                "and renew its keys if someone may have seen them"
            )
        try:
            data = json.loads(self.path.read_text(encoding="utf-8"))
            if is_sealed(data):
                data = json.loads(unseal(data, self._passphrase()))
            return {str(name): str(key) for name, key in data["keys"].items()}
        except SealError as error:
            raise SecretsError(
                f"{self.path} cannot be opened: {error}. Nothing was changed"
            ) from None
        except (ValueError, KeyError, AttributeError, TypeError):
            raise SecretsError(
                f"{self.path} is damaged. Restore it, or delete it and settle again"
            ) from None

    @property
    def sealed(self) -> bool:
        """Whether the file is sealed with a passphrase."""
        try:
            return is_sealed(json.loads(self.path.read_text(encoding="utf-8")))
        except (OSError, ValueError):
            return False

    def write(self, keys: dict[str, str]) -> None:
        self._write(keys, sealed=self.sealed)

    def seal(self) -> None:
        """Seal what is there, with a passphrase. Raises SecretsError."""
        self._write(self.read(), sealed=True)

    def unseal(self) -> None:
        """Take the seal off. Raises SecretsError."""
        self._write(self.read(), sealed=False)

    def _write(self, keys: dict[str, str], *, sealed: bool) -> None:
        private_folder(self.path.parent)
        data: dict[str, object] = {"keys": keys}
        if sealed:
            data = seal(json.dumps(data), self._passphrase(), os.urandom)
        write_whole(self.path, json.dumps(data, indent=1) + "\n", 0o600)

    def fill(self, labels: Iterable[str], rng: Callable[[int], bytes]) -> list[str]:
        """Make a key for every label that has none; the labels that got one."""
        keys = self.read()
        missing = [label for label in labels if label not in keys]
        if missing:
            self.write(keys | {label: make_key(rng) for label in missing})
        return missing
