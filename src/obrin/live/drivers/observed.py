"""The shapes of obrin-observe: questions written, and what drivers report read."""

from __future__ import annotations

from collections.abc import Iterable

from obrin.core.address.prefix import parse_address, parse_prefix
from obrin.core.json_text import Json
from obrin.live.drivers.observations import NO_IKE, Answer, Dropped, EndStatus, Question, RouteSeen


def end_statuses(
    tunnels: Iterable[Json], circuits: Iterable[Json], sessions: Iterable[Json]
) -> dict[str, EndStatus]:
    """Map names of tunnels and circuits, each with the sessions that go over it."""
    over: dict[str, list[Json]] = {}
    for session in sessions:
        for name in session["tunnel"]:
            over.setdefault(name, []).append(session)
    found = {t["name"]: _end(t, over.get(t["name"], [])) for t in tunnels}
    return found | {c["name"]: _line(c, over.get(c["name"], [])) for c in circuits}


def statuses_in(state: Json) -> dict[str, EndStatus]:
    """All ends in a whole state."""
    return end_statuses(*(state.get(part, []) for part in ("tunnel", "circuit", "session")))


def _line(circuit: Json, sessions: list[Json]) -> EndStatus:
    """A circuit has no SAs: it carries, but where BFD says that it does not."""
    child = "down" if circuit["path"] == "down" else "up"
    return _end({**circuit, "ike-sa": NO_IKE, "child-sa": child}, sessions)


def _end(tunnel: Json, sessions: list[Json]) -> EndStatus:
    """State of one end. Of several sessions, one that is not established is reported first."""
    down = (session for session in sessions if session["state"] != "established")
    session = next(down, sessions[0] if sessions else None)
    return EndStatus(
        ike=tunnel["ike-sa"],
        child=tunnel["child-sa"],
        packets_in=int(tunnel["packets-in"]),
        packets_out=int(tunnel["packets-out"]),
        bgp=session["state"] if session else "none",
        received=tuple(prefix for held in sessions for prefix in held["received"]),
        announced=tuple(prefix for held in sessions for prefix in held["announced"]),
        rejected=tuple(why for held in sessions for why in held["rejected"]),
        refusal=tunnel.get("last-refusal", ""),
        refusal_age=tunnel.get("refusal-age"),
        refused_rekey=tunnel.get("refused-rekey", ""),
        outside_of_peer=tunnel.get("outside-of-peer", ""),
        inside=tunnel.get("inside", ""),
        inside_of_peer=tunnel.get("inside-of-peer", ""),
        bgp_error=session["last-error"] if session else "",
        bgp_error_age=session.get("error-age") if session else None,
        counted=tunnel.get("sequence-counted", 0),
        missing=tunnel.get("sequence-missing", 0),
        idle_in=tunnel.get("idle-in"),
        idle_out=tunnel.get("idle-out"),
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
    )
