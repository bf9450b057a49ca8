"""Both ends of every tunnel as they will be configured, side by side, and what follows from it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from types import MappingProxyType

from obrin.core.design.abilities import Able
from obrin.core.handover.ends.records import TunnelEnd, cloud_end, site_end
from obrin.core.handover.ends.said import SIDES, not_known, same_keys, session_entered, with_session
from obrin.core.handover.sheet.words import bfd_words, identity_words, method_words, role_words
from obrin.core.ipsec.agreement import Edit, predict, smallest_edit
from obrin.core.ipsec.ends import WORDS, End, Step
from obrin.core.ipsec.nearest import nearest
from obrin.core.ipsec.offers import child_offers, ike_offers
from obrin.core.ipsec.policy import outdated
from obrin.core.ipsec.proposal import mismatch
from obrin.core.ipsec.registry import Kind
from obrin.core.ipsec.selectors import ANY, Selector
from obrin.core.ipsec.suite import Suite
from obrin.core.quantity import plain
from obrin.core.settled.as_entered import SettledEntered
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled
from obrin.core.settled.telling import announced_by_cloud, announced_by_site


@dataclass(frozen=True, slots=True)
class Line:
    """One value at both ends. `follows` says what a difference causes and when; empty if none."""

    what: str
    site: str
    cloud: str
    follows: str = ""


@dataclass(frozen=True, slots=True)
class Agreement:
    """`edit` is the smallest change that lets both ends agree, where they do not; None also when
    there is none, because the devices have nothing in common that may be used. `unknown` is what
    is said to be entered and could not be compared, in words."""

    tunnel: SettledTunnel
    ends: tuple[End, End]
    steps: tuple[Step, ...]
    edit: Edit | None
    unknown: tuple[str, ...] = ()

    @property
    def good(self) -> bool:
        """Whether every step works, as far as is known."""
        return all(step.good for step in self.steps)

    @property
    def verdict(self) -> bool | None:
        """Whether both ends agree; None where that is not known."""
        return None if self.good and self.unknown else self.good


def agreements(
    settled: Settled, prints: Mapping[str, str] = MappingProxyType({})
) -> Iterator[Agreement]:
    """Play through every tunnel; ends that are alike are played through once. `prints` are
    fingerprints of the right keys, by tunnel, for what is said to be entered at an end."""
    known = settled.standards.suites
    policy = settled.standards.policy
    usable = {n: s for n, s in known.items() if policy.allows(s) and not outdated(s)} or known
    played: dict[tuple[object, ...], tuple[tuple[Step, ...], Edit | None]] = {}
    for tunnel in settled.tunnels():
        ables = settled.gateways[tunnel.gateway].able, settled.clouds[tunnel.cloud].able
        ends = _ends(settled, tunnel, known, ables)
        same_key = same_keys(settled, tunnel, prints)
        key = (
            same_key,
            tunnel.cloud_initiates,
            *(replace(end, name="") for end in ends),
            *(able.profile.name for able in ables),
        )
        if key not in played:
            one, two = (replace(e, name=f"the {n}") for e, n in zip(ends, SIDES, strict=True))
            order = (two, one) if tunnel.cloud_initiates else (one, two)
            steps = predict(*order, same_key=same_key)
            good = all(step.good for step in steps)
            played[key] = steps, None if good else _edit(ables, known, usable)
        steps, edit = played[key]
        unknown = tuple(not_known(settled, tunnel, prints))
        steps = with_session(settled, tunnel, prints, steps)
        yield Agreement(tunnel, ends, steps, edit, unknown)


def edit_words(agreement: Agreement) -> str:
    """The smallest change that lets two ends agree, for a pair that does not."""
    edit, tunnel = agreement.edit, agreement.tunnel
    if edit is None:
        return (
            f"No change of suites helps: nothing that may be used is within what {tunnel.gateway} "
            f"and {tunnel.cloud} can do. Use another device, or put a gateway in front of it."
        )
    if not edit.ends:
        return f"Smallest change: choose suite '{edit.suite}', which both ends can do."
    return f"Smallest change: let {' and '.join(edit.ends)} offer suite '{edit.suite}', and use it."


def nothing_common(agreement: Agreement) -> str:
    """Say for which kind of algorithm two ends have none in common, and what each has instead."""
    one, two = agreement.ends
    versions = [sorted({suite.ike_version for suite in end.suites}) for end in (one, two)]
    if not set(versions[0]) & set(versions[1]):
        said = [" or ".join(f"IKEv{n}" for n in known) or "no IKE" for known in versions]
        return f"{one.name} speaks {said[0]}, {two.name} {said[1]}"
    for offers in (ike_offers, partial(child_offers, with_group=True)):
        kinds = mismatch(offers(one.suites), offers(two.suites))
        if kinds:
            return "; ".join(
                f"of {WORDS[kind]} {one.name} has {_of_kind(one, kind)}, "
                f"{two.name} {_of_kind(two, kind)}"
                for kind in kinds
            )
    return "no combination of theirs is common"


def _of_kind(end: End, kind: Kind) -> str:
    names = {a.name: None for suite in end.suites for a in suite.algorithms() if a.kind is kind}
    return " or ".join(names) or "none"


def _edit(
    ables: tuple[Able, Able], known: Mapping[str, Suite], usable: Mapping[str, Suite]
) -> Edit | None:
    """A cloud is changed before a device, which may not be able to do more than it offers.

    None when no suite that may be used is within the nature of both.
    """
    site, cloud = (able.suites(known) for able in ables)
    within = {n: s for n, s in usable.items() if all(able.profile.can(s) for able in ables)}
    if not within:
        return None
    ends = End(name="the site", suites=site), End(name="the cloud", suites=cloud)
    return smallest_edit(ends, within, lambda suite: (suite not in site, -suite.strength))


def _ends(
    settled: Settled, tunnel: SettledTunnel, known: Mapping[str, Suite], ables: tuple[Able, Able]
) -> tuple[End, End]:
    """The link's suite where the end can do it; otherwise what it can do instead."""
    link = settled.links[tunnel.link]
    here: tuple[Selector, ...] = tuple(ANY[bits] for bits in settled.families)
    there = here
    if link.selection == "policy":
        here = tuple(map(Selector.of, announced_by_site(link)))
        there = tuple(map(Selector.of, announced_by_cloud(link)))
    found = []
    for able, (local, remote) in zip(ables, ((here, there), (there, here)), strict=True):
        suites = able.suites(known)
        if able.does(link.suite):
            suites = (link.suite,)
        elif able.offers is None or not suites:
            suites = (nearest(link.suite, able.profile),)
        anew = able.profile.renewal == "reauthenticate"
        found.append(
            End(
                name=able.name,
                suites=suites,
                sends="",
                expects="",
                local=local,
                remote=remote,
                reauthenticates=anew,
                each_pair=link.each_pair,
            )
        )
    return _really(settled, tunnel, found[0], found[1])


