"""Renewing certificates on the running link: everybody believes what is to come before anybody
shows it, and each tunnel is begun anew by itself to prove it.

What was issued before stays good, so a tunnel whose turn has not come goes on with it. The turns
that are left stand with the authority, so that a run that was stopped is taken up.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence

from obrin.core.design.arrangement import SPARE
from obrin.core.errors import OutsideError
from obrin.core.handover.rotation import Turn
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled
from obrin.live.connect.turns import Turns
from obrin.live.drivers.asking import side_by_side
from obrin.live.drivers.protocol import Progress
from obrin.live.secrets.authority import Authority
from obrin.live.secrets.material import lives_of

ROOT, ISSUING = "root", "issuing"


def renewable(settled: Settled, authority: Authority) -> list[str]:
    """Return those to whom this authority can issue again; the revoked are not among them."""
    barred = authority.barred()
    return [
        name
        for name in settled.certified()
        if not authority.from_elsewhere(name) and name not in barred
    ]


def provable(settled: Settled, authority: Authority) -> list[SettledTunnel]:
    """The tunnels that can come up by certificates: those neither of whose ends is revoked."""
    barred = authority.barred().keys()
    return [t for t in settled.certified_tunnels() if barred.isdisjoint((t.gateway, t.cloud))]


class Recertification(Turns):
    """Replaces certificates in turns."""

    __slots__ = ()

    def begin(self, names: Sequence[str], above: str | None, turns: Sequence[Turn]) -> None:
        """New certificates for `names`, below a new root or issuing authority where `above` says
        one, which the turns are to prove. What is issued is kept before any end gets it."""
        store, now, lives = self.project.authority, self.project.now, lives_of(self.settled)
        authority = store.read(self.settled.name)
        if above == ROOT:
            authority.found(lives, now)
        elif above == ISSUING:
            authority.appoint(lives, now)
        else:
            authority.prepare(lives, now)
            self._issue(authority, names)
        authority.renewing, authority.turns = list(names), [turn.tunnel.label for turn in turns]
        authority.publish_again(lives, now)
        store.write(authority)

    def go_on(self, turns: Sequence[Turn]) -> None:
        """Go on from wherever it stands. Raises OutsideError after a tunnel that does not come
        up; its ends have what they had before, then."""
        self._tell_all()
        authority = self.project.authority.read(self.settled.name)
        good = renewable(self.settled, authority)
        late = [n for n in authority.renewing if n in good and not authority.is_newest(n)]
        if late:
            self._issue(authority, late)
            self.project.authority.write(authority)
            self._tell_all()
        if failed := self.take(self.down_first(turns), self._prove):
            raise OutsideError(self._take_back(failed))

    def _issue(self, authority: Authority, names: Collection[str]) -> None:
        needs, lives = self.settled.certified(), lives_of(self.settled)
        for name in names:
            authority.issue_again(name, needs[name], lives, self.project.now)

    def _tell_all(self) -> None:
        """Everybody gets its chain and whom to believe; no tunnel ends by that."""
        tunnels = provable(self.settled, self.project.authority.read(self.settled.name))
        secrets = self.project.secrets_in_force(self.settled)

        def give(place: str) -> None:
            self.give_gateway(place, secrets)
            self.report(Progress(f"certificate of {place}", "done", "handed over"))

        side_by_side(give, dict.fromkeys(tunnel.gateway for tunnel in tunnels))
        side_by_side(lambda tunnel: self.give_cloud(tunnel, secrets), tunnels)

    def _prove(self, turn: Turn) -> bool:
        label = turn.tunnel.label
        if turn.tunnel.role != SPARE:
            self.other_is_up(turn, "beginning anew")
            self.gateway(turn.tunnel.gateway).begin_anew(label)
            if not self.comes_up(label):
                return False
        with self.writing:
            authority = self.project.authority.read(self.settled.name)
            authority.turns = [left for left in authority.turns if left != label]
            self.project.authority.write(authority)
        self.report(Progress(label, "done", "up by the new certificates"))
        return True

    def _take_back(self, failed: Sequence[Turn]) -> str:
        """Both ends of each show again what they had; in words."""
        tunnels, store = [turn.tunnel for turn in failed], self.project.authority
        authority = store.read(self.settled.name)
        ends = {end for tunnel in tunnels for end in (tunnel.gateway, tunnel.cloud)}
        for name in ends.intersection(authority.renewing):
            authority.take_back(name)
        authority.turns, authority.renewing = [], []
        store.write(authority)
        self._tell_all()
        for tunnel in tunnels:
            self.gateway(tunnel.gateway).begin_anew(tunnel.label)
        return self.taken_back(failed, "by the new certificates", "show the old ones")
