"""What `status` sees, as metrics in the OpenMetrics text format."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from obrin.core.known import NotKnown
from obrin.core.quantity import plain
from obrin.live.observe.tunnel import STATES, TunnelStatus


@dataclass(frozen=True, slots=True)
class Family:
    """A metric family; `samples` are labels with values."""

    name: str
    kind: str
    help: str
    samples: Sequence[tuple[Mapping[str, str], float]]


def metrics_text(tunnels: Sequence[TunnelStatus], clocks: Mapping[str, float]) -> str:
    """`clocks` are seconds by which gateways' clocks are wrong, where they are."""
    lines = [line for family in _families(tunnels, clocks) for line in _lines(family)]
    return "\n".join([*lines, "# EOF"]) + "\n"


def _families(tunnels: Sequence[TunnelStatus], clocks: Mapping[str, float]) -> Iterator[Family]:
    yield Family(
        "obrin_tunnel_state",
        "stateset",
        "What a tunnel or circuit is, seen from both ends.",
        [
            ({"tunnel": t.tunnel, "obrin_tunnel_state": state}, state == t.state)
            for t in tunnels
            for state in STATES
        ],
    )
    ends = [(t, name, end) for t in tunnels for name, end in (("site", t.site), ("cloud", t.cloud))]
    known = [(t, name, end) for t, name, end in ends if not end.problem]
    yield Family(
        "obrin_end_answers",
        "gauge",
        "Whether an end says anything of a tunnel.",
        [({"tunnel": t.tunnel, "end": name}, not end.problem) for t, name, end in ends],
    )
    yield Family(
        "obrin_bgp_established",
        "gauge",
        "Whether an end's BGP session over a tunnel is established.",
        [
            ({"tunnel": t.tunnel, "end": name}, end.bgp == "established")
            for t, name, end in known
            if end.bgp != "none" and not isinstance(end.bgp, NotKnown)
        ],
    )
    for what in ("in", "out"):
        yield Family(
            f"obrin_packets_{what}",
            "counter",
            f"Packets that went {what} at an end since its IKE SA is up.",
            [
                ({"tunnel": t.tunnel, "end": name}, getattr(end, f"packets_{what}"))
                for t, name, end in known
                if f"packets_{what}" not in end.not_known
            ],
        )
    yield Family(
        "obrin_sequence_missing",
        "gauge",
        "Latest packets that did not arrive, by their sequence numbers.",
        [({"tunnel": t.tunnel, "end": name}, end.missing) for t, name, end in known],
    )
    yield Family(
        "obrin_clock_wrong_seconds",
        "gauge",
        "By how much a gateway's clock is ahead, where it is wrong.",
        [({"gateway": name}, wrong) for name, wrong in clocks.items()],
    )


def _lines(family: Family) -> Iterator[str]:
    yield f"# TYPE {family.name} {family.kind}"
    yield f"# HELP {family.name} {family.help}"
    suffix = "_total" if family.kind == "counter" else ""
    for labels, value in family.samples:
        yield f"{family.name}{suffix}{{{_labels(labels.items())}}} {plain(float(value))}"


def _labels(labels: Iterable[tuple[str, str]]) -> str:
    return ",".join(f'{name}="{_escaped(value)}"' for name, value in labels)


def _escaped(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
