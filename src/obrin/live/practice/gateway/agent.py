"""The SNMP agent of a practice gateway: SNMPv3 on loopback, with the world's token for secrets."""

from __future__ import annotations

import bisect
import socket
import time
from collections.abc import Callable, Sequence
from typing import Any

from pysnmp.carrier.asyncio.dgram import udp
from pysnmp.entity import config, engine
from pysnmp.entity.rfc3413 import cmdrsp, context
from pysnmp.proto import rfc1902, rfc1905
from pysnmp.smi.instrum import AbstractMibInstrumController

from obrin.live.practice.world import AGENT_USER
from obrin.wire.mib.tables import COUNTER32, COUNTER64, GAUGE, INTEGER, IPV4, OCTETS, Cell, Oid

FRESH = 0.5
"""Seconds for which a table that was built serves further questions."""
_TYPES: dict[str, Callable[[Any], Any]] = {
    INTEGER: rfc1902.Integer32,
    GAUGE: rfc1902.Gauge32,
    COUNTER32: rfc1902.Counter32,
    COUNTER64: rfc1902.Counter64,
    OCTETS: rfc1902.OctetString,
    IPV4: rfc1902.IpAddress,
}
_TREE: Oid = (1, 3, 6)


class Agent:
    """Tells `cells`, in order, to who has the token. `port` is where on loopback."""

    def __init__(self, cells: Callable[[], Sequence[Cell]], token: str) -> None:
        self._engine = engine.SnmpEngine()
        listener = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        listener.bind(("127.0.0.1", 0))
        listener.setblocking(False)
        self.port: int = listener.getsockname()[1]
        transport = udp.UdpAsyncioTransport().open_server_mode(sock=listener)
        config.add_transport(self._engine, udp.DOMAIN_NAME, transport)
        config.add_v3_user(
            self._engine,
            AGENT_USER,
            config.USM_AUTH_HMAC192_SHA256,
            token,
            config.USM_PRIV_CFB128_AES,
            token,
        )
        config.add_vacm_user(self._engine, 3, AGENT_USER, "authPriv", _TREE)
        held = context.SnmpContext(self._engine)
        held.unregister_context_name(b"")
        held.register_context_name(b"", _Told(cells))
        for responder in (
            cmdrsp.GetCommandResponder,
            cmdrsp.NextCommandResponder,
            cmdrsp.BulkCommandResponder,
        ):
            responder(self._engine, held)

    def close(self) -> None:
        self._engine.close_dispatcher()


class _Told(AbstractMibInstrumController):  # type: ignore[misc]
    """Values in the order of their identifiers, built anew when they are old."""

    def __init__(self, cells: Callable[[], Sequence[Cell]]) -> None:
        self._build, self._at = cells, float("-inf")
        self._cells: Sequence[Cell] = ()
        self._oids: list[Oid] = []

    def _now(self) -> None:
        if time.monotonic() - self._at > FRESH:
            self._cells = self._build()
            self._oids = [cell.oid for cell in self._cells]
            self._at = time.monotonic()

    def read_variables(self, *asked: Any, **_: Any) -> list[Any]:
        self._now()
        found = []
        for name, _value in asked:
            place = bisect.bisect_left(self._oids, tuple(name))
            right = place < len(self._oids) and self._oids[place] == tuple(name)
            found.append((name, _value_of(self._cells[place]) if right else rfc1905.noSuchInstance))
        return found

    def read_next_variables(self, *asked: Any, **_: Any) -> list[Any]:
        self._now()
        found = []
        for name, _value in asked:
            place = bisect.bisect_right(self._oids, tuple(name))
            if place == len(self._oids):
                found.append((name, rfc1905.endOfMibView))
            else:
                cell = self._cells[place]
                found.append((rfc1902.ObjectName(cell.oid), _value_of(cell)))
        return found


def _value_of(cell: Cell) -> Any:
    return _TYPES[cell.kind](cell.value)
