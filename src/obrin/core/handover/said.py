"""What is said to be entered at the two ends of a tunnel, where it must be alike: its key, and the
password of its BGP session."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from obrin.core.ipsec.ends import Step
from obrin.core.settled.links import OF_SESSION, SettledEntered, SettledTunnel
from obrin.core.settled.model import Settled

SIDES = ("site", "cloud")
SESSION = "BGP session"
"""The step that comes after those of IKE."""
NO_PASSWORD = "none"
_UNSAID = SettledEntered(
    suites=None, identity=None, expects=None, local=None, remote=None, keys={}, passwords={}
)


def same_keys(settled: Settled, tunnel: SettledTunnel, prints: Mapping[str, str]) -> bool:
    """By what is said of either end, or else by the right one; nothing is known of the rest."""
    entered = settled.links[tunnel.link].entered
    right = prints.get(tunnel.label)
    found = {e.keys.get(tunnel.name, right) for _, e in _both(entered)}
    return len(found - {None}) <= 1


def _both(entered: Mapping[str, SettledEntered]) -> Iterator[tuple[str, SettledEntered]]:
    """Either end, whether anything is said of it or not."""
    for side in SIDES:
        yield side, entered.get(side, _UNSAID)


def with_session(
    settled: Settled, tunnel: SettledTunnel, prints: Mapping[str, str], steps: tuple[Step, ...]
) -> tuple[Step, ...]:
    """The steps of IKE, and that of the BGP session where it fails and all others are good."""
    fault = _password_fault(settled, tunnel, prints)
    if not fault or not all(step.good for step in steps):
        return steps
    first = [step for step in steps if step.latest == 0]
    return (*first, Step(0, 0, SESSION, fault, "no answer"), *steps[len(first) :])


def _password_fault(settled: Settled, tunnel: SettledTunnel, prints: Mapping[str, str]) -> str:
    """Why the BGP session does not begin, as far as passwords are known (RFC 2385: what is not
    signed as it should be is dropped without an answer); empty if it does."""
    link = settled.links[tunnel.link]
    right: str | None = NO_PASSWORD
    if link.password:
        right = prints.get(settled.sessions_over(tunnel)[0].label + OF_SESSION)
    found = {side: e.passwords.get(tunnel.name, right) for side, e in _both(link.entered)}
    if None in found.values() or len(set(found.values())) == 1:
        return ""
    lacking = next((side for side, held in found.items() if held == NO_PASSWORD), None)
    if lacking is not None:
        return f"the {lacking} has no password for the BGP session, the other end has one"
    return "the passwords of the BGP session differ"


def passwords_entered(
    tunnel: SettledTunnel, entered: Mapping[str, SettledEntered], steps: Mapping[str, Step]
) -> Iterator[tuple[str, str, str, str]]:
    """What is compared, at the site, at the cloud, and what follows."""
    if any(tunnel.name in found.passwords for found in entered.values()):
        said = [found.passwords.get(tunnel.name, "as on the sheet") for _, found in _both(entered)]
        follows = "the BGP session does not begin" if SESSION in steps else ""
        yield ("Entered: BGP password", said[0], said[1], follows)
