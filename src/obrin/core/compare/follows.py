"""What a wrong value will cause, and when: by the agreement engine where it judges it, and by the
protocol's own rule elsewhere."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from obrin.core.address.prefix import Prefix, parse_prefix
from obrin.core.compare.differences import Difference
from obrin.core.compare.reading import KINDS, NUMBER, SECONDS, SWITCH, addresses, read
from obrin.core.compare.spelling import algorithm
from obrin.core.design.arrangement import SPARE
from obrin.core.errors import AddressError
from obrin.core.handover.ends.agreed import agreements
from obrin.core.ipsec.suite import Suite
from obrin.core.quantity import plain
from obrin.core.settled.as_entered import NOTHING, SaidSession, SettledEntered
from obrin.core.settled.links import SettledLink, SettledTunnel
from obrin.core.settled.model import Settled

_RULES = (
    ("remote-address", "nothing answers: IKE goes to another address (no IKE_SA_INIT response)"),
    ("local-address", "the other end knows no peer at this address: no IKE_SA_INIT response"),
    ("dead-peer-detection", "a dead path is noticed sooner or later than the drill says"),
    ("inside-address", "the tunnel is up and the peer inside is not reached: BGP stays idle"),
    ("mtu-inside-the-tunnel", "small packets pass, large ones are lost or cut"),
    ("largest-tcp-segment", "small packets pass, large transfers hang"),
    ("bgp-peer-address", "BGP stays idle: nobody is at that address (connection refused)"),
    ("bgp-source-address", "BGP stays idle: the peer takes no session from that address"),
    ("as-number", "BGP is refused: OPEN error, Bad Peer AS (RFC 4271 section 6.2)"),
    ("bgp-identifier", "BGP is refused where both ends have one identifier; else nothing"),
    ("hold-time", "the lower of both ends counts: a failure is noticed after another time"),
    ("keepalive", "the session falls if a third of the hold time is not kept"),
    ("multihop", "BGP stays idle: the peer is beyond the link and is not taken"),
    ("static-host-route", "BGP stays idle: no way leads to the peer before the session is up"),
    ("tcp-signature", "BGP stays idle: segments without the right signature are dropped"),
    ("local-preference", "traffic takes the other tunnel than the plan's"),
    ("order-of-preference", "traffic takes the other tunnel than the plan's"),
    ("announce-to-it", "the far side has no route back to what is lacking"),
    ("accept-from-it", "there is no route to what is lacking"),
    ("bfd", "a dead path is noticed after the hold time only, or sessions flap"),
    ("initiator", "nobody begins, or both do: the tunnel stays down or is made twice"),
    ("session-opened-by", "nobody opens the session, or both do: BGP stays idle, or is late"),
    ("renewal-of-the-ike-sa", "traffic stops for a moment where one end authenticates anew"),
    ("secret:", "IKE_AUTH fails: AUTHENTICATION_FAILED, as soon as the tunnel begins"),
    ("authentication", "IKE_AUTH fails: AUTHENTICATION_FAILED"),
    ("udp-encapsulation", "packets are lost at a translator that passes UDP only"),
    ("larger-packets", "large packets are lost where the sheet has them pass, or pass in parts"),
    ("filter.", "flows that must work are dropped, or more is let in than was asked"),
    ("hosts.", "the hosts drop what must work, or let in more than was asked"),
    ("outside.", "the provider's side drops IKE or ESP: no IKE_SA_INIT response, or no traffic"),
    ("translation.", "addresses are not the ones that the far side knows: one way only"),
    ("routes.", "traffic for it goes elsewhere"),
    ("gateway.subnet", "hosts have no address of the plan, or no way back"),
    ("gateway.loopback", "BGP stays idle: the peer is called from another address"),
    ("gateway.address-for-bgp", "BGP stays idle: nobody is at that address"),
    ("gateway.network", "hosts have no address of the plan, or no way back"),
    ("gateway.public-address", "the other ends call an address that is not this one"),
    ("gateway.uplink", "the other ends call an address that is not this one"),
    ("gateway.address-space", "the space is another than every other end routes"),
    ("gateway.gateway-subnet", "the gateway cannot be built, or its BGP address is another"),
    ("gateway.capacity-class", "it can do other things than were counted with"),
)
"""What follows, by a part of the name; the first that fits."""
ELSE = "it is not what the other end and the plan expect"
_SESSION_ROWS = {
    "bgp-source-address": "source",
    "bgp-peer-address": "peer",
    "inside-address": "source",
    "remote-inside-address": "peer",
    "multihop": "multihop",
    "static-host-route": "host_route",
}
"""Rows that are values of a BGP session, with what the agreement engine calls them."""
_ENDS_OF = ("suite", "identity", "traffic-selector", "secret:", *_SESSION_ROWS)
_ANOTHER_KEY = "another key"


def follows(settled: Settled, place: str, found: Sequence[Difference]) -> dict[str, str]:
    """What follows from each difference, by the name of the value."""
    said = {d.name: _rule(d.name) for d in found}
    side = "site" if place in settled.gateways else "cloud"
    judged = {d.name: d for d in found if any(part in d.name for part in _ENDS_OF)}
    for name, one in judged.items():
        words = _judged(settled, place, side, one)
        if words:
            said[name] = words
    for one in found:
        if ".hold-time." in one.name and (words := _hold(one)):
            said[one.name] = words
    return said


def _hold(one: Difference) -> str:
    """What another hold time does (RFC 4271 sections 4.2 and 6.2); empty for what is none."""
    mine, right = read(one.name, one.entered), read(one.name, one.meant)
    if mine.kind not in (SECONDS, NUMBER, SWITCH) or not isinstance(right.value, float):
        return ""
    entered = mine.value if isinstance(mine.value, float) else float(mine.value is True)
    meant = right.value
    if entered == 0:
        return "no keepalives are sent: a dead path is never noticed by BGP"
    if entered < 3:
        return "BGP is refused: OPEN error, Unacceptable Hold Time (RFC 4271 section 6.2)"
    both = min(entered, meant)
    noticed = f"a dead path is noticed after {_span(both * 2 / 3, both)}"
    if both == meant:
        return f"nothing changes: the lower of both ends counts, {_time(meant)}; {noticed}"
    return f"both ends take the lower, {_time(both)}: {noticed}, not after {_time(meant)}"


def _rule(name: str) -> str:
    return next((words for part, words in _RULES if part in name), ELSE)


def _judged(settled: Settled, place: str, side: str, one: Difference) -> str:
    """What the agreement engine says of both ends with this one value as it was entered."""
    worst = ""
    for link in settled.links.values():
        ends = {t.gateway for t in link.tunnels} if side == "site" else {link.cloud}
        if place not in ends:
            continue
        entered = _entered(link, one, side)
        if entered is None:
            continue
        changed = replace(link, entered={**link.entered, side: entered})
        trial = replace(settled, links={**settled.links, link.name: changed})
        words = _first_fault(trial, link.name, one.name)
        worst = worst or words
        if not worst and entered.suites is not None:
            worst = _own_value(link, entered.suites[0], one)
    return worst


def _own_value(link: SettledLink, entered: Suite, one: Difference) -> str:
    """What a value does that ends do not agree on: lifetimes are each end's own (RFC 7296 section
    2.8)."""
    if ".lifetime." not in one.name:
        return "both ends still agree; each keeps to its own value"
    half = "ike" if entered.ike.lifetime != link.suite.ike.lifetime else "esp"
    mine, right = (getattr(suite, half).lifetime for suite in (entered, link.suite))
    what = "IKE SA" if half == "ike" else "child SA"
    said = f"both ends still agree: this end rekeys the {what} after {_time(mine)}"
    if mine < right:
        said += f" instead of {_time(right)}, {plain(round(right / mine, 1))} times as often"
    else:
        said += f", and the other end does it before, after {_time(right)}"
    ike, esp = entered.ike.lifetime, entered.esp.lifetime
    if ike < esp and link.suite.ike.lifetime >= link.suite.esp.lifetime:
        said += ". The IKE SA is now rekeyed before its child SAs are"
    return said


def _time(seconds: float) -> str:
    return _span(seconds, seconds)


def _first_fault(settled: Settled, link: str, name: str) -> str:
    """First disagreement of a link's tunnels; for a value of one tunnel, of that tunnel alone."""
    right = {tunnel.label: "the right key" for tunnel in settled.tunnels()}
    for agreement in agreements(settled, right):
        of_one = name.startswith("tunnels.")
        if agreement.tunnel.link != link or (
            of_one and not name.endswith(f".{agreement.tunnel.label}")
        ):
            continue
        step = next((step for step in agreement.steps if not step.good), None)
        if step is not None:
            spare = agreement.tunnel.role == SPARE
            when = "as soon as it begins, once the others have failed" if spare else "at once"
            if step.latest >= 1:
                when = f"after {_span(step.earliest, step.latest)}"
            what = f"{step.exchange} fails {when}: {step.text} ({step.notify})"
            return f"{agreement.tunnel.label}: {what}"
    return ""


