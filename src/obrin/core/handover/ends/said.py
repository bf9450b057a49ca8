"""What is said to be entered at the two ends of a tunnel, where it must be alike: its key, and its
BGP session with addresses and password."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from obrin.core.ipsec.ends import Step
from obrin.core.routing.forwarding import host_route
from obrin.core.settled.as_entered import NOTHING, SaidSession, SettledEntered
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled
from obrin.core.settled.shared_secrets import password_label

SIDES = ("site", "cloud")
SESSION = "BGP session"
"""The step that comes after those of IKE."""
NO_PASSWORD = "none"


def same_keys(settled: Settled, tunnel: SettledTunnel, prints: Mapping[str, str]) -> bool:
    """Judge by what is said of either end, or else by the right one; nothing is known of the
    rest."""
    entered = settled.links[tunnel.link].entered
    right = prints.get(tunnel.label)
    found = {e.keys.get(tunnel.name, right) for _, e in _both(entered)}
    return len(found - {None}) <= 1


def not_known(settled: Settled, tunnel: SettledTunnel, prints: Mapping[str, str]) -> Iterator[str]:
    """What is said to be entered and cannot be compared, and the command that would help."""
    link = settled.links[tunnel.link]
    if any(tunnel.name in e.keys for e in link.entered.values()):
        right = prints.get(tunnel.label)
        if None in {e.keys.get(tunnel.name, right) for _, e in _both(link.entered)}:
            yield _NOT_KNOWN.format("key", tunnel.label)
    if link.password and any(tunnel.name in e.passwords for e in link.entered.values()):
        label = password_label(settled.sessions_over(tunnel)[0].label)
        right = prints.get(label)
        held = {e.passwords.get(tunnel.name, right) for _, e in _both(link.entered)}
        if None in held and NO_PASSWORD not in held:
            yield _NOT_KNOWN.format("password", label)


_NOT_KNOWN = (
    "whether the {0} is the right one: it has no fingerprint here yet. Run 'obrin keys compare {1}'"
)


def _both(entered: Mapping[str, SettledEntered]) -> Iterator[tuple[str, SettledEntered]]:
    """Either end, whether anything is said of it or not."""
    for side in SIDES:
        yield side, entered.get(side, NOTHING)


def with_session(
    settled: Settled, tunnel: SettledTunnel, prints: Mapping[str, str], steps: tuple[Step, ...]
) -> tuple[Step, ...]:
    """The steps of IKE, and that of the BGP session where it fails and all others are good."""
    fault = _session_fault(settled, tunnel) or _password_fault(settled, tunnel, prints)
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
        right = prints.get(password_label(settled.sessions_over(tunnel)[0].label))
    found = {side: e.passwords.get(tunnel.name, right) for side, e in _both(link.entered)}
    if None in found.values() or len(set(found.values())) == 1:
        return ""
    lacking = next((side for side, held in found.items() if held == NO_PASSWORD), None)
    if lacking is not None:
        return f"the {lacking} has no password for the BGP session, the other end has one"
    return "the passwords of the BGP session differ"


def _session_fault(settled: Settled, tunnel: SettledTunnel) -> str:
    """Why the BGP session does not begin, as far as its addresses and the way to them are said."""
    entered = settled.links[tunnel.link].entered
    sessions = settled.sessions_over(tunnel)
    if not sessions or not any(tunnel.name in e.sessions for e in entered.values()):
        return ""
    said = {s: e.sessions.get(tunnel.name, SaidSession()) for s, e in _both(entered)}
    meant = dict(zip(SIDES, sessions[0].ends, strict=True))
    for side, other in (SIDES, SIDES[::-1]):
        here, there = said[side], said[other]
        source, awaited = here.source or meant[side], there.peer or meant[side]
        if source != awaited:
            return f"the {side} speaks from {source}, and the {other} speaks to {awaited}"
        if sessions[0].beyond(tunnel) and here.multihop is False:
            return (
                f"the {side} takes only a peer on the link (multihop is off), and {meant[other]} "
                "is beyond it"
            )
        if host_route(meant[other], tunnel.inside) and here.host_route is False:
            return (
                f"the {side} has no static route to {meant[other]}, and waits for one that only "
                "this session would bring"
            )
    return ""


def session_entered(
    tunnel: SettledTunnel, entered: Mapping[str, SettledEntered], steps: Mapping[str, Step]
) -> Iterator[tuple[str, str, str, str]]:
    """What is compared, at the site, at the cloud, and what follows."""
    follows = "the BGP session does not begin" if SESSION in steps else ""
    if any(tunnel.name in found.passwords for found in entered.values()):
        said = [found.passwords.get(tunnel.name, _USUAL) for _, found in _both(entered)]
        yield ("Entered: BGP password", said[0], said[1], follows)
    if any(tunnel.name in found.sessions for found in entered.values()):
        one, two = (f.sessions.get(tunnel.name, SaidSession()) for _, f in _both(entered))
        yield ("Entered: BGP, from the site", _or(one.source), _or(two.peer), follows)
        yield ("Entered: BGP, from the cloud", _or(one.peer), _or(two.source), follows)
        for name, left, right in (
            ("multihop", one.multihop, two.multihop),
            ("host route", one.host_route, two.host_route),
        ):
            if left is not None or right is not None:
                yield (f"Entered: BGP {name}", _or(left), _or(right), follows)


_USUAL = "as on the sheet"


def _or(value: object) -> str:
    if isinstance(value, bool):
        return "on" if value else "off"
    return _USUAL if value is None else str(value)
