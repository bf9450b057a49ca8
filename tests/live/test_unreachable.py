"""ICMP errors of a router on the way, by an ordinary kernel: who says that it is unreachable, and
whether a filter forbids it."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

pytestmark = pytest.mark.long

HOST, ROUTER = f"obrin-host-{os.getpid()}", f"obrin-router-{os.getpid()}"
SETUP = f"""
ip netns add {HOST}
ip netns add {ROUTER}
ip -n {HOST} link add near type veth peer name far
ip -n {HOST} link set far netns {ROUTER}
ip -n {HOST} addr add 192.0.2.2/24 dev near
ip -n {HOST} link set near up
ip -n {HOST} link set lo up
ip -n {HOST} route add default via 192.0.2.1
ip -n {ROUTER} addr add 192.0.2.1/24 dev far
ip -n {ROUTER} link set far up
ip -n {ROUTER} link set lo up
ip netns exec {ROUTER} sysctl -qw net.ipv4.ip_forward=1 net.ipv4.icmp_ratelimit=0
ip -n {ROUTER} route add prohibit 198.51.100.0/24
ip -n {ROUTER} route add unreachable 203.0.113.0/24
"""
ASKS = """
import json, sys, time
from obrin.core.address.prefix import parse_address
from obrin.live.observe.here import connect, datagram, ping
found = []
for text in ("198.51.100.7", "203.0.113.7"):
    target = parse_address(text)
    for ask, of in ((ping, 84), (connect, 443), (datagram, 53)):
        time.sleep(1.2)  # the kernel limits how often it says so
        reply = ask(target, of)
        error = reply.error
        found.append([reply.answered, error and [str(error.sender), error.kind, error.code]])
print(json.dumps(found))
"""


@pytest.fixture
def between() -> Iterator[None]:
    if shutil.which("ip") is None or os.geteuid() != 0:
        pytest.skip("no network namespaces here")
    try:
        for line in SETUP.strip().splitlines():
            made = subprocess.run(line.split(), capture_output=True, text=True, check=False)
            if made.returncode:
                pytest.skip(f"no network namespaces here: {made.stderr.strip()}")
        yield
    finally:
        for name in (HOST, ROUTER):
            subprocess.run(["ip", "netns", "del", name], capture_output=True, check=False)


@pytest.mark.usefixtures("between")
def test_a_router_that_refuses_is_named_with_its_reason() -> None:
    source = str(Path(__file__).parents[2] / "src")
    run = subprocess.run(
        ["ip", "netns", "exec", HOST, sys.executable, "-c", ASKS],
        env={**os.environ, "PYTHONPATH": source}, capture_output=True, text=True, check=True,
        timeout=60,
    )  # fmt: skip
    forbidden, unreachable = ["192.0.2.1", 3, 13], ["192.0.2.1", 3, 1]
    assert json.loads(run.stdout) == [[False, forbidden]] * 3 + [[False, unreachable]] * 3
