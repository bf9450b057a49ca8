"""The value sheet's last part: the internet side, translators in front, source translation."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.handover.ends.records import LegEnd, TunnelEnd, circuits_at
from obrin.core.handover.sheet.blocks import Block, Heading, Paragraph, Table
from obrin.core.handover.sheet.words import listed
from obrin.core.settled.model import Settled


def _forwarding(settled: Settled, place: str, ends: tuple[TunnelEnd, ...]) -> Iterator[Block]:
    """Lines for whoever manages the translators in front of a site's gateway."""
    if place in settled.clouds:
        return
    for uplink in settled.gateways[place].uplinks.values():
        mine = [end for end in ends if end.uplink == uplink.name]
        called = [end.tunnel for end in mine if not end.initiator]
        if called:
            todo = f"pass UDP 500 and UDP 4500 on to {uplink.own}: the remote end starts "
            todo += ", ".join(called)
        else:
            todo = "nothing has to be passed on from outside: this gateway starts"
        if uplink.translated and mine:
            yield Paragraph(
                f"At the translator in front of {uplink.name} ({uplink.address}): {todo}."
            )


def internet_side(settled: Settled, place: str, ends: tuple[TunnelEnd, ...]) -> Iterator[Block]:
    number = 7 if any(end.translations for end in ends) else 6
    yield Heading(2, f"{number}. On the internet side, and source translation")
    if ends:
        yield Table(
            ("Allow", "Between", "And"),
            dict.fromkeys(
                (what, str(end.own_address), str(end.remote_address))
                for end in ends
                for what in ("UDP 500, UDP 4500", "ESP (protocol 50)")
            ),
            keys=3,
            name="outside",
        )
    yield from _forwarding(settled, place, ends)
    all_ends: tuple[LegEnd, ...] = (*ends, *circuits_at(settled, place))
    prefixes = {prefix for end in all_ends for prefix in end.remote_prefixes}
    far = [prefix for prefix in prefixes if prefix.bits == 32]
    if not prefixes:
        yield Paragraph("Nothing: no tunnel and no circuit ends here.")
        return
    if not far:
        yield Paragraph("Sources of IPv6 are not translated: there is nothing to leave alone.")
        return
    yield Paragraph(
        "Leave alone, in source translation, everything whose destination is one of: "
        + listed(sorted(far))
        + _internet_words(settled, place)
    )


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
