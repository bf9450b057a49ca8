"""What a router was seen to have learned, against what the model says it learns."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

from obrin.core.address.prefix import Address, Prefix, format_address
from obrin.core.routing.model import routers_of, state_of
from obrin.core.routing.path import AsPath, Candidate, Path, shortened
from obrin.core.settled.links import Leg
from obrin.core.settled.model import Settled

Seen = Callable[[Address], Mapping[Prefix, Path]]
"""Paths that a neighbour advertised, by its address."""


@dataclass(frozen=True, slots=True)
class SeenPaths:
    """The same in a table, of IPv4 alone, with two octets for an AS number: what BGP4-MIB shows."""

    by_peer: Mapping[Address, Mapping[Prefix, Path]]

    def differences(self, settled: Settled, place: str) -> Iterator[Difference]:
        """The model against it, as far as it goes."""

        def seen(address: Address) -> Mapping[Prefix, Path]:
            return self.by_peer.get(address, {})

        for one in differences(settled, place, seen, shortened):
            if one.prefix.bits == 32:
                yield one


@dataclass(frozen=True, slots=True)
class Difference:
    """One prefix from one neighbour: `missing`, `unexpected`, or `differs`, and how."""

    what: str
    prefix: Prefix
    tunnel: str
    text: str


def session_ends(settled: Settled, leg: Leg) -> list[tuple[Address, Address]]:
    """The addresses of site and cloud between which the sessions over a tunnel or circuit run."""
    return [session.ends for session in settled.sessions_over(leg)] or [leg.peers]


def learned(settled: Settled, place: str) -> dict[Prefix, list[Candidate]]:
    """All that a place learns by BGP over its tunnels and circuits while everything is up."""
    stable = state_of(settled)
    found: dict[Prefix, list[Candidate]] = {}
    for router in routers_of(settled, place):
        for prefix, _ in stable.network.known.items():
            decision = stable.heard(router, prefix).decision
            if decision is not None and prefix not in found:
                every = (decision.winner, *(loser for loser, _ in decision.losers))
                found[prefix] = [c for c in every if c.peer.external]
    return found


def differences(
    settled: Settled, place: str, seen: Seen, as_sent: Callable[[AsPath], AsPath] = tuple
) -> Iterator[Difference]:
    """The model against a dump of this router's table, in which AS paths stand as `as_sent`
    makes them."""
    expected: dict[str, dict[Prefix, Candidate]] = {}
    for prefix, candidates in learned(settled, place).items():
        for candidate in candidates:
            expected.setdefault(candidate.peer.name, {})[prefix] = candidate
    cloud = place in settled.clouds
    for tunnel in settled.legs_at(place):
        wanted = expected.get(tunnel.label, {})
        ends = session_ends(settled, tunnel)
        address = ends[0][not cloud]
        found = {p: path for pair in ends for p, path in seen(pair[not cloud]).items()}
        for prefix in sorted({*wanted, *found}):
            one, two = wanted.get(prefix), found.get(prefix)
            if two is None:
                text = f"{address} should advertise it"
                yield Difference("missing", prefix, tunnel.label, text)
            elif one is None:
                text = f"AS path {_words(two.as_path)}; the model does not have it"
                yield Difference("unexpected", prefix, tunnel.label, text)
            elif (how := _apart(one.path, two, prefix.bits, as_sent)) != "":
                yield Difference("differs", prefix, tunnel.label, how)


def _apart(model: Path, seen: Path, bits: int, as_sent: Callable[[AsPath], AsPath]) -> str:
    as_path = as_sent(model.as_path)
    if as_path != seen.as_path:
        return f"AS path {_words(seen.as_path)}, the model has {_words(as_path)}"
    if model.next_hop != seen.next_hop:
        return f"next hop {_hop(seen, bits)}, the model has {_hop(model, bits)}"
    if model.local_pref != seen.local_pref:
        return f"local preference {seen.local_pref}, the model has {model.local_pref}"
    return ""


def _hop(path: Path, bits: int) -> str:
    """IPv4 may have a next hop of IPv6 (RFC 8950)."""
    return format_address(path.next_hop, 128 if path.next_hop >> 32 else bits)


def _words(as_path: AsPath) -> str:
    return " ".join(map(str, as_path)) or "empty"
