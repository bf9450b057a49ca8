"""All that is read of an agent, put together and taken apart."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.handover.standard.operational import DeviceState
from obrin.wire.mib import bgp_peers, interfaces, routes
from obrin.wire.mib.tables import Cell, Oid, Values

COLUMNS = (*interfaces.COLUMNS, *bgp_peers.COLUMNS, *routes.COLUMNS)
ROOTS: tuple[Oid, ...] = tuple((*c.table, c.number) for c in COLUMNS)
"""What has to be walked."""


def encode(state: DeviceState) -> list[Cell]:
    """Cells of all tables, in the order of their object identifiers."""
    return sorted(_cells(state), key=lambda cell: cell.oid)


def _cells(state: DeviceState) -> Iterator[Cell]:
    indexes = {one.name: at for at, one in enumerate(state.interfaces, 1)}
    yield from interfaces.encode(state.interfaces)
    yield from bgp_peers.encode(state.neighbours or ())
    yield from routes.encode(state.routes or (), indexes)


def decode(values: Values) -> DeviceState:
    """Raises ReadError for anything else. A device that has no value of a table at all is
    taken not to report it."""
    found = interfaces.decode(values)
    neighbours = tuple(bgp_peers.decode(values))
    used = tuple(routes.decode(values, {index: one.name for index, one in found.items()}))
    return DeviceState(
        interfaces=tuple(found.values()), neighbours=neighbours or None, routes=used or None
    )
