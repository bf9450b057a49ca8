"""Whether two ends of a tunnel or circuit work together while one has the old values and the other
the new ones.

Held against each other are what an end has, and what it would have if it were of the other end's
design: only what the other end minds counts.
"""

from __future__ import annotations

import functools

from obrin.core.change.place_parts import LegRecord
from obrin.core.handover.standard.bgp import Neighbour
from obrin.core.handover.standard.ipsec import Tunnel
from obrin.core.ipsec.agreement import predict
from obrin.core.ipsec.ends import End
from obrin.core.ipsec.suite import Suite

_MINDED = (
    "local_address",
    "remote_address",
    "local_identity",
    "remote_identity",
    "authentication",
    "selection",
    "each_pair",
)


def fits(has: LegRecord, meant: LegRecord, other: LegRecord) -> bool:
    """`other` is the other end's record, of the design that `meant` is of."""
    if not joined(has, meant, other):
        return False
    return _sessions_of(has) == _sessions_of(meant) and same_routing(has, meant)


def joined(has: LegRecord, meant: LegRecord, other: LegRecord) -> bool:
    """Whether packets that one end sends arrive, whatever routes there are."""
    if has == meant:
        return True
    if has.interface.addresses != meant.interface.addresses:
        return False
    if (has.tunnel is None) != (meant.tunnel is None):
        return False
    if has.tunnel is not None and meant.tunnel is not None and other.tunnel is not None:
        return _tunnels_fit(has.tunnel, meant.tunnel, other.tunnel)
    if has.circuit is not None and meant.circuit is not None:
        apart = has.circuit.remote_address != meant.circuit.remote_address
        return not apart and (has.circuit.bfd is None) == (meant.circuit.bfd is None)
    return True


def same_routing(has: LegRecord, meant: LegRecord) -> bool:
    """Static routes where they are meant, and sessions where these are."""
    return _routed(has) == _routed(meant)


def _routed(record: LegRecord) -> bool:
    """Whether it has static routes, beside those to BGP peers beyond the tunnel."""
    peers = {n.remote_address.alone for n in record.neighbours}
    return any(prefix not in peers for prefix, *_ in record.routes)


def _tunnels_fit(has: Tunnel, meant: Tunnel, other: Tunnel) -> bool:
    if any(getattr(has, name) != getattr(meant, name) for name in _MINDED):
        return False
    if not (_narrows(has, meant, "local_selectors") and _narrows(has, meant, "remote_selectors")):
        return False
    if (has.bfd is None) != (meant.bfd is None) or has.bfd_endpoints != meant.bfd_endpoints:
        return False
    return has.suite == meant.suite or _agree(has.suite, other.suite)


def _narrows(has: Tunnel, meant: Tunnel, name: str) -> bool:
    """Whether traffic selectors have something in common, to which child SAs are narrowed (RFC 7296
    section 2.9)."""
    return bool(set(getattr(has, name)) & set(getattr(meant, name)))


@functools.cache
def _agree(one: Suite, other: Suite) -> bool:
    """Whether two suites agree at the start and at every rekey, whichever end begins."""
    ends = End(name="one", suites=(one,)), End(name="other", suites=(other,))
    return all(step.good for pair in (ends, ends[::-1]) for step in predict(*pair))


def _sessions_of(record: LegRecord) -> dict[str, object]:
    return {n.name: _minded(n) for n in record.neighbours}


def _minded(session: Neighbour) -> tuple[object, ...]:
    families = tuple(hop.bits for hop in session.next_hops)
    ends = session.local_address, session.remote_address, session.multihop
    return (*ends, session.remote_as, session.signature, families, session.ways)


def known_as(speaker: tuple[int, object] | None, has: LegRecord, other: LegRecord) -> bool:
    """Whether the other end expects the AS number that this end has; an end that speaks BGP with
    its peers has one."""
    if speaker is None:
        return not has.neighbours
    return all(n.remote_as == speaker[0] for n in other.neighbours)
