"""Pre-shared keys: weak ones, shared ones, missing ones. The keys themselves are never quoted."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from types import MappingProxyType

from obrin.core.check.finding import Finding, Severity
from obrin.core.design.reader import Location
from obrin.core.handover.secrets import KeyOwner
from obrin.core.ipsec.guessing import words_of
from obrin.core.ipsec.shared_keys import weaknesses
from obrin.core.settled.model import Settled
from obrin.core.settled.shared_secrets import SharedSecret


def keys(
    settled: Settled,
    stored: Mapping[str, str],
    beside: Mapping[KeyOwner, str] = MappingProxyType({}),
) -> Iterator[Finding]:
    """`stored` maps tunnel labels to keys, `beside` does so for tunnels of other designs."""
    others, words = _Others(beside), design_words(settled)
    for secret in settled.shared_secrets():
        tunnel, label = secret.tunnel, secret.label
        here: Location = ("links", tunnel.link, "tunnels", tunnel.name)
        key = stored.get(label)
        if key is None:
            yield Finding(
                Severity.WARNING,
                "key-missing",
                here,
                f"tunnel {tunnel.label} has no {secret.what} yet",
                "it cannot be handed over or connected",
                "run 'obrin settle', or bring one with 'obrin keys set'",
            )
            continue
        for name, rules in zip(
            (tunnel.gateway, tunnel.cloud), settled.secret_rules(secret), strict=True
        ):
            faults = rules.faults(key)
            if faults:
                yield Finding(
                    Severity.ERROR,
                    "key-refused",
                    here,
                    f"{name} does not accept the {secret.what} of {tunnel.label}: "
                    f"{'; '.join(faults)}",
                    "the device refuses it, or silently cuts it: then the keys differ",
                    f"'obrin keys renew {label}' makes one that both ends accept",
                )
        weak = weaknesses(key, words)
        if weak:
            yield Finding(
                Severity.ERROR,
                "key-weak",
                here,
                f"the {secret.what} of {tunnel.label} is weak: {'; '.join(weak)}",
                "who records one handshake can guess it at leisure, without asking either end",
                f"replace it: 'obrin keys renew {label}' makes one of 279 bits",
            )
        yield from others.alike(secret, key)


def shared_keys(
    settled: Settled, stored: Mapping[str, str], beside: Mapping[KeyOwner, str]
) -> Iterator[Finding]:
    """Find only what several tunnels have alike, here or in other designs."""
    others = _Others(beside)
    for secret in settled.shared_secrets():
        if secret.label in stored:
            yield from others.alike(secret, stored[secret.label])


class _Others:
    """The keys looked at before: the same ones, and those that differ only at their end."""

    def __init__(self, beside: Mapping[KeyOwner, str]) -> None:
        self._same = {key: owner for owner, key in beside.items()}
        self._nearly = {_stem(key): owner for owner, key in beside.items()}

    def alike(self, secret: SharedSecret, key: str) -> Iterator[Finding]:
        label, tunnel = secret.label, secret.tunnel
        mine = KeyOwner(label)
        same = self._same.setdefault(key, mine)
        nearly = self._nearly.setdefault(_stem(key), mine)
        here: Location = ("links", tunnel.link, "tunnels", tunnel.name)
        fix = f"replace one: 'obrin keys renew {label}'"
        # One tunnel may keep its key in several versions of a design.
        if same.tunnel != label:
            yield Finding(
                Severity.ERROR,
                "key-shared",
                here,
                f"tunnels {label} and {same} have the same pre-shared key",
                "one leak opens both, and either end can pass for the other",
                fix,
            )
        elif same == mine and nearly.tunnel != label:
            yield Finding(
                Severity.ERROR,
                "key-alike",
                here,
                f"the pre-shared keys of {label} and {nearly} differ only at their end",
                "who learns one has the other after a few guesses",
                fix,
            )


def _stem(key: str) -> str:
    """Strip the number at its end, or else without its last letter."""
    return key.rstrip("0123456789")[: max(len(key) - 1, 1)]


def design_words(settled: Settled) -> frozenset[str]:
    """Names of the design, which whoever attacks its links knows or tries."""
    places = (*settled.sites, *settled.clouds, *settled.gateways, *settled.links)
    owners = (entry.owner or "" for entry in settled.surroundings.elsewhere.values())
    return words_of((settled.name, *places, *owners))
