"""Our TCP against the kernel's over ways that lose and reorder: 300 KB each way within 10 s."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

pytestmark = [
    pytest.mark.long,
    pytest.mark.skipif(
        not Path("/dev/net/tun").exists() or not shutil.which("ip") or os.geteuid() != 0,
        reason="needs root, TUN devices and iproute2",
    ),
]


@pytest.mark.parametrize("caller", ["we", "kernel"])
@pytest.mark.parametrize("password", ["", "secret"], ids=["plain", "signed"])
@pytest.mark.parametrize(("loss", "reorder"), [(0, 0), (0.02, 0), (0.08, 0), (0, 0.2), (0.02, 0.2)])
def test_each_way_within_ten_seconds(
    loss: float, reorder: float, password: str, caller: str
) -> None:
    command = [
        sys.executable,
        "-m",
        "tests.live.kernel_tcp",
        str(loss),
        str(reorder),
        password,
        caller,
    ]
    done = subprocess.run(command, capture_output=True, text=True, timeout=60, check=False)
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout)
    if password and "Protocol not available" in found["error"]:
        pytest.skip("this kernel signs no TCP")
    assert found["whole"], found
    assert found["there"] < 10.0, found
    if not loss or caller == "we":  # the way back is the kernel's own doing
        assert found["back"] < 10.0, found
