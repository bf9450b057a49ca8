"""Replacing keys on the running link: one tunnel at a time, proven before the next.

The new key is laid by in the key file first. Both ends get it, the tunnel is awaited, and only
then does the file take it for the key. A run that was stopped is taken up with the same new key;
when the tunnel does not come up, both ends get the old one back.
"""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Mapping
from dataclasses import dataclass

from obrin.core.design.arrangement import SPARE
from obrin.core.errors import OutsideError
from obrin.core.handover.pack import Pack
from obrin.core.handover.rotation import Turn
from obrin.core.handover.secrets import Secrets, key_data
from obrin.core.ipsec.shared_keys import make_key
from obrin.core.settled.model import Settled
from obrin.live.drivers.protocol import Ends, Progress, Report
from obrin.live.observe.status import TunnelStatus, read_status
from obrin.live.project import Project


@dataclass(frozen=True, slots=True, kw_only=True)
class Rotation:
    """Everything that the turns need: `packs` as they were handed over, `timeout` seconds for a
    tunnel to come up again."""

    project: Project
    settled: Settled
    packs: Mapping[str, Pack]
    ends: Ends
    report: Report
    timeout: float

    def turn(self, turn: Turn) -> None:
        """Raises OutsideError, with the old key in force, when the tunnel does not come up."""
        label, store = turn.tunnel.label, self.project.keys
        self._other_is_up(turn)
        before = self.project.secrets(self.settled)
        fresh = store.waiting().get(label)
        if fresh is None:
            fresh = make_key(os.urandom, self.settled.key_rules(turn.tunnel))
            store.lay_by(label, fresh)
        self._give(turn, Secrets({**before.keys, label: fresh}, before.certificates))
        if turn.tunnel.role != SPARE and not self._comes_up(label):
            self._give(turn, before)
            up = self._comes_up(label)
            state = "which is up again" if up else "and it is not up yet"
            raise OutsideError(
                f"{label} did not come up with its new key within {self.timeout:g} s. Both ends "
                f"have the old one again, {state}. Look at 'obrin status', then rotate again"
            )
        store.put({label: fresh}, self.project.today)
        self.report(Progress(f"key of {label}", "done", "replaced at both ends"))

    def _other_is_up(self, turn: Turn) -> None:
        other = turn.carried_by
        if other is not None and not self._status(other).up:
            raise OutsideError(
                f"{other} is down, so replacing the key of {turn.tunnel.label} would cut the link. "
                "Mend it first ('obrin status')"
            )

    def _give(self, turn: Turn, secrets: Secrets) -> None:
        """Both ends get the secrets; only this tunnel's differ, so only it begins anew."""
        place, cloud = turn.tunnel.gateway, self.ends.clouds[turn.tunnel.cloud]
        gateway = self.ends.gateways.get(place)
        if gateway is None:
            raise OutsideError(f"{place} has no endpoint. Rotate its keys by hand")
        step = cloud.tunnel_step(self.settled, turn.tunnel, secrets)
        cloud.do(step, self.report, threading.Event())
        config = self.packs[place].config  # what it was handed, changed by hand or not
        gateway.hand_over(config, key_data(self.settled, place, secrets))

    def _comes_up(self, label: str) -> bool:
        until = time.monotonic() + self.timeout
        while not self._status(label).up:
            if time.monotonic() > until:
                return False
            time.sleep(0.1)
        return True

    def _status(self, label: str) -> TunnelStatus:
        return next(s for s in read_status(self.settled, self.ends) if s.tunnel == label)
