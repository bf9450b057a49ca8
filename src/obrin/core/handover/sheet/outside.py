"""The value sheet's last part: the internet side, translators in front, source translation."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.address.prefix import Prefix, parse_prefix
from obrin.core.handover.ends.records import LegEnd, TunnelEnd, circuits_at
from obrin.core.handover.sheet.blocks import Block, Heading, Paragraph, Table
from obrin.core.settled.model import Settled

OUTSIDE = Table(("Allow", "Between", "And"), (), keys=3, name="outside", listed=True)
FORWARDED = Table(("Translator", "Pass on", "To"), (), keys=3, name="translators", listed=True)
EXEMPT = Table(("Destination left alone",), (), name="left-alone", listed=True)
"""Lists of this part, without their rows."""
OUTSIDE_PART = "On the internet side"
FORWARDED_PART, EXEMPT_PART = "At translators in front", "Source translation"


def outside_rows(end: TunnelEnd) -> Iterator[tuple[str, ...]]:
    """What has to pass between the ends of a tunnel."""
    for what in ("UDP 500, UDP 4500", "ESP (protocol 50)"):
        yield what, str(end.own_address), str(end.remote_address)


def forwarded_rows(settled: Settled, place: str, end: TunnelEnd) -> Iterator[tuple[str, ...]]:
    """What the translator in front passes on, where the remote end starts the tunnel."""
    gateway = settled.gateways.get(place)
    uplink = None if gateway is None else gateway.uplinks[end.uplink]
    if uplink is not None and uplink.translated and not end.initiator:
        yield f"{uplink.name} ({uplink.address})", "UDP 500, UDP 4500", str(uplink.own)


def exempt_rows(end: LegEnd) -> Iterator[tuple[str, ...]]:
    """Destinations whose packets keep their source; of IPv6, sources are not translated."""
    for prefix in sorted(p for p in end.remote_prefixes if p.bits == 32):
        yield (str(prefix),)


def internet_side(settled: Settled, place: str, ends: tuple[TunnelEnd, ...]) -> Iterator[Block]:
    number = 7 if any(end.translations for end in ends) else 6
    yield Heading(2, f"{number}. {OUTSIDE_PART}")
    all_ends: tuple[LegEnd, ...] = (*ends, *circuits_at(settled, place))
    if not all_ends:
        yield Paragraph("Nothing: no tunnel and no circuit ends here.")
        return
    if ends:
        yield OUTSIDE.having(row for end in ends for row in outside_rows(end))
    passed = [row for end in ends for row in forwarded_rows(settled, place, end)]
    if passed:
        yield Heading(3, FORWARDED_PART)
        yield FORWARDED.having(passed)
    elif place in settled.gateways and any(
        uplink.translated for uplink in settled.gateways[place].uplinks.values()
    ):
        yield Paragraph("Translators in front pass nothing on: this gateway starts its tunnels.")
    yield Heading(3, EXEMPT_PART)
    far = sorted({row for end in all_ends for row in exempt_rows(end)}, key=_by_value)
    if not far:
        yield Paragraph("Sources of IPv6 are not translated: there is nothing to leave alone.")
        return
    yield Paragraph(
        "Packets to these destinations keep their source address" + _internet_words(settled, place)
    )
    yield EXEMPT.having(far)


def _by_value(row: tuple[str, ...]) -> Prefix:
    return parse_prefix(row[0])


def _internet_words(settled: Settled, place: str) -> str:
    """What becomes of the site's own traffic to the internet."""
    site = settled.sites.get(settled.gateways[place].site) if place in settled.gateways else None
    if site is None:
        return ". Traffic to the internet goes on as before."
    if site.internet is None:
        return ". The site has no way to the internet of its own: nothing else is translated."
    users = [name for name in site.networks if name in site.internet.networks]
    if len(users) < len(site.networks):
        return f". Traffic to the internet of {', '.join(users)} goes on as before."
    return ". Traffic to the internet goes on as before."
