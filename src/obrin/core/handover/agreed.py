"""Both ends of every tunnel as they will be configured, side by side, and what follows from it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

from obrin.core.design.references import all_suites, crypto_policy
from obrin.core.design.settled import Settled, SettledTunnel
from obrin.core.handover.mirror import TunnelEnd, cloud_end, site_end
from obrin.core.ipsec.agreement import Edit, End, Step, predict, smallest_edit
from obrin.core.ipsec.policy import outdated
from obrin.core.ipsec.suite import Suite


@dataclass(frozen=True, slots=True)
class Line:
    """One value at both ends. `follows` says what a difference causes and when; empty if none."""

    what: str
    site: str
    cloud: str
    follows: str = ""


@dataclass(frozen=True, slots=True)
class Agreement:
    """`edit` is the smallest change that lets both ends agree, where they do not."""

    tunnel: SettledTunnel
    ends: tuple[End, End]
    steps: tuple[Step, ...]
    edit: Edit | None

    @property
    def good(self) -> bool:
        return all(step.good for step in self.steps)


def agreements(settled: Settled) -> Iterator[Agreement]:
    """For every tunnel; ends that are alike are played through once."""
    known = all_suites(settled.design)
    policy = crypto_policy(settled.design)
    usable = {n: s for n, s in known.items() if policy.allows(s) and not outdated(s)} or known
    played: dict[tuple[tuple[Suite, ...], ...], tuple[tuple[Step, ...], Edit | None]] = {}
    for tunnel in settled.tunnels():
        ends = _ends(settled, tunnel, known)
        key = (ends[0].suites, ends[1].suites)
        if key not in played:
            steps = predict(End("the site", key[0]), End("the cloud", key[1]))
            good = all(step.good for step in steps)
            played[key] = steps, None if good else _edit(settled, tunnel, known, usable)
        yield Agreement(tunnel, ends, *played[key])


def _edit(
    settled: Settled, tunnel: SettledTunnel, known: Mapping[str, Suite], usable: dict[str, Suite]
) -> Edit:
    """A cloud is changed before a device, which may not be able to do more than it offers."""
    site, cloud = (_able(settled, tunnel, known, side) for side in (0, 1))
    ends = End("the site", site), End("the cloud", cloud)
    return smallest_edit(ends, usable, lambda suite: (suite not in site, -suite.strength))


def _able(
    settled: Settled, tunnel: SettledTunnel, known: Mapping[str, Suite], side: int
) -> tuple[Suite, ...]:
    """What the site's (0) or the cloud's (1) end can do at all."""
    if side:
        offers = settled.design.clouds[tunnel.cloud].gateway.offers
    else:
        site = settled.gateways[tunnel.gateway].site
        offers = settled.design.sites[site].gateways[tunnel.gateway].offers
    return tuple(known[n] for n in offers) if offers else tuple(known.values())


def _ends(settled: Settled, tunnel: SettledTunnel, known: Mapping[str, Suite]) -> tuple[End, End]:
    """The link's suite where the end can do it; otherwise what it can do instead."""
    suite = settled.links[tunnel.link].suite
    found = []
    for side, name in enumerate((tunnel.gateway, tunnel.cloud)):
        able = _able(settled, tunnel, known, side)
        found.append(End(name, (suite,) if suite in able else able))
    return found[0], found[1]


Pick = Callable[[Suite], str]
_PARTS: tuple[tuple[str, str, Pick], ...] = (
    ("IKE encryption", "IKE_SA_INIT", lambda s: s.ike.encryption.name),
    ("IKE integrity", "IKE_SA_INIT", lambda s: s.ike.integrity.name if s.ike.integrity else "none"),
    ("IKE PRF", "IKE_SA_INIT", lambda s: s.ike.prf.name),
    ("IKE DH group", "IKE_SA_INIT", lambda s: s.ike.group.name),
    ("ESP encryption", "first child SA", lambda s: s.esp.encryption.name),
    ("ESP integrity", "first child SA",
     lambda s: s.esp.integrity.name if s.esp.integrity else "none"),
    ("Extended sequence numbers", "first child SA", lambda s: "on" if s.esp.esn else "off"),
    ("ESP group (PFS)", "first child rekey", lambda s: s.esp.group.name if s.esp.group else "off"),
)  # fmt: skip
"""What is compared, and the exchange in which it counts first."""
_LIVES: tuple[tuple[str, Pick], ...] = (
    ("IKE lifetime", lambda s: f"{s.ike.lifetime:g} s"),
    ("Child lifetime", lambda s: f"{s.esp.lifetime:g} s"),
)


def lines(settled: Settled, agreement: Agreement) -> list[Line]:
    """Line by line, what each end is told; algorithms as each end will really have them."""
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
    return found + _others(site_end(settled, tunnel), cloud_end(settled, tunnel))


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


def _others(one: TunnelEnd, two: TunnelEnd) -> list[Line]:
    """Values that are made from one record, shown as each end calls them."""

    def both(what: str, pick: Callable[[TunnelEnd], str]) -> Line:
        return Line(what, pick(one), pick(two))

    return [
        both("Local identity", lambda e: e.local_address),
        both("Remote identity", lambda e: e.remote_address),
        both("Authentication", lambda e: "pre-shared key"),
        both("Traffic selectors", lambda e: ", ".join(map(str, e.selectors)) + " both ways"),
        both("Who starts", lambda e: "this end" if e.initiator else "the other end"),
        both("Dead-peer detection",
             lambda e: f"after {e.liveness.delay:g} s, {e.liveness.tries} tries"),
        both("MTU and MSS inside", lambda e: f"{e.mtu} and {e.mss} bytes"),
        both("Inside address", lambda e: e.local_inside),
        both("Routed through it", lambda e: ", ".join(map(str, e.remote_prefixes))),
    ]  # fmt: skip
