"""Pre-shared keys at rest: one file per project, mode 0600, outside version control."""

from __future__ import annotations

import json
import os
import stat
from collections.abc import Callable, Iterable
from pathlib import Path

from obrin.core.errors import ObrinError
from obrin.core.ipsec.shared_keys import make_key
from obrin.live.files import private_folder, write_whole


class SecretsError(ObrinError):
    """The key file cannot be used as it is. Its message never quotes a key."""


class KeyStore:
    """A map from tunnel labels to keys. Read whole, written whole."""

    def __init__(self, path: Path) -> None:
        self.path = path

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
            return {str(name): str(key) for name, key in data["keys"].items()}
        except (ValueError, KeyError, AttributeError, TypeError):
            raise SecretsError(
                f"{self.path} is damaged. Restore it, or delete it and settle again"
            ) from None

    def write(self, keys: dict[str, str]) -> None:
        private_folder(self.path.parent)
        write_whole(self.path, json.dumps({"keys": keys}, indent=1) + "\n", 0o600)

    def fill(self, labels: Iterable[str], rng: Callable[[int], bytes]) -> list[str]:
        """Make a key for every label that has none; the labels that got one."""
        keys = self.read()
        missing = [label for label in labels if label not in keys]
        if missing:
            self.write(keys | {label: make_key(rng) for label in missing})
        return missing
