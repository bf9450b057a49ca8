"""Mark placeholders on a sheet: addresses that stand in for what a cloud has not assigned yet."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from obrin.core.handover.sheet.blocks import Block, Table
from obrin.core.settled.model import Settled

NOT_YET_KNOWN = "not yet known: it stands in"
_MARK = " ({}; ask {})"


def stand_ins(settled: Settled) -> dict[str, str]:
    """Addresses that stand in for others, each with the cloud that will assign the right one."""
    found: dict[str, str] = {}
    for name, cloud in settled.clouds.items():
        unknown = frozenset[str]() if cloud.gateway is None else cloud.gateway.unknown
        if "addresses" in unknown:
            found |= {str(a): name for instance in cloud.instances for a in instance}
        if "peers" in unknown:
            found |= {str(a): name for a in cloud.own_addresses}
    return found


def marked(settled: Settled, blocks: Sequence[Block]) -> list[Block]:
    """The same blocks, with a mark behind every value of a table that has a placeholder in it."""
    known = stand_ins(settled)
    if not known:
        return list(blocks)
    whole = _any_of(known)
    return [_marked(block, whole, known) if isinstance(block, Table) else block for block in blocks]


def marked_text(settled: Settled, text: str) -> str:
    """The same text, with a mark behind every placeholder."""
    known = stand_ins(settled)
    if not known:
        return text
    mark = _MARK.format(NOT_YET_KNOWN, "{}")
    return _any_of(known).sub(lambda m: m[1] + mark.format(known[m[1]]), text)


def _any_of(known: dict[str, str]) -> re.Pattern[str]:
    """Matches these addresses, and no part of others."""
    return re.compile(rf"(?<![\w.:])({'|'.join(map(re.escape, known))})(?![\w:]|\.\w)")


def _marked(table: Table, whole: re.Pattern[str], known: dict[str, str]) -> Table:
    def cells(row: tuple[str, ...]) -> Iterator[str]:
        yield from row[: table.keys]
        for cell in row[table.keys :]:
            match = whole.search(cell)
            yield cell if match is None else cell + _MARK.format(NOT_YET_KNOWN, known[match[1]])

    return Table(
        table.head,
        map(cells, table.rows),
        keys=table.keys,
        name=table.name,
        column_legs=table.column_legs,
        row_legs=table.row_legs,
        listed=table.listed,
        entered=table.entered,
    )
