"""What a design says about noticing a dead path."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from obrin.core.design.values import Seconds
from obrin.core.design.wishes import Entity


class Liveness(Entity):
    """Dead-peer detection (RFC 7296 section 2.4)."""

    delay: Seconds | None = Field(
        None,
        description="Silence before asking. Blank: 10 s, or the nearest that both ends can do.",
    )
    wait: Seconds = Field(1.0, description="First wait for an answer; it doubles with each try.")
    tries: Annotated[int, Field(ge=1, le=10)] | None = Field(
        None, description="Sends before giving up. Blank: 4, or as many as both ends can do."
    )


class BfdSpec(Entity):
    """Watching the path inside each tunnel by BFD (RFC 5880)."""

    interval: Seconds = Field(0.3, ge=0.05, le=60.0, description="Between packets, both ways.")
    multiplier: Annotated[int, Field(ge=1, le=50)] = Field(
        3, description="Packets that may be missed before the path is taken for dead."
    )
