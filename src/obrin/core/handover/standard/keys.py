"""Module obrin-keys: the secrets of one gateway, apart from its configuration."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from obrin.core.json_text import Json

CONTAINER = "obrin-keys:keys"
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


@dataclass(frozen=True, slots=True)
class Keys:
    """Pre-shared keys `by_tunnel`, passwords of BGP sessions `by_neighbour`, and the gateway's
    certificate where it has one."""

    by_tunnel: Mapping[str, str] = field(default_factory=dict, repr=False)
    by_neighbour: Mapping[str, str] = field(default_factory=dict, repr=False)
    certificate: CertificateFiles | None = None

    def beside(self, later: Keys) -> Keys:
        """Merge with the keys of another design by tunnel or neighbour; the later one wins."""
        return Keys(
            {**self.by_tunnel, **later.by_tunnel},
            {**self.by_neighbour, **later.by_neighbour},
            later.certificate or self.certificate,
        )


def encode(keys: Keys) -> Json:
    """Instance data of the module, in JSON (RFC 7951)."""
    data: Json = {BY_KEY: [{"tunnel": name, "secret": key} for name, key in keys.by_tunnel.items()]}
    if keys.by_neighbour:
        data["session-password"] = [
            {"neighbor": name, "secret": password} for name, password in keys.by_neighbour.items()
        ]
    if keys.certificate is not None:
        data["certificate"] = encode_certificate(keys.certificate)
    return {CONTAINER: data}


def decode(data: Json) -> Keys:
    """The inverse; data without the container is a gateway without secrets."""
    held = data.get(CONTAINER, {})
    certificate = held.get("certificate")
    return Keys(
        {entry["tunnel"]: entry["secret"] for entry in held.get(BY_KEY, [])},
        {entry["neighbor"]: entry["secret"] for entry in held.get("session-password", [])},
        None if certificate is None else decode_certificate(certificate),
    )


def encode_certificate(files: CertificateFiles) -> Json:
    """The container `certificate`."""
    data: Json = {"chain": files.chain, "authorities": files.authorities}
    if files.key is not None:
        data["private-key"] = files.key
    if files.revocations:
        data["revocations"] = files.revocations
    return data


def decode_certificate(data: Json) -> CertificateFiles:
    """The inverse."""
    return CertificateFiles(
        data["chain"], data.get("private-key"), data["authorities"], data.get("revocations", "")
    )