def _really(settled: Settled, tunnel: SettledTunnel, site: End, cloud: End) -> tuple[End, End]:
    """Agree with what is said to be entered at either end. Identities are said at both ends
    then: what one of them says is what the other has to expect."""
    entered = settled.links[tunnel.link].entered
    if not entered:
        return site, cloud
    names = tunnel.uplink.identity, str(tunnel.cloud_address)
    return (
        _entered(site, entered.get("site"), *names),
        _entered(cloud, entered.get("cloud"), *names[::-1]),
    )


def _entered(end: End, found: SettledEntered | None, mine: str, theirs: str) -> End:
    end = replace(end, sends=mine, expects=theirs)
    if found is None:
        return end
    return replace(
        end,
        suites=found.suites or end.suites,
        sends=found.identity or end.sends,
        expects=found.expects or end.expects,
        local=tuple(map(Selector.of, found.local)) if found.local else end.local,
        remote=tuple(map(Selector.of, found.remote)) if found.remote else end.remote,
    )


Pick = Callable[[Suite], str]
_PARTS: tuple[tuple[str, str, Pick], ...] = (
    ("IKE encryption", "IKE_SA_INIT", lambda s: s.ike.encryption.name),
    ("IKE integrity", "IKE_SA_INIT", lambda s: s.ike.integrity.name if s.ike.integrity else "none"),
    ("IKE PRF", "IKE_SA_INIT", lambda s: s.ike.prf.name),
    ("IKE DH group", "IKE_SA_INIT", lambda s: s.ike.group.name),
    ("ESP encryption", "first child SA", lambda s: s.esp.encryption.name),
    (
        "ESP integrity",
        "first child SA",
        lambda s: s.esp.integrity.name if s.esp.integrity else "none",
    ),
    ("Extended sequence numbers", "first child SA", lambda s: "on" if s.esp.esn else "off"),
    ("ESP group (PFS)", "first child rekey", lambda s: s.esp.group.name if s.esp.group else "off"),
)
"""What is compared, and the exchange in which it counts first."""
_LIVES: tuple[tuple[str, Pick], ...] = (
    ("IKE lifetime", lambda s: f"{plain(s.ike.lifetime)} s"),
    ("Child lifetime", lambda s: f"{plain(s.esp.lifetime)} s"),
)


