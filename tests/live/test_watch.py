"""`status --watch` and `--metrics`: what changes is told once, kept, and read by programs."""

from __future__ import annotations

import json
import re
import threading
import time
from pathlib import Path

import pytest

from obrin.core.errors import OutsideError
from obrin.live.drivers.observations import NOT_ASKED, EndStatus, silent
from obrin.live.observe.history import History
from obrin.live.observe.metrics import metrics_text
from obrin.live.observe.tunnel import DOWN, ODD, REST, UNKNOWN, UP, TunnelStatus
from tests.cli.program import Folder
from tests.doubles import DESIGN

pytestmark = pytest.mark.long

GOOD = EndStatus(ike="established", child="up", packets_in=5, packets_out=7, bgp="established")
BAD = EndStatus(ike="down", child="down", bgp="idle")


def tunnel(name: str = "link/a", end: EndStatus = GOOD, **more) -> TunnelStatus:
    return TunnelStatus(tunnel=name, rank=1, site=end, cloud=end, **more)


def test_only_changes_are_kept_with_why(tmp_path: Path) -> None:
    now = iter(range(1000))
    history = History(tmp_path / "h.sqlite", lambda: float(next(now)))
    for found, states in (
        ([tunnel(), tunnel("link/b")], [UP, UP]),
        ([tunnel(), tunnel("link/b")], []),
        ([tunnel(end=BAD, notes=("the peer said no",)), tunnel("link/b")], [DOWN]),
        ([tunnel(), tunnel("link/b", BAD, rests=True)], [UP, REST]),
        ([tunnel(disagreements=("odd",)), tunnel("link/b", NOT_ASKED)], [ODD, UNKNOWN]),
    ):
        assert [change.state for change in history.note(found)] == states
    assert [c.why for c in history.changes(10) if c.state == DOWN] == ["the peer said no"]
    history.close()
    again = History(tmp_path / "h.sqlite")
    assert {name: c.state for name, c in again.last().items()} == {"link/a": ODD, "link/b": UNKNOWN}
    again.close()
    (tmp_path / "broken").write_text("no database at all, but long enough to be looked at")
    with pytest.raises(OutsideError, match="history begins anew"):
        History(tmp_path / "broken")


def test_metrics_are_openmetrics_text() -> None:
    odd = tunnel('a"b\\c', silent("gone"))
    text = metrics_text([tunnel(), odd], {"gw": -7200.0})
    lines = text.splitlines()
    assert lines[-1] == "# EOF"
    assert 'obrin_tunnel_state{tunnel="link/a",obrin_tunnel_state="up"} 1' in lines
    assert 'obrin_packets_out_total{tunnel="link/a",end="site"} 7' in lines
    assert 'obrin_end_answers{tunnel="a\\"b\\\\c",end="site"} 0' in lines
    assert 'obrin_clock_wrong_seconds{gateway="gw"} -7200' in lines
    families: list[str] = []
    for line in lines[:-1]:
        if line.startswith("# TYPE "):
            assert re.fullmatch(r"# TYPE [a-z_]+ (gauge|counter|stateset)", line)
            families.append(line.split()[2])
        elif not line.startswith("# HELP "):
            assert line.startswith(families[-1]), line
    assert len(set(families)) == len(families)


def test_a_link_that_is_watched(tmp_path: Path) -> None:
    folder = Folder(tmp_path, real=True)
    folder.write("design.yaml", DESIGN)
    folder.obrin("settle").good()
    try:
        folder.obrin("practice", "start", "--speed", "5000").good()
        folder.obrin("connect").good()
        told = folder.obrin("status", "--metrics").good().out
        assert 'obrin_tunnel_state{tunnel="quay-apps/a",obrin_tunnel_state="up"} 1' in told

        def cut() -> None:
            time.sleep(2.0)
            folder.obrin("practice", "cut", "tunnel", "quay-apps/a").good()

        thread = threading.Thread(target=cut)
        thread.start()
        run = folder.obrin("status", "--watch", "--for", "14 s", "--every", "0.5", "--json")
        thread.join()
        changes = [json.loads(line) for line in run.out.splitlines()]
        assert [c["state"] for c in changes if c["tunnel"] == "quay-apps/b"] == ["up"]
        states = [c["state"] for c in changes if c["tunnel"] == "quay-apps/a"]
        assert states[0] == "up"
        assert "DOWN" in states
        assert run.code == 1
        folder.obrin("practice", "heal").good()
        shown = folder.obrin("status", "--watch", "--for", "1 s").out
        assert "What changed:" in shown
        assert "quay-apps/a DOWN" in shown
        folder.obrin("status", "--watch", "--for", "soon").bad(2, "--for: ")
    finally:
        folder.obrin("practice", "stop")
