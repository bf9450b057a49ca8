"""Entry point of the practice processes: `python -m obrin.live.practice.run ROLE ...`."""

from __future__ import annotations

import argparse
import asyncio
import contextlib
from pathlib import Path

from obrin.core.address.prefix import parse_ipv4


def main() -> None:
    parser = argparse.ArgumentParser(description="One process of the practice world.")
    parser.add_argument("role", choices=("internet", "cloud", "gateway"))
    parser.add_argument("--folder", type=Path, required=True)
    parser.add_argument("--name", default="")
    parser.add_argument("--line", action="append", default=[], help="NAME=PUBLIC=OWN")
    parser.add_argument("--cable", action="append", default=[], help="NAME=PORT")
    parser.add_argument("--speed", type=float, default=1.0)
    parser.add_argument("--offering", type=Path)
    parser.add_argument("--capture", type=Path)
    parser.add_argument("--keylog", type=Path)
    given = parser.parse_args()
    cables = {name: int(port) for name, _, port in (c.rpartition("=") for c in given.cable)}
    with contextlib.suppress(KeyboardInterrupt):
        if given.role == "internet":
            from obrin.live.practice.internet import Capture, Internet, Line
            from obrin.live.practice.internet_process import InternetProcess

            lines = []
            for text in given.line:
                name, public, own = text.split("=")
                lines.append(Line(name, parse_ipv4(public), parse_ipv4(own)))
            capture = Capture(given.capture) if given.capture else None
            asyncio.run(InternetProcess(Internet(lines, capture), given.folder).run())
        elif given.role == "cloud":
            from obrin.core.design.offering_file import parse_offering
            from obrin.live.practice.cloud.process import CloudProcess

            text = given.offering.read_text(encoding="utf-8")
            offering = parse_offering(text, str(given.offering))
            cloud = CloudProcess(cables["cloud"], given.speed, given.folder, offering)
            asyncio.run(cloud.run())
        else:
            from obrin.live.practice.gateway_process import GatewayProcess
            from obrin.live.practice.keylog import KeyLog

            keylog = KeyLog(given.keylog) if given.keylog else None
            asyncio.run(GatewayProcess(given.name, cables, given.folder, keylog).run())


if __name__ == "__main__":
    main()