def _span(earliest: float, latest: float) -> str:
    def shown(seconds: float) -> str:
        if seconds >= 7200:
            return f"{seconds / 3600:.1f} h"
        return f"{seconds / 60:.0f} min" if seconds >= 120 else f"{seconds:.0f} s"

    one, two = shown(earliest), shown(latest)
    return one if one == two else f"{one} to {two}"


def _entered(link: SettledLink, one: Difference, side: str) -> SettledEntered | None:
    """The link's values with this one as it was entered at one end; None for what the engine
    does not judge."""
    before = link.entered.get(side, NOTHING)
    if one.name.startswith("suite-"):
        suite = entered_suite(link.suite, one.name, one.entered)
        return None if suite is None else replace(before, suites=(suite,))
    mine = any(one.name.endswith(f".{tunnel.label}") for tunnel in link.tunnels)
    if not mine:
        return None
    row = one.name.split(".")[1]
    tunnel = next(t for t in link.tunnels if one.name.endswith(f".{t.label}"))
    if row in _SESSION_ROWS:
        return _session(before, tunnel, _SESSION_ROWS[row], one)
    if row.startswith("secret:"):
        return replace(before, keys={**before.keys, tunnel.name: _ANOTHER_KEY})
    if row in ("local-identity", "remote-identity"):
        held = addresses(one.entered)
        text = str(held[0].address) if held else one.entered.partition(" (")[0].strip()
        if row.startswith("local"):
            return replace(before, identity=text)
        return replace(before, expects=text)
    prefixes = _prefixes(one.entered)
    if row == "local-traffic-selector" and prefixes:
        return replace(before, local=prefixes)
    if row == "remote-traffic-selector" and prefixes:
        return replace(before, remote=prefixes)
    return None


