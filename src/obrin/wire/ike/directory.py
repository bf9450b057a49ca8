"""Which SA a message belongs to, for all tunnels of an endpoint, whatever their number.

An initiator's SPI may stand in several SAs for a while: the one that asks, and one for each answer
that came (see `exchanges/init.py`). The peer's SPI tells them apart; a message with a peer's SPI
that none has goes to the one that asks.
"""

from __future__ import annotations

from obrin.wire.ike.codec.errors import IkeNotAuthentic
from obrin.wire.ike.codec.message import Header, open_protected
from obrin.wire.ike.codec.numbers import Exchange
from obrin.wire.ike.sa import IkeSa


class SaDirectory:
    def __init__(self) -> None:
        self._by_spi: dict[tuple[bool, bytes], list[tuple[str, IkeSa]]] = {}

    def add(self, tunnel: str, sa: IkeSa) -> None:
        self._by_spi.setdefault((sa.initiator, sa.local_spi), []).append((tunnel, sa))

    def remove(self, sa: IkeSa) -> None:
        key = sa.initiator, sa.local_spi
        left = [entry for entry in self._by_spi.get(key, ()) if entry[1] is not sa]
        if left:
            self._by_spi[key] = left
        else:
            self._by_spi.pop(key, None)

    def find(self, header: Header, datagram: bytes) -> tuple[str, IkeSa] | None:
        """(tunnel's name, SA) that a message from the network is for."""
        initiator = not header.from_initiator
        local, peer = header.spi_i, header.spi_r
        if not initiator:
            local, peer = peer, local
        entries = self._by_spi.get((initiator, local))
        if not entries:
            return None
        if header.exchange == Exchange.IKE_SA_INIT:
            return entries[0]
        exact = [entry for entry in entries if entry[1].peer_spi == peer]
        if len(exact) > 1:
            # Answers with one SPI and different contents: the keys tell.
            exact = [entry for entry in exact if _fits(entry[1], header, datagram)] or exact
        return exact[0] if exact else entries[0]


def _fits(sa: IkeSa, header: Header, datagram: bytes) -> bool:
    try:
        return sa.receive_cipher is not None and bool(
            open_protected(sa.receive_cipher, datagram, header)
        )
    except IkeNotAuthentic:
        return False
