"""A routing table as text, read by a template of the user's own (TextFSM): rows with PREFIX, or
with NETWORK and MASK or LENGTH, and with NEXTHOP or INTERFACE.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from obrin.core.address.prefix import Address, Prefix, parse_address
from obrin.core.errors import AddressError, DesignError, Problem
from obrin.core.gather.ranges import blocks_of
from obrin.core.handover.standard.basic import interface_name
from obrin.core.settled.model import Settled
from obrin.live.project import read_text
from obrin.live.text_tables import MOST_BYTES, rows_by

PREFIX, NETWORK, NEXT_HOP, INTERFACE = "prefix", "network", "nexthop", "interface"


def written_routes(
    settled: Settled, gateway: str, file: Path, template: Path
) -> tuple[list[tuple[Prefix, str]], list[str]]:
    """Prefixes, each with the tunnel, circuit or network that it leads to, or the word that stands
    there; and the rows that are not routes. Raises DesignError for a template that does not work,
    or finds nothing."""
    header, rows = rows_by(template, read_text(file, most=MOST_BYTES))
    names = [name.lower() for name in header]
    given = set(names)
    if not rows or not given & {PREFIX, NETWORK} or not given & {NEXT_HOP, INTERFACE}:
        fix = "It gives PREFIX, or NETWORK and MASK or LENGTH; and NEXTHOP, or INTERFACE, or both"
        raise DesignError([Problem(str(template), f"it finds no routes in {file}", fix)])
    found: list[tuple[Prefix, str]] = []
    odd: list[str] = []
    for row in rows:
        cells = {name: text.strip() for name, text in zip(names, row, strict=True)}
        try:
            prefix = _prefix(cells)
            found.append((prefix, _via(settled, gateway, prefix, cells)))
        except AddressError as error:
            odd.append(f"{' '.join(filter(None, cells.values()))}: {error}")
    return found, odd


def _prefix(cells: Mapping[str, str]) -> Prefix:
    """Raises AddressError."""
    text = cells.get(PREFIX) or cells.get(NETWORK, "")
    blocks = list(blocks_of(text, "", cells.get("mask") or cells.get("length", "")))
    if len(blocks) != 1:
        raise AddressError(f"'{text}' is not one prefix")
    return blocks[0]


def _via(settled: Settled, gateway: str, prefix: Prefix, cells: Mapping[str, str]) -> str:
    """The tunnel or circuit whose inside address is the next hop, or whose interface it is; the
    network itself where that is on the gateway."""
    hop, interface = _address(cells.get(NEXT_HOP, "")), cells.get(INTERFACE, "")
    for leg in settled.legs_at(gateway):
        if hop is not None and hop in leg.insides(at_site=False):
            return leg.label
        if interface and interface in (leg.label, interface_name(leg.label)):
            return leg.label
    networks = settled.gateways[gateway].networks.values()
    here = next((n.name for n in networks if prefix in tuple(n.prefix)), None)
    return here or interface or (str(hop) if hop is not None else "nowhere")


def _address(text: str) -> Address | None:
    try:
        found = parse_address(text)
    except AddressError:
        return None
    return found if found.value else None
