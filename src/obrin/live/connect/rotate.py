"""Replacing keys on the running link: one tunnel at a time, proven before the next.

The new key is laid by in the key file first. Both ends get it, the tunnel is awaited, and only
then does the file take it for the key. A run that was stopped is taken up with the same new key;
when the tunnel does not come up, both ends get the old one back. Where a new key was made or
brought already and the ends still have the old one, it is that which they get.
"""

from __future__ import annotations

import os
from collections.abc import Sequence

from obrin.core.design.arrangement import SPARE
from obrin.core.errors import OutsideError
from obrin.core.handover.rotation import Turn
from obrin.core.handover.secrets import Secrets
from obrin.core.ipsec.shared_keys import make_key
from obrin.live.connect.turns import Turns
from obrin.live.drivers.protocol import Progress


class Rotation(Turns):
    """Replaces keys in turns."""

    __slots__ = ()

    def go_on(self, turns: Sequence[Turn]) -> None:
        """Raises OutsideError after a tunnel that does not come up; the old key is in force at its
        ends, then."""
        if failed := self.take(self.down_first(turns), self._prove):
            raise OutsideError(self.taken_back(failed, "with a new key", "have the old one"))

    def _prove(self, turn: Turn) -> bool:
        label, store = turn.tunnel.label, self.project.keys
        self.other_is_up(turn, "replacing the key of")
        before = self.project.secrets_in_force(self.settled)
        with self.writing:
            fresh = store.waiting().get(label)
            if fresh is None and label in store.entered():
                fresh = store.read()[label]
            if fresh is None:
                fresh = make_key(os.urandom, self.settled.key_rules(turn.tunnel))
                store.lay_by(label, fresh)
        self._give(turn, Secrets({**before.keys, label: fresh}, before.certificates))
        if turn.tunnel.role != SPARE and not self.comes_up(label):
            self._give(turn, before)
            return False
        with self.writing:
            store.put({label: fresh}, self.project.today, at_ends=True)
        self.report(Progress(f"key of {label}", "done", "replaced at both ends"))
        return True

    def _give(self, turn: Turn, secrets: Secrets) -> None:
        """Give both ends the secrets. Only this tunnel's differ, so only it starts again."""
        self.give_cloud(turn.tunnel, secrets)
        self.give_gateway(turn.tunnel.gateway, secrets)
