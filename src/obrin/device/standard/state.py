"""What a practice device says of itself, in the shape of obrin-observe."""

from __future__ import annotations

from typing import Any

from obrin.device.router.router import Router
from obrin.wire.bfd import BfdState


def router_state(router: Router, now: float) -> dict[str, Any]:
    return {
        "tunnel": tunnel_states(router, now),
        "circuit": circuit_states(router, now),
        "session": session_states(router, now),
        "route": [
            {"prefix": str(prefix), "via": route.via, "kind": route.kind.label}
            for prefix, route in router.table.items()
        ],
        "drop": router.drops.as_data(),
    }


def tunnel_states(router: Router, now: float) -> list[dict[str, Any]]:
    """Counters are strings: RFC 7951 section 6.1 wants that of 64-bit numbers. Ages are whole
    seconds, and left out for what never was."""
    found = []
    for name, tunnel in router.ike.tunnels.items():
        sa = tunnel.current or (tunnel.sas[-1] if tunnel.sas else None)
        state, config = router.states[name], router.config.tunnels[name]
        refusal = state.refusal
        ages = {
            "idle-in": state.last_in,
            "idle-out": state.last_out,
            "refusal-age": None if refusal is None else refusal.at,
        }
        found.append(
            {
                **{what: int(now - at) for what, at in ages.items() if at is not None},
                "name": name,
                "ike-sa": sa.state.value if sa else "down",
                **({"initiator-ikesa-spi": str(int.from_bytes(sa.spi_i, "big"))} if sa else {}),
                "child-sa": "up" if tunnel.outbound is not None else "down",
                "packets-in": str(state.packets_in),
                "packets-out": str(state.packets_out),
                **_sequence(router.esp.missing(name)),
                "encapsulated": tunnel.path.encapsulate,
                "outside-of-peer": config.peer.remote_address,
                "inside": str(config.inside[0].local),
                "inside-of-peer": str(config.inside[0].remote),
                "last-refusal": "" if refusal is None else refusal.text,
                "refused-rekey": "" if refusal is None else refusal.rekey,
            }
        )
    return found


def _sequence(found: tuple[int, int]) -> dict[str, int]:
    counted, missing = found
    return {"sequence-counted": counted, "sequence-missing": missing}


def circuit_states(router: Router, now: float) -> list[dict[str, Any]]:
    """States of dedicated circuits. Only BFD watches them."""
    found = []
    for name, line in router.config.lines.items():
        state, bfd = router.states[name], router.bfd.sessions.get(name)
        ages = {"idle-in": state.last_in, "idle-out": state.last_out}
        up = "down" if bfd is None or bfd.state is not BfdState.UP else "up"
        found.append(
            {
                **{what: int(now - at) for what, at in ages.items() if at is not None},
                "name": name,
                "path": "unwatched" if bfd is None else up,
                "packets-in": str(state.packets_in),
                "packets-out": str(state.packets_out),
                "inside": str(line.inside[0].local),
                "inside-of-peer": str(line.inside[0].remote),
            }
        )
    return found


def session_states(router: Router, now: float) -> list[dict[str, Any]]:
    return [
        {
            "name": name,
            "tunnel": list(router.config.neighbours[name].ways),
            "state": neighbour.session.state.value,
            "last-error": neighbour.session.last_error,
            **_age(neighbour.session.last_error_at, now),
            "received": [str(p) for p in sorted(neighbour.received)],
            "announced": [str(p) for p in neighbour.announced],
            "rejected": [f"{p}: {why}" for p, why in sorted(neighbour.rejected.items())],
        }
        for name, neighbour in router.bgp.speaker.neighbours.items()
    ]


def _age(at: float | None, now: float) -> dict[str, int]:
    return {} if at is None else {"error-age": int(now - at)}
