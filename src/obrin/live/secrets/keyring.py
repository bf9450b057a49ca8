"""The passphrase of a project's secrets in the system's keyring, through a library."""

from __future__ import annotations

from typing import Any

from obrin.live.secrets.file import SecretsError

SERVICE = "obrin"


def _library() -> Any:
    try:
        import keyring
    except ImportError:
        raise SecretsError(
            "the system's keyring needs the library 'keyring'. Install it with "
            "pip install 'obrin[keyring]'"
        ) from None
    return keyring


def lay_in(name: str, passphrase: str) -> None:
    """Raises SecretsError when this system has no keyring that can be used."""
    library = _library()
    try:
        library.set_password(SERVICE, name, passphrase)
        kept = library.get_password(SERVICE, name)
    except library.errors.KeyringError as error:
        raise SecretsError(f"this system's keyring cannot be used: {error}".rstrip(".")) from None
    if kept != passphrase:
        raise SecretsError("this system's keyring does not keep what it is given")


def look_up(name: str) -> str | None:
    """Return None when the keyring does not know the name. Raises SecretsError."""
    library = _library()
    try:
        found: str | None = library.get_password(SERVICE, name)
    except library.errors.KeyringError as error:
        raise SecretsError(f"this system's keyring cannot be used: {error}".rstrip(".")) from None
    return found


def take_out(name: str) -> None:
    """Forget a name; nothing happens when it is not known."""
    library = _library()
    try:
        library.delete_password(SERVICE, name)
    except library.errors.PasswordDeleteError:
        return
    except library.errors.KeyringError as error:
        raise SecretsError(f"this system's keyring cannot be used: {error}".rstrip(".")) from None