def lines(settled: Settled, agreement: Agreement) -> list[Line]:
    """Line by line, what each end is configured with; algorithms as each end will really have
    them."""
    tunnel = agreement.tunnel
    steps = {step.exchange: step for step in agreement.steps}

    def values(pick: Pick) -> tuple[str, str]:
        one, two = (" or ".join(dict.fromkeys(map(pick, e.suites))) for e in agreement.ends)
        return one, two

    found = [_line("IKE version", values(lambda s: str(s.ike_version)), "the versions differ")]
    for what, exchange, pick in _PARTS:
        found.append(_line(what, values(pick), _follows(steps, exchange)))
    for what, pick in _LIVES:
        found.append(_line(what, values(pick), "not negotiated: the shorter one acts"))
    shared = _others(site_end(settled, tunnel), cloud_end(settled, tunnel))
    return found + shared + _as_entered(settled, agreement, steps)


def _as_entered(settled: Settled, agreement: Agreement, steps: Mapping[str, Step]) -> list[Line]:
    """What is said to be entered at the ends, beside what the sheets say."""
    tunnel = agreement.tunnel
    entered = settled.links[tunnel.link].entered
    if not entered:
        return []
    site, cloud = agreement.ends
    keys = [
        entered[end].keys.get(tunnel.name, "as on the sheet") if end in entered else "not said"
        for end in SIDES
    ]
    listed = [", ".join(map(str, part)) for part in (site.local, cloud.remote, site.remote)]
    cloud_local = ", ".join(map(str, cloud.local))
    auth = _follows(steps, "IKE_AUTH")
    child = _follows(steps, "first child SA")
    return [
        _line("Entered: the site's identity", (site.sends, cloud.expects), auth),
        _line("Entered: the cloud's identity", (site.expects, cloud.sends), auth),
        Line("Entered: key", keys[0], keys[1], _key_follows(agreement, keys, auth)),
        *(Line(*shared) for shared in session_entered(tunnel, entered, steps)),
        _line("Entered: the site's selectors", (listed[0], listed[1]), child),
        _line("Entered: the cloud's selectors", (listed[2], cloud_local), child),
    ]


def _key_follows(agreement: Agreement, keys: Sequence[str], auth: str) -> str:
    """What a key that is said to be entered causes, where that is known."""
    if any("the key" in text for text in agreement.unknown):
        return "not known"
    return auth if keys[0] != keys[1] and not agreement.good else ""


def _line(what: str, values: tuple[str, str], follows: str) -> Line:
    return Line(what, *values, follows if values[0] != values[1] else "")


def _follows(steps: Mapping[str, Step], exchange: str) -> str:
    """What a difference causes that counts first in an exchange."""
    step = steps.get(exchange)
    if step is None:
        return "not reached: an earlier exchange fails"
    if step.good:
        return f"an alternative is agreed: {step.text.partition(';')[0]}"
    return f"{exchange} fails with {step.notify}"


def _inside_words(end: TunnelEnd) -> str:
    return str(end.local_inside) if end.selection == "interface" else "none"


def _others(one: TunnelEnd, two: TunnelEnd) -> list[Line]:
    """Values that are made from one record, shown as each end calls them."""

    def both(what: str, pick: Callable[[TunnelEnd], str]) -> Line:
        return Line(what, pick(one), pick(two))

    return [
        both("Local identity", identity_words),
        both("Remote identity", lambda e: e.remote_identity),
        both("Authentication", method_words),
        both("Local traffic selectors", lambda e: ", ".join(map(str, e.local_selectors))),
        both("Remote traffic selectors", lambda e: ", ".join(map(str, e.remote_selectors))),
        both("Role", role_words),
        both("Initiator", lambda e: "this end" if e.initiator else "the other end"),
        both(
            "Dead-peer detection",
            lambda e: f"after {plain(e.liveness.delay)} s, {e.liveness.tries} tries",
        ),
        both("BFD inside the tunnel", lambda e: bfd_words(e.bfd)),
        both("MTU and MSS inside", lambda e: f"{e.mtu} and {e.mss} bytes"),
        both("Inside address", _inside_words),
        both("Routed through it", lambda e: ", ".join(map(str, e.remote_prefixes))),
    ]
