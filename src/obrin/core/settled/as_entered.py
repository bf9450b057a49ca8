"""What is said to be entered at the ends of a link, where it may not be what the sheets say."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from obrin.core.address.prefix import Address, Prefix, parse_address
from obrin.core.design.entered import Entered
from obrin.core.design.model import Design
from obrin.core.design.references import all_suites
from obrin.core.ipsec.suite import Suite


@dataclass(frozen=True, slots=True, kw_only=True)
class SaidSession:
    """Values of a BGP session as they were entered; None where they are as they should be."""

    source: Address | None = None
    peer: Address | None = None
    multihop: bool | None = None
    host_route: bool | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class SettledEntered:
    """What is said of one end; None, or without a key, where it is as it should be. `keys` and
    `passwords` of sessions are fingerprints by the name of the tunnel, as are the `sessions`."""

    suites: tuple[Suite, ...] | None
    identity: str | None
    expects: str | None
    local: tuple[Prefix, ...] | None
    remote: tuple[Prefix, ...] | None
    keys: Mapping[str, str]
    passwords: Mapping[str, str]
    sessions: Mapping[str, SaidSession]


NOTHING = SettledEntered(
    suites=None,
    identity=None,
    expects=None,
    local=None,
    remote=None,
    keys={},
    passwords={},
    sessions={},
)


def entered_of(design: Design, found: Entered) -> SettledEntered:
    known = all_suites(design)
    return SettledEntered(
        suites=None if found.suites is None else tuple(known[name] for name in found.suites),
        identity=found.identity,
        expects=found.expects,
        local=found.local,
        remote=found.remote,
        keys=found.keys,
        passwords=found.passwords,
        sessions={
            name: SaidSession(
                source=None if said.source is None else parse_address(said.source),
                peer=None if said.peer is None else parse_address(said.peer),
                multihop=said.multihop,
                host_route=said.host_route,
            )
            for name, said in found.sessions.items()
        },
    )
