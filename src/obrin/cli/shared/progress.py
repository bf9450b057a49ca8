"""Progress of what takes a while, as lines on stderr."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from obrin.live.drivers.protocol import Progress


class ProgressLines:
    """Lines on stderr: what is done, and what is awaited, at once and then now and then."""

    TELL_AGAIN = 5.0

    def __init__(self) -> None:
        self._last_said: dict[str, float] = {}

    def __call__(self, progress: Progress) -> None:
        now = time.monotonic()
        if progress.state == "done":
            click.echo(f"  done     {progress.step}: {progress.note}", err=True)
        elif progress.state == "waiting" and progress.left > 0.5:
            if now - self._last_said.get(progress.step, float("-inf")) < self.TELL_AGAIN:
                return
            self._last_said[progress.step] = now
            note = progress.note
            if note.endswith("%"):
                note += f", about {progress.left:.0f} s left"
            click.echo(f"  waiting  {progress.step}: {note}", err=True)
