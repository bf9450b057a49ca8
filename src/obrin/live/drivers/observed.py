"""The shapes of obrin-observe: questions written, and what drivers report read."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from obrin.core.address.prefix import parse_address, parse_prefix
from obrin.core.errors import OutsideError
from obrin.core.json_text import Json
from obrin.core.known import NotKnown
from obrin.live.drivers.observations import NO_IKE, Answer, Dropped, EndStatus, Question, RouteSeen


def end_statuses(
    tunnels: Iterable[Json], circuits: Iterable[Json], sessions: Iterable[Json] | None
) -> dict[str, EndStatus]:
    """Map names of tunnels and circuits, each with the sessions that go over it; None where
    sessions are not listed."""
    over: dict[str, list[Json]] = {}
    for session in sessions or ():
        for name in session.get("tunnel", ()):
            over.setdefault(name, []).append(session)

    def of(name: str) -> list[Json] | None:
        return None if sessions is None else over.get(name, [])

    found = {t["name"]: _end(t, of(t["name"])) for t in tunnels}
    return found | {c["name"]: _line(c, of(c["name"])) for c in circuits}


def statuses_in(state: Json) -> dict[str, EndStatus]:
    """All ends in a whole state. Raises OutsideError for one that lists neither tunnels nor
    circuits."""
    if "tunnel" not in state and "circuit" not in state:
        raise OutsideError("its state lists neither 'tunnel' nor 'circuit'")
    return end_statuses(state.get("tunnel", ()), state.get("circuit", ()), state.get("session"))


def _line(circuit: Json, sessions: list[Json] | None) -> EndStatus:
    """A circuit has no SAs: whether it carries is what BFD says, and not known without BFD."""
    path = _leaf(circuit, "path")
    child = NotKnown("nothing watches the line") if path == "unwatched" else path
    return _end({**circuit, "ike-sa": NO_IKE, "child-sa": child}, sessions)


def _leaf(data: Json, name: str) -> Any:
    """A value, or why there is none."""
    return data[name] if name in data else NotKnown(f"'{name}' is not reported")


def _count(data: Json, name: str) -> int | NotKnown:
    found = _leaf(data, name)
    return found if isinstance(found, NotKnown) else int(found)


def _age(data: Json, name: str, packets: int | NotKnown) -> int | NotKnown | None:
    """Seconds; None where there was no packet yet."""
    if name in data:
        return int(data[name])
    return None if packets == 0 else NotKnown(f"'{name}' is not reported")


def _listed(sessions: list[Json], name: str) -> tuple[str, ...] | NotKnown:
    """The entries of a list of all sessions."""
    if any(name not in held for held in sessions):
        return NotKnown(f"'{name}' is not reported")
    return tuple(entry for held in sessions for entry in held[name])


def _end(tunnel: Json, sessions: list[Json] | None) -> EndStatus:
    """State of one end. Of several sessions, one that is not established is reported first."""
    listed = sessions or []
    down = (held for held in listed if held.get("state", "established") != "established")
    unclear = (held for held in listed if "state" not in held)
    session = next(down, next(unclear, listed[0] if listed else None))
    packets_in, packets_out = _count(tunnel, "packets-in"), _count(tunnel, "packets-out")
    unlisted = NotKnown("'session' is not reported")
    return EndStatus(
        ike=_leaf(tunnel, "ike-sa"),
        child=_leaf(tunnel, "child-sa"),
        packets_in=packets_in,
        packets_out=packets_out,
        bgp=unlisted if sessions is None else _leaf(session, "state") if session else "none",
        received=unlisted if sessions is None else _listed(listed, "received"),
        announced=unlisted if sessions is None else _listed(listed, "announced"),
        idle_in=_age(tunnel, "idle-in", packets_in),
        idle_out=_age(tunnel, "idle-out", packets_out),
        rejected=tuple(why for held in listed for why in held.get("rejected", ())),
        refusal=tunnel.get("last-refusal", ""),
        refusal_age=tunnel.get("refusal-age"),
        refused_rekey=tunnel.get("refused-rekey", ""),
        outside_of_peer=tunnel.get("outside-of-peer", ""),
        inside=tunnel.get("inside", ""),
        inside_of_peer=tunnel.get("inside-of-peer", ""),
        bgp_error=session.get("last-error", "") if session else "",
        bgp_error_age=session.get("error-age") if session else None,
        counted=tunnel.get("sequence-counted", 0),
        missing=tunnel.get("sequence-missing", 0),
    )


def routes_seen(routes: Iterable[Json]) -> list[RouteSeen]:
    return [
        RouteSeen(prefix=parse_prefix(r["prefix"]), via=str(r["via"]), kind=str(r["kind"]))
        for r in routes
    ]


def dropped(drops: Iterable[Json]) -> list[Dropped]:
    return [
        Dropped(
            place=drop["place"],
            reason=drop["reason"],
            source=parse_address(drop["source"]),
            destination=parse_address(drop["destination"]),
            protocol=drop["protocol"],
            source_port=drop["source-port"],
            destination_port=drop["destination-port"],
        )
        for drop in drops
    ]


def between(question: Question) -> Json:
    """The two ends of a flow."""
    return {"source": str(question.source), "destination": str(question.destination)}


def asked(question: Question) -> Json:
    """The input of a probe."""
    return {
        **between(question),
        "protocol": question.protocol,
        "port": question.port,
        "timeout": f"{question.timeout:.3f}",
        "size": question.size,
        **({"fragmentable": True} if question.fragmentable else {}),
    }


def answered(found: Json) -> Answer:
    """The output of a probe; members of two words are joined as their API does."""
    values = {name.replace("-", "_"): value for name, value in found.items()}
    return Answer(
        answered=values["answered"],
        refused=values["refused"],
        seconds=float(values["seconds"]),
        source_port=values["source_port"],
        too_big=values.get("too_big", 0),
        mss=values.get("mss", 0),
        sent_whole=values.get("sent_whole"),
        received_whole=values.get("received_whole"),
    )
