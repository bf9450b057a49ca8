"""`demo`: the whole story on the practice world, step by step."""

from __future__ import annotations

import importlib.resources
import os
import time
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from obrin.cli.shared.common import STYLES, console, echo_json, practice_internet, print_table
from obrin.cli.shared.deeds import Change, Deed, acting
from obrin.core.errors import ObrinError
from obrin.live.project import Project

if TYPE_CHECKING:
    from rich.console import Console

    from obrin.core.settled.links import SettledTunnel
    from obrin.core.settled.model import Settled
    from obrin.live.connect.whole import Connected
    from obrin.live.drivers.protocol import Ends
    from obrin.live.http import InternetClient

Row = tuple[str, str, str, bool]
STREAM_INTERVAL = 0.05
_FAILING = ("circuit:harbour-line", "tunnel:quay-crossing/north", "gateway:hh-east")


@click.command()
@click.option(
    "--folder",
    type=click.Path(),
    default="skerrow-ferries",
    show_default=True,
    help="The project folder to make.",
)
@click.option("--keep", is_flag=True, help="Leave the practice world running at the end.")
@click.option("--capture", is_flag=True, help="Also write demo.pcap and its session keys.")
@acting
@click.pass_context
def demo(
    ctx: click.Context, folder: str, keep: bool, capture: bool, dry_run: bool, as_json: bool
) -> None:
    """The whole story on the practice world: settle, check, hand over, connect, lose a tunnel.

    Needs no privileges, no network and no terminal. Leaves a project folder behind. With --json the
    story goes to standard error.

    \b
    Example:
      obrin demo
    """
    target = Path(folder)
    if target.exists() and any(target.iterdir()):
        raise ObrinError(f"{target} is there already. Give --folder with another name")
    changes = [Change(folder, "made"), Change("practice world", "started")]
    if not keep:
        changes.append(Change("practice world", "stopped at the end"))
    deed = Deed(changes=changes, files=[target])
    if dry_run:
        deed.tell(dry_run=True, as_json=as_json)
        return
    rows = Story(console(stderr=as_json), target).tell(keep=keep, capture=capture)
    if as_json:
        seen = [dict(zip(("asked", "wanted", "seen", "good"), row, strict=True)) for row in rows]
        echo_json(deed.as_json(done=True) | {"seen": seen})
    ctx.exit(0 if all(good for *_, good in rows) else 1)


