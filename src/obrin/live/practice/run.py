"""Entry point of the practice processes: `python -m obrin.live.practice.run ROLE ...`."""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import json
import os
import signal
import threading
import time
from pathlib import Path

from obrin.core.catalogue.offering import PRACTICE_CLOUD, Offerings
from obrin.core.collecting import collect_seldom
from obrin.live.practice.record import still_wanted
from obrin.live.practice.world import TOKEN_VARIABLE

LOOK_EVERY = 1.0
GRACE = 5.0


def main() -> None:
    parser = argparse.ArgumentParser(description="One process of the practice world.")
    parser.add_argument("role", choices=("internet", "cloud", "gateways"))
    parser.add_argument("--name", required=True)
    parser.add_argument("--folder", type=Path, required=True)
    parser.add_argument("--gateway", action="append", default=[], help="NAME=SITE=FOLLOW")
    parser.add_argument("--line", action="append", default=[], help="NAME=PUBLIC=OWN=FORWARDS=MTU")
    parser.add_argument("--cable", action="append", default=[], help="NAME=PORT")
    parser.add_argument("--circuit", action="append", default=[], help="NAME=MTU")
    parser.add_argument("--line-cable", action="append", default=[], help="NAME=AT=PORT")
    parser.add_argument("--speed", type=float, default=1.0)
    parser.add_argument("--offering", action="append", default=[], help="CLOUD=FILE")
    parser.add_argument("--agreed", type=Path, help="a list of what owners accepted, as JSON")
    parser.add_argument("--capture", type=Path)
    parser.add_argument("--keylog", type=Path)
    parser.add_argument("--snmp", action="store_true", help="an agent for each gateway")
    given = parser.parse_args()
    collect_seldom()
    token = os.environ[TOKEN_VARIABLE]
    threading.Thread(target=_watch, args=(given.folder, token), daemon=True).start()
    with contextlib.suppress(KeyboardInterrupt):
        asyncio.run(_role(given, token))


def _watch(folder: Path, token: str) -> None:
    """End this process when its world is not wanted any more, whatever the rest of it does."""
    while still_wanted(folder, token):
        time.sleep(LOOK_EVERY)
    os.kill(os.getpid(), signal.SIGTERM)
    time.sleep(GRACE)
    os._exit(0)


def _offerings(texts: list[str]) -> Offerings:
    """What each cloud offers; another network than those of the design, what the practice cloud
    offers of itself."""
    from obrin.core.design.offering_file import parse_offering

    files = {cloud: Path(file) for cloud, _, file in (text.partition("=") for text in texts)}
    return Offerings(
        PRACTICE_CLOUD,
        {c: parse_offering(f.read_text(encoding="utf-8"), str(f)) for c, f in files.items()},
    )


async def _role(given: argparse.Namespace, token: str) -> None:
    from obrin.live.practice.service import Served

    served = Served(given.folder, given.name, token)
    cables = {name: int(port) for name, _, port in (c.rpartition("=") for c in given.cable)}
    if given.role == "internet":
        from obrin.live.practice.internet.internet import Capture, Dedicated, Internet, Line
        from obrin.live.practice.internet.process import InternetProcess

        lines = [Line.parse(text) for text in given.line]
        capture = Capture(given.capture) if given.capture else None
        circuits = (text.rpartition("=") for text in given.circuit)
        dedicated = [Dedicated(name, int(mtu)) for name, _, mtu in circuits]
        await InternetProcess(Internet(lines, capture, dedicated), token).run(served)
    elif given.role == "cloud":
        from obrin.live.practice.cloud.process import CloudProcess

        offering = _offerings(given.offering)
        across = {way: (name, port) for name, (way, port) in _lines(given.line_cable).items()}
        agreed = None if given.agreed is None else json.loads(given.agreed.read_text("utf-8"))
        speed = given.speed
        await CloudProcess(cables["cloud"], across, speed, token, offering, agreed).run(served)
    else:
        from obrin.live.practice.gateway.process import run_gateways
        from obrin.live.practice.gateway.site_process import SiteProcess
        from obrin.live.practice.internet.keylog import KeyLog

        keylog = KeyLog(given.keylog) if given.keylog else None
        sites: dict[str, dict[str, dict[str, int]]] = {}
        follow: dict[str, str] = {}
        for text in given.gateway:
            name, site, follow[site] = text.split("=")
            sites.setdefault(site, {})[name] = _cables_of(name, cables)
        across = _lines(given.line_cable)
        made = [
            SiteProcess(
                held, {n: e for n, e in across.items() if e[0] in held}, token, keylog, follow[site]
            )
            for site, held in sites.items()
        ]
        await run_gateways(made, served, snmp=given.snmp)


def _lines(texts: list[str]) -> dict[str, tuple[str, int]]:
    """Dedicated lines by name: where each ends here, and the port of its cable."""
    parts = (text.split("=") for text in texts)
    return {name: (at, int(port)) for name, at, port in parts}


def _cables_of(gateway: str, cables: dict[str, int]) -> dict[str, int]:
    """Ports of a gateway's cables, by uplink."""
    start = gateway + "/"
    return {n.removeprefix(start): port for n, port in cables.items() if n.startswith(start)}


if __name__ == "__main__":
    main()
