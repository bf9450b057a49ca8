"""The mirror proof: what one end of a tunnel calls local, the other calls remote, in a table."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from obrin.core.address.prefix import Prefix
from obrin.core.handover.mirror import EQUAL, MIRRORED, TunnelEnd, cloud_end, site_end
from obrin.core.handover.sheet import table
from obrin.core.settled.model import Settled

_WORDS = {"hold": "BGP hold time (s)", "local_pref": "local preference", "inside": "inside block",
          "mtu": "MTU inside (bytes)", "mss": "MSS inside (bytes)"}  # fmt: skip
Row = tuple[str, str, str, str, str]


def mirror_rows(here: TunnelEnd, there: TunnelEnd) -> Iterator[Row]:
    """(field here, value, field there, value, verdict) for every field that has a counterpart."""
    for local, remote in MIRRORED:
        yield _row(here, local, there, remote)
        yield _row(here, remote, there, local)
    for name in EQUAL:
        yield _row(here, name, there, name)


def _row(here: TunnelEnd, mine: str, there: TunnelEnd, theirs: str) -> Row:
    one, other = getattr(here, mine), getattr(there, theirs)
    return (_words(mine), _text(one), _words(theirs), _text(other),
            "same" if one == other else "DIFFERENT")  # fmt: skip


def _words(name: str) -> str:
    return _WORDS.get(name) or name.replace("_as", " AS number").replace("_", " ")


def _text(value: Any) -> str:
    if isinstance(value, tuple) and not isinstance(value, Prefix):
        return ", ".join(map(str, value))
    return str(getattr(value, "name", value))


def proof_sheet(settled: Settled, place: str) -> str:
    """Markdown for one gateway: every tunnel against its other end."""
    lines = [
        f"# {place}: both ends, field by field", "",
        "What this end calls local, the other calls remote. Each row compares this pack with the "
        "other end's.", "",
    ]  # fmt: skip
    for tunnel in settled.tunnels_at(place):
        ends = site_end(settled, tunnel), cloud_end(settled, tunnel)
        here, there = ends if place == tunnel.gateway else ends[::-1]
        other = tunnel.cloud if place == tunnel.gateway else tunnel.gateway
        lines += [f"## Tunnel {tunnel.label}", ""]
        head = (f"At {place}", "Value", f"At {other}", "Value", "")
        lines += [*table(head, mirror_rows(here, there)), ""]
    return "\n".join(lines)
