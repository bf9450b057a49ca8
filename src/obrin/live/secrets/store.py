"""Pre-shared keys at rest, by tunnel, with the day on which each was made."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date

from obrin.core.ipsec.shared_keys import key_print, make_key
from obrin.core.settled.model import Settled
from obrin.core.settled.shared_secrets import SharedSecret
from obrin.live.secrets.file import SecretFile


class KeyStore:
    """A map from tunnel labels to keys. A key that waits for its rotation is kept beside, and so is
    one that the ends still have when another was made or brought instead."""

    def __init__(self, file: SecretFile) -> None:
        self.file = file

    def read(self) -> dict[str, str]:
        """Raises SecretsError when the file is damaged or open to others."""
        return self._part("keys")

    def made(self) -> dict[str, str]:
        """The day, ISO 8601, on which each key was made or brought, where it is known."""
        return self._part("made")

    def waiting(self) -> dict[str, str]:
        """New keys whose rotation was begun and not finished."""
        return self._part("waiting")

    def entered(self) -> dict[str, str]:
        """What the ends have, where it is not the key that is to be there."""
        return self._part("entered")

    def turns_left(self) -> list[str]:
        """Tunnels whose turn is to come in a rotation that was begun and not finished."""
        found = self.file.read().get("turns", [])
        if not isinstance(found, list):
            raise self.file.damaged()
        return [str(label) for label in found]

    def begin_turns(self, labels: list[str]) -> None:
        """A rotation of these tunnels begins, or goes on with them."""
        self._write(turns=labels)

    def print_secret(self) -> str:
        """What fingerprints of keys are made with, in hexadecimal; empty before there was one."""
        found = self.file.read().get("print-secret", "")
        if not isinstance(found, str) or not all(c in "0123456789abcdef" for c in found):
            raise self.file.damaged()
        return found

    def make_print_secret(self, rng: Callable[[int], bytes]) -> None:
        """Once, and kept: fingerprints stay what they are."""
        if not self.print_secret():
            self.file.write(self.file.read() | {"print-secret": rng(16).hex()})

    def prints(self) -> dict[str, str]:
        """The fingerprint of each key, where fingerprints were ever made."""
        secret = self.print_secret()
        if not secret:
            return {}
        return {label: key_print(key, bytes.fromhex(secret)) for label, key in self.read().items()}

    def _part(self, name: str) -> dict[str, str]:
        data = self.file.read()
        if not data:
            return {}
        part = data.get(name, {})
        if not isinstance(part, dict) or not all(isinstance(t, str) for t in part.values()):
            raise self.file.damaged()
        return {str(label): text for label, text in part.items()}

    def put(self, keys: dict[str, str], today: date, *, at_ends: bool = False) -> None:
        """Set these keys; others stay, and nothing waits for these any more. What the ends have is
        kept, unless they have these: `at_ends`."""
        made = dict.fromkeys(keys, today.isoformat())
        before, entered = self.read(), self.entered()
        for label, key in keys.items():
            there = entered.pop(label, before.get(label, key))
            if not at_ends and there != key:
                entered[label] = there
        self._write(
            keys=before | keys,
            made=self.made() | made,
            waiting={label: key for label, key in self.waiting().items() if label not in keys},
            turns=[label for label in self.turns_left() if label not in keys],
            entered=entered,
        )

    def all_entered(self) -> None:
        """The ends have what is to be there."""
        if self.entered():
            self._write(entered={})

    def lay_by(self, label: str, key: str) -> None:
        """Keep a new key until both ends have it."""
        self._write(waiting=self.waiting() | {label: key})

    def _write(self, **parts: dict[str, str] | list[str]) -> None:
        """These parts anew; the others stay, and what is empty goes."""
        data: dict[str, object] = {"keys": {}, "made": {}, **self.file.read(), **parts}
        kept = ("keys", "made")
        self.file.write({name: part for name, part in data.items() if part or name in kept})

    def fill(self, settled: Settled, rng: Callable[[int], bytes], today: date) -> list[str]:
        """Make each key and password that is missing; the words for those that were."""
        missing = self.missing(settled)
        made = {s.label: make_key(rng, settled.secret_rules(s)) for s in missing}
        if made:
            self.put(made, today)
        return [secret.words for secret in missing]

    def missing(self, settled: Settled) -> list[SharedSecret]:
        """What both ends of a tunnel share, and is not made yet."""
        keys = self.read()
        return [s for s in settled.shared_secrets() if s.label not in keys]