def _session(
    before: SettledEntered, tunnel: SettledTunnel, field: str, one: Difference
) -> SettledEntered | None:
    """With one value of the BGP session as it was entered; None for what is not such a value."""
    said = before.sessions.get(tunnel.name, SaidSession())
    reading = read(one.name, one.entered)
    held = addresses(one.entered)
    value: Any = reading.value if isinstance(reading.value, bool) else None
    if field in ("source", "peer"):
        value = held[0].address if held else None
    if value is None:
        return None
    changed = replace(said, **{field: value})
    return replace(before, sessions={**before.sessions, tunnel.name: changed})


def _prefixes(text: str) -> tuple[Prefix, ...]:
    found = []
    for held in addresses(text):
        try:
            found.append(parse_prefix(f"{held.address}/{held.length}"))
        except AddressError:
            continue
    return tuple(found)


def entered_suite(meant: Suite, name: str, text: str) -> Suite | None:
    """The suite with one value as it was entered; None where that is not a value of it."""
    words = name.split(".")
    if len(words) < 3 or words[0] != f"suite-{meant.name}":
        return None
    half = "ike" if words[2].startswith(("ike", "phase-1")) else "esp"
    part, reading = getattr(meant, half), read(name, text)
    if words[1] == "lifetime" and reading.kind == SECONDS:
        changed = replace(part, lifetime=reading.value)
    elif words[1] in KINDS:
        field = "group" if words[1] == "dh-group-pfs" else words[1]
        found = algorithm(KINDS[words[1]], text.partition(",")[0])
        off = reading.kind == SWITCH and field in ("integrity", "group") and half == "esp"
        if found is None and not off:
            return None
        changed = replace(part, **{field: found})
    elif words[1] == "extended-sequence-numbers" and half == "esp" and reading.kind == SWITCH:
        changed = replace(part, esn=reading.value)
    else:
        return None
    return replace(meant, **{half: changed})
