"""The terms of a link's tunnels: what both ends of each share.

One record from the settled link to the device's standard data: a link, an end of a tunnel and what
was read back of it all have these terms, and hand them on whole. A new setting of tunnels is a
field here, filled below; what lies between then carries it.
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Any

from obrin.core.design.arrangement import bfd_of, each_pair_of, liveness_of
from obrin.core.design.model import Link
from obrin.core.design.references import all_suites
from obrin.core.errors import SettleError
from obrin.core.ipsec.liveness import Bfd, Liveness
from obrin.core.ipsec.suite import Suite
from obrin.core.settle.blank import link_key
from obrin.core.settle.suites import suite_of
from obrin.core.settled.picking import Picker


@dataclass(frozen=True, kw_only=True)
class Terms:
    """`authentication` is a method's name, `selection` what leads traffic into the tunnels,
    `fragments` whether packets that do not fit and may be cut are, before encryption; `each_pair`
    whether each pair of traffic selectors has a child SA of its own.

    Without slots, because an end of a tunnel has the terms beside what else an end has.
    """

    suite: Suite
    authentication: str
    selection: str
    liveness: Liveness
    always_encapsulate: bool
    fragments: bool = False
    each_pair: bool = False
    bfd: Bfd | None = None


NAMES = tuple(field.name for field in fields(Terms))


def terms_of(record: Terms) -> dict[str, Any]:
    """Terms of a record by name, to build another record with the same terms."""
    return {name: getattr(record, name) for name in NAMES}


def settled_terms(picker: Picker, name: str, link: Link, selection: str) -> Terms:
    """Settle the terms of a link. Raises SettleError for a suite that is no longer there."""
    return Terms(
        suite=_suite(picker, name, link),
        authentication=link.authentication,
        selection=selection,
        liveness=liveness_of(picker.design, name),
        always_encapsulate=link.encapsulation == "always",
        fragments=link.oversize == "fragment",
        each_pair=each_pair_of(picker.design, name, selection),
        bfd=bfd_of(picker.design, name, selection),
    )


def _suite(picker: Picker, name: str, link: Link) -> Suite:
    chosen = picker.value(link_key(name, "suite"), link.suite)
    suite = suite_of(name, chosen, all_suites(picker.design))
    if suite is None:
        raise SettleError(f"{link_key(name, 'suite')} is not known any more. Run 'obrin settle'")
    return suite
