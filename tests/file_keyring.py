"""A keyring for tests that keeps what it is given in the file named by FILE_KEYRING."""

from __future__ import annotations

import json
import os
from pathlib import Path

from keyring.backend import KeyringBackend
from keyring.errors import PasswordDeleteError


class FileKeyring(KeyringBackend):
    priority = 1

    @property
    def _path(self) -> Path:
        return Path(os.environ["FILE_KEYRING"])

    def _all(self) -> dict[str, str]:
        return json.loads(self._path.read_text()) if self._path.exists() else {}

    def get_password(self, service: str, username: str) -> str | None:
        return self._all().get(f"{service}/{username}")

    def set_password(self, service: str, username: str, password: str) -> None:
        self._path.write_text(json.dumps(self._all() | {f"{service}/{username}": password}))

    def delete_password(self, service: str, username: str) -> None:
        found = self._all()
        if found.pop(f"{service}/{username}", None) is None:
            raise PasswordDeleteError("not there")
        self._path.write_text(json.dumps(found))
