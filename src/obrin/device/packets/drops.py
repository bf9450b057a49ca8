"""What a device dropped, where and why: counted per flow, bounded, newest kept."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterator
from typing import NamedTuple

from obrin.core.address.prefix import Address
from obrin.core.routing.packet import PacketKey

KEPT = 512
_NOBODY = Address(32, 0)
NO_FLOW = PacketKey(_NOBODY, _NOBODY, 0)
"""Where nothing is known of the flow, or nothing that is authentic."""
OTHERS = "others, no longer counted apart"


class DropKey(NamedTuple):
    place: str
    reason: str
    key: PacketKey


class DropLog:
    def __init__(self) -> None:
        self._counts: OrderedDict[DropKey, int] = OrderedDict()

    def add(self, place: str, reason: str, key: PacketKey) -> None:
        entry = DropKey(place, reason, key)
        self._counts[entry] = self._counts.pop(entry, 0) + 1
        if len(self._counts) > KEPT:
            # What is forgotten is still counted.
            oldest, count = next((k, c) for k, c in self._counts.items() if k.reason != OTHERS)
            del self._counts[oldest]
            rest = DropKey(oldest.place, OTHERS, NO_FLOW)
            self._counts[rest] = self._counts.get(rest, 0) + count

    def __iter__(self) -> Iterator[tuple[DropKey, int]]:
        return iter(self._counts.items())

    def as_data(self) -> list[dict[str, object]]:
        """Entries of obrin-observe's list `drop`."""
        return [
            {
                "place": drop.place,
                "reason": drop.reason,
                "source": str(drop.key.source),
                "destination": str(drop.key.destination),
                "protocol": drop.key.protocol,
                "source-port": drop.key.source_port,
                "destination-port": drop.key.destination_port,
                "count": str(count),
            }
            for drop, count in self._counts.items()
        ]
