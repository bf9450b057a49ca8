"""What can fail: tunnels, uplinks, providers, gateways, instances, whole cloud gateways."""

from __future__ import annotations

import difflib
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass

from obrin.core.design.settled import Settled, SettledTunnel
from obrin.core.errors import ObrinError

KINDS = ("tunnel", "uplink", "provider", "gateway", "instance", "cloud")


@dataclass(frozen=True, slots=True, order=True)
class Element:
    """One thing that fails as a whole; `name` as in the design, `uplink:hh-east/fibre` as text."""

    kind: str
    name: str

    def __str__(self) -> str:
        return f"{self.kind}:{self.name}"


def names_of(tunnel: SettledTunnel) -> Iterator[Element]:
    """Everything that a tunnel depends on."""
    yield Element("tunnel", tunnel.label)
    yield Element("uplink", f"{tunnel.gateway}/{tunnel.uplink.name}")
    if tunnel.uplink.provider is not None:
        yield Element("provider", tunnel.uplink.provider)
    yield Element("gateway", tunnel.gateway)
    yield Element("instance", f"{tunnel.cloud}/{tunnel.instance}")
    yield Element("cloud", tunnel.cloud)


def elements(settled: Settled, kinds: Collection[str] = KINDS) -> list[Element]:
    """All elements that some tunnel depends on, kind by kind."""
    found = {e for t in settled.tunnels() for e in names_of(t) if e.kind in kinds}
    return sorted(found, key=lambda e: (KINDS.index(e.kind), e.name))


def parse_elements(settled: Settled, texts: Iterable[str]) -> tuple[Element, ...]:
    """`kind:name` each. Raises ObrinError for what the design does not have."""
    known = {str(element): element for element in elements(settled)}
    found = []
    for text in texts:
        if text not in known:
            near = difflib.get_close_matches(text, known, n=2) or list(known)[:6]
            raise ObrinError(f"nothing here is called '{text}'. There are, for example: "
                             f"{', '.join(near)}")  # fmt: skip
        found.append(known[text])
    return tuple(found)


def survivors(settled: Settled, failed: Collection[Element]) -> frozenset[str]:
    """Labels of the tunnels that none of the failed elements takes down."""
    return frozenset(
        tunnel.label
        for tunnel in settled.tunnels()
        if not any(e in failed for e in names_of(tunnel))
    )