class Story:
    """Each method is a step; `rows` gathers what was asked and what was seen."""

    def __init__(self, out: Console, folder: Path) -> None:
        self._out = out
        self._project = Project(Path(os.path.abspath(folder / "design.yaml")))
        self._rows: list[Row] = []
        self._number = 0

    def tell(self, *, keep: bool, capture: bool) -> list[Row]:
        from obrin.live.drivers.registry import open_ends
        from obrin.live.practice.world import start_world, stop_world

        began = time.monotonic()
        self._write_files()
        self._check_draft()
        settled = self._settle()
        self._hand_over(settled)
        self._step("Start the practice world", "a cloud, a gateway, and an internet between them")
        folder = self._project.practice_folder
        pcap = self._project.folder / "demo.pcap" if capture else None
        start_world(settled, folder, speed=900.0, capture=pcap)
        try:
            with (
                open_ends(self._project, settled) as ends,
                practice_internet(self._project) as internet,
            ):
                self._connect(settled, ends)
                self._probe(settled, ends)
                self._fail_over(settled, ends, internet)
        finally:
            if not keep:
                stop_world(folder)
        self._rehearse()
        self._end(time.monotonic() - began, keep=keep)
        return self._rows

    def _step(self, title: str, text: str = "") -> None:
        from rich.text import Text

        self._number += 1
        self._out.print()
        self._out.print(Text(f"{self._number}. {title}", style="bold"))
        if text:
            self._out.print(Text(f"   {text}"))

    def _say(self, text: str) -> None:
        from rich.text import Text

        self._out.print(Text(f"   {text}"))

    def _row(self, asked: str, wanted: str, seen: str, good: bool) -> None:
        self._rows.append((asked, wanted, seen, good))

    def _write_files(self) -> None:
        self._project.folder.mkdir(parents=True, exist_ok=True)
        source = importlib.resources.files("obrin").joinpath("demo")
        for name in (
            "design.yaml",
            "draft.yaml",
            "kiosks.csv",
            "kiosk.yaml",
            "partners.csv",
            "branches.csv",
            "lans.csv",
            "networks.json",
            "exports.yaml",
            "ledger.yaml",
            "crossing.yaml",
        ):
            text = source.joinpath(name).read_text(encoding="utf-8")
            (self._project.folder / name).write_text(text, encoding="utf-8")
        self._out.print(
            "Skerrow Ferries joins its head office, Harbour House, to the cloud network of its\n"
            f"booking applications. The project is in {self._project.folder.name}/."
        )

    def _check_draft(self) -> None:
        from obrin.core.catalogue.offering import PRACTICE_CLOUD
        from obrin.core.check.finding import Severity
        from obrin.core.check.whole import check
        from obrin.core.handover.secrets import Secrets
        from obrin.core.settled.building import build_settled

        self._step("Check a first draft", "draft.yaml has the mistakes that first drafts have")
        project = Project(self._project.folder / "draft.yaml")
        draft = project.read()
        choices = project.settle(draft.design, {})
        findings = check(build_settled(draft.design, choices), PRACTICE_CLOUD, Secrets())
        errors = [f for f in findings if f.severity is Severity.ERROR]
        rows = [
            (f.severity.label, draft.locator.where(f.place).rpartition("/")[2], f.cause)
            for f in findings
        ]
        print_table(self._out, ("", "Where", "What is wrong"), rows, styles=STYLES)
        self._row("the draft's mistakes", "found", f"{len(errors)} errors", bool(errors))

    def _settle(self) -> Settled:
        from obrin.core.catalogue.offering import PRACTICE_CLOUD
        from obrin.core.check.finding import Severity
        from obrin.core.check.whole import check
        from obrin.core.settled.building import build_settled

        self._step("Settle the design", "design.yaml leaves these blank; each value says why")
        document = self._project.read()
        choices = self._project.settle(document.design, {})
        settled = build_settled(document.design, choices)
        self._project.write_choices(choices)
        self._project.fill_secrets(settled)
        shown = [
            (key, ", ".join(c.value) if isinstance(c.value, list) else str(c.value), c.why)
            for key, c in choices.items()
        ]
        print_table(self._out, ("Blank", "Value", "Why"), shown)
        findings = check(settled, PRACTICE_CLOUD, self._project.secrets(settled))
        errors = sum(f.severity is Severity.ERROR for f in findings)
        for finding in findings:
            self._say(f"{finding.severity.label}: {finding.cause}")
        again = self._project.settle(document.design)
        moved = sum(again[key] != choice for key, choice in choices.items())
        keys = self._project.keys.read()
        self._row(
            "blanks in the design",
            "all settled",
            f"{len(choices)} and {len(keys)} keys",
            len(keys) == len(list(settled.tunnels())),
        )
        self._row("settle, run again", "moves nothing", f"{moved} moved", moved == 0)
        self._row("errors in the design", "none", str(errors), errors == 0)
        return settled

    def _hand_over(self, settled: Settled) -> None:
        from obrin.core.handover.pack import PackMaker
        from obrin.live.packs import write_packs

        self._step("Hand over", "one pack for each gateway, its keys apart")
        for name, paths in write_packs(self._project, settled).files.items():
            self._say(f"packs/design/{name}/: {', '.join(path.name for path in paths)}")
        faults = PackMaker(settled).mirror_faults()
        self._row(
            "both ends of each tunnel", "mirror images", f"{len(faults)} differences", not faults
        )

    def _connect(self, settled: Settled, ends: Ends) -> None:
        from obrin.cli.connect.status import print_status
        from obrin.live.connect.ended import Ended
        from obrin.live.connect.whole import connect_whole, plan_connect

        def connected() -> Connected:
            plan = plan_connect(self._project, settled, ends)
            return connect_whole(self._project, settled, ends, lambda _step: None, 30.0, plan)

        self._step("Connect", "the cloud by its API, the gateway from its pack over RESTCONF")
        began = time.monotonic()
        result = connected()
        self._say(f"{len(result.done)} steps in {time.monotonic() - began:.1f} s")
        print_status(self._out, result.status, Ended())
        up = sum(t.up is True for t in result.status)
        agree = not any(t.disagreements for t in result.status)
        self._row(
            "tunnels up, BGP established",
            f"{len(result.status)}",
            str(up),
            up == len(result.status),
        )
        self._row("both ends' status", "agree", "agree" if agree else "disagree", agree)
        again = connected()
        self._row(
            "connect, run again", "changes nothing", f"{len(again.done)} changes", not again.done
        )

    def _probe(self, settled: Settled, ends: Ends) -> None:
        from obrin.cli.connect.probe import print_outcomes
        from obrin.live.observe.probe import probe_all

        self._step("Probe", "what must work and what must not, with real packets, from both sides")
        outcomes = probe_all(settled, ends)
        print_outcomes(self._out, outcomes)
        for wish, words in (("work", "flows that must work"), ("not", "flows that must not")):
            of_kind = [o for o in outcomes if o.expectation.must == wish]
            met = sum(o.met for o in of_kind)
            self._row(
                words, f"{len(of_kind)} of {len(of_kind)}", f"{met} as wished", met == len(of_kind)
            )

    def _fail_over(self, settled: Settled, ends: Ends, internet: InternetClient) -> None:
        from obrin.core.drill.outage import predict_outage
        from obrin.live.connect.whole import wait_until_up
        from obrin.live.observe.outage import carrying, measure_outage

        tunnel = next(settled.tunnels())
        predicted = predict_outage(settled, tunnel)
        self._step(f"Lose tunnel {tunnel.label}", "its path is cut without a word")
        self._say(f"predicted outage: {predicted}")
        before = carrying(settled, ends)
        longest = predicted.longest or 10.0
        result = measure_outage(
            settled,
            ends,
            lambda: _cut(internet, tunnel),
            interval=STREAM_INTERVAL,
            lead=0.6,
            duration=longest + 2.0,
        )
        after = carrying(settled, ends)
        answers = f"{result.answered} of {result.sent} echo requests answered"
        self._say(f"measured outage:  {result.longest_gap:.2f} s ({answers})")
        self._say(f"traffic moved from {before} to {after}")
        slack = 2 * STREAM_INTERVAL + 0.25
        good = predicted.shortest - slack <= result.longest_gap <= longest + slack
        self._row(
            "outage when a tunnel dies",
            f"{predicted.shortest:.1f} to {longest:.1f} s",
            f"{result.longest_gap:.2f} s",
            good,
        )
        self._row(
            "traffic moves to",
            str(settled.links[tunnel.link].tunnels[1].label),
            after,
            after == settled.links[tunnel.link].tunnels[1].label,
        )
        self._step("Heal it")
        internet.heal()
        status = wait_until_up(settled, ends, lambda _progress: None, 25.0)
        up = sum(t.up is True for t in status)
        self._say(f"{up} of {len(status)} tunnels up, traffic on {carrying(settled, ends)}")
        self._row("tunnels up after healing", f"{len(status)}", str(up), up == len(status))

    def _rehearse(self) -> None:
        """Part of the next design, in virtual time: only the clock is another."""
        from datetime import UTC, datetime

        from obrin.cli.connect.rehearsal_output import print_played
        from obrin.core.drill.elements import parse_elements
        from obrin.core.handover.secrets import Secrets
        from obrin.core.ipsec.shared_keys import make_key
        from obrin.core.settled.building import build_settled
        from obrin.live.rehearse.play import Rehearsal
        from obrin.live.rehearse.virtual import VirtualWorld
        from obrin.live.rehearse.virtual_stage import VirtualStage

        self._step(
            "Rehearse what comes next",
            "crossing.yaml: a hub, a dedicated line, IPv6; the same engines, the clock wound on",
        )
        project = Project(self._project.folder / "crossing.yaml")
        document = project.read()
        settled = build_settled(document.design, project.settle(document.design, {}))
        kept = settled.shared_secrets()
        keys = {s.label: make_key(os.urandom, settled.key_rules(s.tunnel)) for s in kept}
        world = VirtualWorld(settled, Secrets(keys), start=datetime.now(UTC))
        rehearsal = Rehearsal(VirtualStage(world))
        played = [rehearsal.begin()]
        asked = rehearsal.ask_all()
        for name in _FAILING:
            played.append(rehearsal.fail(parse_elements(settled, [name])))
        print_played(self._out, played)
        met = sum(one.met for one in asked)
        wanted = f"{len(asked)} of {len(asked)}"
        self._row("flows of the crossing", wanted, f"{met} as wished", met == len(asked))
        good = sum(scene.good for scene in played)
        self._row(
            "its failures, predicted and measured",
            f"{len(played)} alike",
            f"{good} alike",
            good == len(played),
        )

    def _end(self, seconds: float, *, keep: bool) -> None:
        self._step("What was asked and what was seen")
        rows: Sequence[tuple[str, ...]] = [
            (asked, wanted, seen, "yes" if good else "NO")
            for asked, wanted, seen, good in self._rows
        ]
        print_table(self._out, ("Asked", "Wanted", "Seen", "Good"), rows, styles=STYLES)
        good = sum(row[3] for row in self._rows)
        self._say(f"{good} of {len(self._rows)} as wanted, in {seconds:.0f} s.")
        folder = self._project.folder.name
        if keep:
            self._say(f"The practice world runs on: cd {folder}, then 'obrin status'.")
        else:
            self._say(f"Go on with: cd {folder}, 'obrin practice start', 'obrin connect'.")


def _cut(internet: InternetClient, tunnel: SettledTunnel) -> None:
    internet.cut_path(str(tunnel.uplink.address), str(tunnel.cloud_address))
