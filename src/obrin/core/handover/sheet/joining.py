"""Circuits, internal sessions, hubs and route tables on a gateway's sheet."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.handover.ends.records import CircuitEnd, InternalEnd, circuits_at, internal_at
from obrin.core.handover.sheet.blocks import Block, Heading, Paragraph, Table
from obrin.core.handover.sheet.words import bfd_words, listed, opener
from obrin.core.handover.standard.basic import circuit_interface
from obrin.core.settled.clouds import SettledCloud
from obrin.core.settled.model import Settled


def joining(settled: Settled, place: str) -> Iterator[Block]:
    """Parts that only some designs have; nothing for the others."""
    if circuits := circuits_at(settled, place):
        yield from _circuits(circuits)
    if sessions := internal_at(settled, place):
        yield from internal_blocks(sessions)
    cloud = settled.clouds.get(place)
    if cloud is not None and cloud.is_hub:
        yield from hub_blocks(cloud)
    elif cloud is not None and (hubs := settled.hubs_of(place)):
        yield Paragraph(f"Routes come from {' and '.join(hubs)}, where propagation is on (1).")


def circuit_steps(settled: Settled, place: str) -> Iterator[tuple[str, str, str]]:
    """What to do, the check that shows it worked, and where to look when it did not."""
    for end in circuits_at(settled, place):
        session = "the session is established and " if end.routing == "bgp" else ""
        heard = listed(end.remote_prefixes) or "none"
        yield (
            f"Enter circuit {end.name}: its address, and routes by {end.routing} (sheet, 4)",
            f"{end.remote_inside} answers a ping; {session}{heard} is in the table through it",
            f"no answer: ask {end.provider or 'its provider'} whether the line is up, and whether "
            "both ends have the addresses of the sheet; established and nothing learned: what the "
            "other end announces, and what this one accepts",
        )


def hub_steps(settled: Settled, place: str) -> Iterator[tuple[str, str, str]]:
    """Steps for the members and route tables of a hub."""
    hub = settled.clouds[place]
    if hub.is_hub:
        yield (
            f"Attach {', '.join(hub.members) or 'no member yet'}, and make the route tables "
            "(sheet, 4)",
            f"the tables {', '.join(t.name for t in hub.hub_tables)} hold the spaces of the "
            "members that they learn",
            "an attachment may wait for the owner of the member to accept it; a table that learns "
            "from nobody is empty",
        )


def _circuits(circuits: tuple[CircuitEnd, ...]) -> Iterator[Block]:
    rows: list[tuple[str, list[str]]] = [
        ("Provider", [c.provider or "not said" for c in circuits]),
        ("Interface", [circuit_interface(c.name) for c in circuits]),
        ("Order of preference", [str(c.preference) for c in circuits]),
        ("MTU in bytes", [str(c.mtu) for c in circuits]),
        ("Own address on it", [c.own_inside_words for c in circuits]),
        ("Address of the far end", [str(c.remote_inside) for c in circuits]),
        ("Routes by", [c.routing for c in circuits]),
        ("Own AS number", [str(c.local_as) for c in circuits]),
        ("Peer's AS number", [str(c.remote_as) for c in circuits]),
        ("Session opened by", [opener(c) if c.sessions else "none" for c in circuits]),
        ("Hold time in s", [str(c.hold) for c in circuits]),
        ("BFD", [bfd_words(c.bfd) for c in circuits]),
        ("Local preference for its routes", [str(c.local_pref) for c in circuits]),
        ("Own AS in front, more often", [str(c.prepend or "none") for c in circuits]),
        ("Announce to it", [listed(c.local_prefixes) or "none" for c in circuits]),
        ("Accept from it", [listed(c.remote_prefixes) or "none" for c in circuits]),
    ]
    if any(c.limit is not None for c in circuits):
        most = ["none" if c.limit is None else str(c.limit) for c in circuits]
        rows.append(("Most prefixes to take", most))
    yield Heading(3, "Circuits")
    yield Table(
        ("Value", *(c.name for c in circuits)),
        ((name, *values) for name, values in rows),
        column_legs=(c.label for c in circuits),
    )


INTERNAL_PART = "Internal BGP, over the site's own network"


def internal_blocks(sessions: tuple[InternalEnd, ...]) -> Iterator[Block]:
    """Sessions with other gateways of the site."""
    yield Heading(3, INTERNAL_PART)
    yield Table(
        (
            "Neighbour",
            "AS number",
            "Between",
            "Hold time in s",
            "Next hop",
            "Session opened by",
            "Tell it",
        ),
        (
            (
                session.neighbour,
                str(session.asn),
                f"{session.peers[0]} here and {session.peers[1]} there",
                str(session.hold),
                " and ".join(map(str, session.next_hops)),
                "the remote end" if session.passive else "this gateway",
                "everything learned from the clouds",
            )
            for session in sessions
        ),
        listed=True,
    )


def hub_blocks(hub: SettledCloud) -> Iterator[Block]:
    """The route tables of a hub and its members."""
    yield Heading(3, "Route tables of the hub")
    yield Table(
        ("Table", "Used by", "Learns from"),
        (
            (
                table.name,
                ", ".join(sorted(table.users)) or "nobody",
                ", ".join(sorted(table.learns)) or "nobody",
            )
            for table in hub.hub_tables
        ),
        listed=True,
    )
    yield Heading(3, "Members of the hub")
    if not hub.members:
        yield Paragraph("Nothing is attached yet.")
    else:
        yield Table(("Member", "State"), ((m, "attached") for m in hub.members), listed=True)
