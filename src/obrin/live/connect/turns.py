"""What all rotations on a running link have alike: a tunnel of a site at a time, awaited, while
another carries."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field

from obrin.core.errors import OutsideError
from obrin.core.handover.pack import Pack
from obrin.core.handover.rotation import Turn
from obrin.core.handover.secrets import Secrets, key_data
from obrin.core.known import NotKnown
from obrin.core.quantity import plain
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled
from obrin.live.drivers.asking import side_by_side
from obrin.live.drivers.protocol import Ends, GatewayDriver, Report
from obrin.live.observe.status import ask_once, read_status
from obrin.live.observe.tunnel import TunnelStatus
from obrin.live.project import Project


@dataclass(frozen=True, slots=True, kw_only=True)
class Turns:
    """Everything that the turns need: `packs` as they were handed over, `timeout` seconds for a
    tunnel to come up again, and of how many sites one each may have its turn `at_once`."""

    project: Project
    settled: Settled
    packs: Mapping[str, Pack]
    ends: Ends
    report: Report
    timeout: float
    at_once: int = 1
    writing: threading.Lock = field(default_factory=threading.Lock, repr=False)
    """Held while stored secrets are read, changed and written again."""

    def take(self, turns: Sequence[Turn], do: Callable[[Turn], bool]) -> list[Turn]:
        """One turn after the other, or those of `at_once` sites side by side: then the first
        site's come alone, since what is wrong everywhere shows there. Those that `do` says did
        not work are returned, whatever befell others meanwhile; after one of them, and after an
        error, no other is begun."""
        failed: list[Turn] = []
        stop = threading.Event()

        def one(of_a_site: Sequence[Turn]) -> None:
            for turn in of_a_site:
                if stop.is_set():
                    return
                worked = False
                try:
                    worked = do(turn)
                    if not worked:
                        failed.append(turn)
                finally:
                    if not worked:
                        stop.set()

        if self.at_once == 1:
            one(turns)
            return failed
        sites: dict[str, list[Turn]] = {}
        for turn in turns:
            sites.setdefault(self.settled.links[turn.tunnel.link].site, []).append(turn)
        groups = list(sites.values())
        for group in groups[:1]:
            one(group)
        try:
            side_by_side(one, groups[1:], self.at_once)
        except OutsideError:
            if not failed:
                raise
        return failed

    def taken_back(self, failed: Sequence[Turn], new: str, old: str) -> str:
        """Say when the ends of these have again what they had."""
        labels = [turn.tunnel.label for turn in failed]
        up = all(self.comes_up(label) for label in labels)
        state = "that works" if up else "it is not up yet"
        return (
            f"{', '.join(labels)} did not come up {new} within {plain(self.timeout)} s. Both ends "
            f"{old} again, and {state}. Look at 'obrin status', then rotate again"
        )

    def need_both_ends(self, labels: Collection[str], instead: str) -> None:
        """Raises OutsideError where an end has no endpoint, or is done by hand: nothing is proven
        of what nobody can be asked about, and nothing has been changed yet."""
        for label in labels:
            self.gateway(self.settled.tunnel(label).gateway)
        links = {self.settled.tunnel(label).link: None for label in labels}
        for status in read_status(self.settled, self.ends, links):
            if status.tunnel not in labels:
                continue
            if status.by_hand:
                raise OutsideError(
                    f"an end of {status.tunnel} is done by hand, and cannot be asked whether the "
                    f"tunnel comes up. {instead}"
                )
            if isinstance(status.up, NotKnown):
                raise OutsideError(
                    f"it cannot be seen whether {status.tunnel} comes up ({status.up.why}). "
                    f"{instead}"
                )

    def gateway(self, place: str) -> GatewayDriver:
        """Raises OutsideError."""
        found = self.ends.gateways.get(place)
        if found is None:
            raise OutsideError(f"{place} has no endpoint. Do it by hand there")
        return found

    def down_first(self, turns: Sequence[Turn]) -> list[Turn]:
        """Tunnels that are down have their turn before those that carry meanwhile, in each link."""
        links = dict.fromkeys(turn.tunnel.link for turn in turns)
        up = {s.tunnel for s in ask_once(self.settled, self.ends, links) if s.up is True}
        place = {link: number for number, link in enumerate(links)}
        return sorted(turns, key=lambda t: (place[t.tunnel.link], t.tunnel.label in up))

    def other_is_up(self, turn: Turn, doing: str) -> None:
        """Raises OutsideError where the link would be cut: one that is down anyway cannot be."""
        other, label = turn.carried_by, turn.tunnel.label
        if (
            other is not None
            and self.status(other).up is not True
            and self.status(label).up is True
        ):
            raise OutsideError(
                f"{other} is down, so {doing} {turn.tunnel.label} would cut the link. "
                "Mend it first ('obrin status')"
            )

    def give_gateway(self, place: str, secrets: Secrets) -> None:
        config = self.packs[place].config  # what it was handed, changed by hand or not
        self.gateway(place).hand_over(config, key_data(self.settled, place, secrets))

    def give_cloud(self, tunnel: SettledTunnel, secrets: Secrets) -> None:
        cloud = self.ends.clouds[tunnel.cloud]
        step = cloud.tunnel_step(self.settled, tunnel, secrets)
        cloud.do(step, self.report, threading.Event())

    def comes_up(self, label: str) -> bool:
        until = time.monotonic() + self.timeout
        while self.status(label).up is not True:
            if time.monotonic() > until:
                return False
            time.sleep(0.1)
        return True

    def status(self, label: str) -> TunnelStatus:
        """Read it as its ends say it now; what they disagree on goes away, or it does not come
        up."""
        link = self.settled.tunnel(label).link
        return next(s for s in ask_once(self.settled, self.ends, [link]) if s.tunnel == label)
