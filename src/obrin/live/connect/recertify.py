"""Renewing certificates on the running link: everybody believes what is to come before anybody
shows it, and each tunnel is begun anew by itself to prove it.

What was issued before stays good, so a tunnel whose turn has not come goes on with it. The turns
that are left stand with the authority, so that a run that was stopped is taken up.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence

from obrin.core.design.arrangement import SPARE
from obrin.core.errors import OutsideError
from obrin.core.handover.rotation import Turn, rotation
from obrin.core.handover.secrets import Secrets
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled
from obrin.live.connect.turns import Turns
from obrin.live.drivers.protocol import Progress
from obrin.live.secrets.authority import Authority
from obrin.live.secrets.material import lives_of

ROOT, ISSUING = "root", "issuing"


def certified_tunnels(settled: Settled) -> list[SettledTunnel]:
    """Whose ends prove themselves by certificates."""
    links = [k for k in settled.links.values() if k.authentication == "certificate"]
    return [tunnel for link in links for tunnel in link.tunnels]


def renewable(settled: Settled, authority: Authority) -> list[str]:
    """Those to whom this authority can issue again."""
    return [
        name
        for name in settled.certified()
        if not authority.from_elsewhere(name) and name not in authority.barred()
    ]


def turns_of(settled: Settled, labels: Collection[str]) -> list[Turn]:
    """In the order in which certificates are proven."""
    return list(rotation(settled, labels))


class Recertification(Turns):
    """Of certificates."""

    __slots__ = ()

    def begin(self, names: Sequence[str], above: str) -> list[Turn]:
        """New certificates for `names`, below a new root or issuing authority where `above` says
        one; the turns that prove them. What is issued is kept before anybody is told."""
        store, now, lives = self.project.authority, self.project.now, lives_of(self.settled)
        authority = store.read(self.settled.name)
        if above == ROOT:
            authority.found(lives, now)
        elif above == ISSUING:
            authority.appoint(lives, now)
        else:
            self._issue(authority, names)
        ends = set(names)
        tunnels = certified_tunnels(self.settled)
        authority.turns = [t.label for t in tunnels if ends & {t.gateway, t.cloud}]
        if authority.revocations:
            authority.publish(lives, now)
        store.write(authority)
        return turns_of(self.settled, authority.turns)

    def go_on(self, turns: Sequence[Turn]) -> None:
        """From wherever it stands. Raises OutsideError at the first tunnel that does not come up;
        its ends have what they had before, then."""
        self._tell_all()
        authority = self.project.authority.read(self.settled.name)
        ends = [name for turn in turns for name in (turn.tunnel.gateway, turn.tunnel.cloud)]
        good = renewable(self.settled, authority)
        late = [n for n in dict.fromkeys(ends) if n in good and not authority.is_newest(n)]
        if late:
            self._issue(authority, late)
            self.project.authority.write(authority)
            self._tell_all()
        for turn in turns:
            self._prove(turn)

    def _issue(self, authority: Authority, names: Collection[str]) -> None:
        needs, lives = self.settled.certified(), lives_of(self.settled)
        for name in names:
            authority.issue_again(name, needs[name], lives, self.project.now)

    def _secrets(self) -> Secrets:
        return self.project.secrets(self.settled)

    def _tell_all(self) -> None:
        """Everybody gets its chain and whom to believe; no tunnel ends by that."""
        tunnels, secrets = certified_tunnels(self.settled), self._secrets()
        for place in dict.fromkeys(tunnel.gateway for tunnel in tunnels):
            self.give_gateway(place, secrets)
            self.report(Progress(f"certificate of {place}", "done", "handed over"))
        for tunnel in tunnels:
            self.give_cloud(tunnel, secrets)

    def _prove(self, turn: Turn) -> None:
        label = turn.tunnel.label
        if turn.tunnel.role != SPARE:
            self.other_is_up(turn, "beginning anew")
            self.gateway(turn.tunnel.gateway).begin_anew(label)
            if not self.comes_up(label):
                raise OutsideError(self._take_back(turn))
        authority = self.project.authority.read(self.settled.name)
        authority.turns = [left for left in authority.turns if left != label]
        self.project.authority.write(authority)
        self.report(Progress(label, "done", "up by the new certificates"))

    def _take_back(self, turn: Turn) -> str:
        """Both ends show again what they had; in words."""
        label, store = turn.tunnel.label, self.project.authority
        authority = store.read(self.settled.name)
        authority.turns = []
        for name in (turn.tunnel.gateway, turn.tunnel.cloud):
            if len(authority.gateways.get(name, ())) > 1 and not authority.from_elsewhere(name):
                authority.take_back(name)
        store.write(authority)
        self._tell_all()
        self.gateway(turn.tunnel.gateway).begin_anew(label)
        state = "which is up again" if self.comes_up(label) else "and it is not up yet"
        return (
            f"{label} did not come up by the new certificates within {self.timeout:g} s. Both ends "
            f"show the old ones again, {state}. Look at 'obrin status', then rotate again"
        )
