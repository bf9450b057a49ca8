"""The secrets of a design, as packs are given them: keys by tunnel, certificates by gateway."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from obrin.core.handover.ends.records import ends_at
from obrin.core.handover.standard.keys import BY_KEY, CertificateFiles, Keys, encode
from obrin.core.json_text import Json
from obrin.core.settled.model import Settled
from obrin.core.settled.shared_secrets import password_label


class KeyOwner(NamedTuple):
    """A tunnel, and the design that has it; empty for the design that is looked at."""

    tunnel: str
    design: str = ""

    def __str__(self) -> str:
        return f"{self.tunnel} of design {self.design}" if self.design else self.tunnel


@dataclass(frozen=True, slots=True)
class Secrets:
    """`keys` by tunnel label, `certificates` by name of gateway or cloud.

    `barred` are gateways whose certificates are all revoked: they get no pack. `made` are the ISO
    dates of the keys. `beside` are keys of other designs in the same folder;
    `prints` are the fingerprints of these keys, where they are known.
    """

    keys: Mapping[str, str] = field(default_factory=dict, repr=False)
    certificates: Mapping[str, CertificateFiles] = field(default_factory=dict, repr=False)
    barred: frozenset[str] = frozenset()
    made: Mapping[str, str] = field(default_factory=dict)
    beside: Mapping[KeyOwner, str] = field(default_factory=dict, repr=False)
    prints: Mapping[str, str] = field(default_factory=dict)

    def missing(self, settled: Settled) -> list[str]:
        """What a design needs and is not here, in words."""
        return [
            *(s.words for s in settled.shared_secrets() if s.label not in self.keys),
            *(
                f"certificate of {name}"
                for name in settled.certified()
                if name not in self.certificates and name not in self.barred
            ),
        ]


def key_data(settled: Settled, place: str, secrets: Secrets) -> Json:
    """The secrets of one pack as instance data of obrin-keys. Raises KeyError for a missing one."""
    return encode(keys_of(settled, place, secrets))


def keys_of(settled: Settled, place: str, secrets: Secrets) -> Keys:
    """The secrets of one pack. Raises KeyError for a missing one."""
    ends = ends_at(settled, place)
    signed = {session.label: None for end in ends if end.password for session in end.sessions}
    certified = any(end.authentication != BY_KEY for end in ends)
    return Keys(
        {end.tunnel: secrets.keys[end.tunnel] for end in ends if end.authentication == BY_KEY},
        {label: secrets.keys[password_label(label)] for label in signed},
        secrets.certificates[place] if certified else None,
    )
