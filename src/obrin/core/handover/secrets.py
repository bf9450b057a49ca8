"""The secrets of a design, as packs are given them: keys by tunnel, certificates by gateway."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from obrin.core.handover.ends import ends_at
from obrin.core.settled.links import OF_SESSION
from obrin.core.settled.model import Settled

Json = dict[str, Any]
BY_KEY = "pre-shared-key"


@dataclass(frozen=True, slots=True)
class CertificateFiles:
    """What a gateway is handed, as PEM: `chain` with its own certificate first, its private `key`,
    the authorities it believes, and lists of what they revoked. `key` is None when the device made
    its own request and never let the key go."""

    chain: str
    key: str | None = field(repr=False)
    authorities: str
    revocations: str = ""


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
    """The secrets of one pack, in a document of their own. Raises KeyError for a missing one."""
    ends = ends_at(settled, place)
    data: Json = {
        "pre-shared-key": [
            {"tunnel": end.tunnel, "secret": secrets.keys[end.tunnel]}
            for end in ends
            if end.authentication == BY_KEY
        ]
    }
    signed = {session.label: None for end in ends if end.password for session in end.sessions}
    if signed:
        data["session-password"] = [
            {"neighbor": label, "secret": secrets.keys[label + OF_SESSION]} for label in signed
        ]
    if any(end.authentication != BY_KEY for end in ends):
        data["certificate"] = certificate_data(secrets.certificates[place])
    return {"obrin-keys:keys": data}


def certificate_data(files: CertificateFiles) -> Json:
    """In the shape of obrin-keys' container `certificate`."""
    data: Json = {"chain": files.chain, "authorities": files.authorities}
    if files.key is not None:
        data["private-key"] = files.key
    if files.revocations:
        data["revocations"] = files.revocations
    return data
