"""The address space of the design that a command is about."""

from __future__ import annotations

from typing import TYPE_CHECKING

from obrin.cli.shared.common import project_of

if TYPE_CHECKING:
    from obrin.core.settled.model import Settled
    from obrin.core.space.view import Entry, SpaceView


def load_space(design_file: str | None) -> tuple[Settled, SpaceView]:
    """The space of a design; blanks that are not settled yet are settled for the question."""
    from obrin.core.space.view import space_view

    project = project_of(design_file)
    document, choices, settled, _ = project.on_trial()
    return settled, space_view(settled, choices, project.offering(document.design))


def in_the_way(settled: Settled, view: SpaceView) -> tuple[tuple[Entry, Entry], ...]:
    """The uses that `check` has something to say of."""
    from obrin.core.check.space.spaces import contested
    from obrin.core.space.pools import overlapping

    return tuple(overlapping(view, contested(settled)))
