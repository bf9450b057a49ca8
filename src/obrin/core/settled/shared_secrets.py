"""Secrets that both ends of a tunnel share: pre-shared keys, and passwords of BGP sessions."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.settled.links import SettledTunnel

KEY, PASSWORD = "pre-shared key", "BGP password"
_OF_SESSION = ":bgp"


def password_label(session: str) -> str:
    """What the password of a BGP session is called, by the label of the session."""
    return session + _OF_SESSION


def is_password(label: str) -> bool:
    """Whether a secret of this label is the password of a BGP session, and not a key."""
    return label.endswith(_OF_SESSION)


@dataclass(frozen=True, slots=True, kw_only=True)
class SharedSecret:
    """What both ends of a tunnel must have and nobody else: its pre-shared key, or the password of
    the BGP session in it. `label` is how it is called; `what` says which it is."""

    label: str
    tunnel: SettledTunnel
    what: str

    @property
    def words(self) -> str:
        """Name of the secret in a list of what was made."""
        return f"{'key' if self.is_key else self.what} of {self.label.removesuffix(_OF_SESSION)}"

    @property
    def is_key(self) -> bool:
        return self.what == KEY

    @property
    def renewal(self) -> str:
        """How it is replaced; a session has no way to change its password while it stands."""
        if self.is_key:
            return f"'obrin keys rotate {self.label}'"
        return f"'obrin keys renew {self.label}', then hand over and connect"
