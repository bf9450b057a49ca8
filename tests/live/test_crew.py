"""Work in pieces: the same answer to the byte whoever does it, also where somebody is lost in the
middle. Processes and the cluster are real ones."""

from __future__ import annotations

import os
import pickle
import signal
import sys
import time
from pathlib import Path

import pytest

from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.crew import HERE, Job, batches
from obrin.core.drill.availability import Repair, availability
from obrin.core.drill.breaking import breaking
from obrin.core.drill.jobs import outcomes
from obrin.core.drill.sweep import Sweep, failures
from obrin.core.errors import ObrinError, OutsideError
from obrin.core.handover.configured import device_config
from obrin.core.handover.pack import gateways_of
from obrin.core.reach.matrix import matrix
from obrin.core.reach.model import ReachModel
from obrin.live.crew.processes import Processes
from tests.cli.program import Folder
from tests.doubles import DESIGN, settled_of
from tests.live.buildable import Drawn

WORKED = "done"


@pytest.mark.parametrize("seed", range(20))
def test_a_settled_design_is_the_same_when_it_was_sent(seed: int) -> None:
    settled = settled_of(Drawn(seed).text)
    sent = pickle.loads(pickle.dumps(settled))
    assert sent == settled
    for name in gateways_of(settled):
        assert device_config(sent, name) == device_config(settled, name)


def _make(folder: str) -> Path:
    return Path(folder)


def _worker(folder: Path, number: int) -> tuple[int, int]:
    """The seventh piece kills whoever has it, the first time."""
    killed = folder / "killed"
    if number == 7 and not killed.exists():
        killed.touch()
        os.kill(os.getpid(), signal.SIGKILL)
    return number, number * number


def _doomed(folder: Path, number: int) -> int:
    os.kill(os.getpid(), signal.SIGKILL)
    return number


def _refuses(folder: Path, number: int) -> int:
    if number == 3:
        raise ObrinError("three is refused")
    return number


def test_what_a_killed_process_had_is_done_again(tmp_path: Path) -> None:
    crew = Processes(2)
    found = list(crew.each(Job(_make, _worker), str(tmp_path), range(40)))
    crew.close()
    assert (tmp_path / "killed").exists()
    assert found == [(n, n * n) for n in range(40)]


@pytest.mark.long
def test_pieces_that_kill_whoever_has_them_are_given_up(tmp_path: Path) -> None:
    crew = Processes(2)
    with pytest.raises(OutsideError, match="end again and again"):
        list(crew.each(Job(_make, _doomed), str(tmp_path), range(4)))
    crew.close()


def test_what_a_piece_raises_comes_back(tmp_path: Path) -> None:
    crew = Processes(2)
    found = crew.each(Job(_make, _refuses), str(tmp_path), range(9))
    assert [next(found) for _ in range(3)] == [0, 1, 2]
    with pytest.raises(ObrinError, match="three is refused"):
        next(found)
    crew.close()


def test_batches_have_all_in_order() -> None:
    assert list(batches(range(5), 2)) == [(0, 1), (2, 3), (4,)]
    assert list(batches([], 2)) == []


def everything(crew) -> list:
    """All that is done in pieces, of some drawn designs."""
    found: list = []
    for seed in (3, 8):
        settled = settled_of(Drawn(seed).text)
        sweep = Sweep(settled, PRACTICE_CLOUD)
        known = sweep.elements()
        found += outcomes(crew, sweep, failures(known, 2))
        found += breaking(sweep, known, 3, crew)
        found += matrix(ReachModel(settled), closed=True, crew=crew)
        repairs = {element: Repair(99.0, 1.0) for element in known}
        found += availability(sweep, repairs, draws=100, seed=1, crew=crew)
    return found


def test_processes_find_what_one_finds() -> None:
    crew = Processes(2)
    assert everything(crew) == everything(HERE)
    crew.close()


@pytest.fixture(scope="module")
def local():
    """A scheduler and two workers on this machine."""
    distributed = pytest.importorskip("distributed")
    cluster = distributed.LocalCluster(
        n_workers=2, threads_per_worker=1, dashboard_address=None, host="127.0.0.1", silence_logs=50
    )
    yield cluster
    cluster.close(timeout=5)


@pytest.mark.long
def test_a_cluster_finds_what_one_finds(local, tmp_path: Path) -> None:
    from obrin.live.crew.cluster import Cluster

    crew = Cluster(local.scheduler_address)
    assert everything(crew) == everything(HERE)
    crew.close()
    folder = Folder(tmp_path)
    folder.write("design.yaml", DESIGN)
    folder.obrin("settle").good()
    for command in (("drill", "--json"), ("drill", "--depth", "2"), ("reach", "--all", "--csv")):
        alone = folder.obrin(*command)
        assert alone.out
        assert folder.obrin(*command, "--workers", "2").out == alone.out
        there = folder.obrin(*command, "--cluster", local.scheduler_address, timeout=60)
        assert (there.out, there.code) == (alone.out, alone.code)


def _slow(folder: Path, number: int) -> int:
    time.sleep(0.05)
    return number


@pytest.mark.parametrize("lost", [pytest.param(1, marks=pytest.mark.long), 2])
def test_what_lost_workers_of_a_cluster_had_is_done_again(local, tmp_path: Path, lost: int) -> None:
    from obrin.live.crew.cluster import Cluster

    crew = Cluster(local.scheduler_address)
    victims = [worker.pid for worker in local.workers.values()][:lost]
    found = []
    for number in crew.each(Job(_make, _slow), str(tmp_path), range(60)):
        if number == 8:
            for victim in victims:
                os.kill(victim, signal.SIGKILL)
        found.append(number)
    crew.close()
    assert found == list(range(60))
    assert not set(victims) & {worker.pid for worker in local.workers.values()}


@pytest.mark.parametrize(
    ("address", "safe"),
    [
        ("tcp://127.0.0.1:8786", True),
        ("127.0.0.1:8786", True),
        ("localhost:8786", True),
        ("tcp://[::1]:8786", True),
        ("tls://192.0.2.7:8786", True),
        ("tcp://192.0.2.7:8786", False),
        ("192.0.2.7:8786", False),
        ("ws://192.0.2.7:8786", False),
        ("tcp://127.0.0.1.example:8786", False),
        ("tcp://127.0.0.1@192.0.2.7:8786", False),
        ("tcp://[::1", False),
        ("", False),
    ],
)
def test_a_cluster_that_anybody_could_answer_for_wants_a_word(address: str, safe: bool) -> None:
    from obrin.live.crew import cluster

    assert cluster.is_safe(address) is safe
    if not safe:
        with pytest.raises(ObrinError, match="--trust-cluster"):
            cluster.Cluster(address)


@pytest.mark.parametrize("said", [b"", b"HTTP/1.1 400 Bad Request\r\n\r\n", b"\xff" * 4096])
def test_a_port_that_is_no_scheduler_ends_in_one_line(said: bytes, monkeypatch, capfd) -> None:
    """Silent, or with frames that are not the engine's."""
    from obrin.live.crew import cluster
    from tests.live.test_hostile_servers import server

    monkeypatch.setattr(cluster, "PATIENCE", 2.0)

    def answer(connection) -> None:
        connection.sendall(said)
        time.sleep(8)

    with server(answer) as port:
        begun = time.monotonic()
        with pytest.raises(ObrinError, match="no scheduler answers"):
            cluster.Cluster(f"tcp://127.0.0.1:{port}")
        assert time.monotonic() - begun < 6.0
    assert "Traceback" not in capfd.readouterr().err


def test_nobody_who_works_is_said_so(tmp_path: Path, monkeypatch) -> None:
    folder = Folder(tmp_path)
    folder.write("design.yaml", DESIGN)
    folder.obrin("settle").good()
    folder.obrin("drill", "--cluster", "no address at all", timeout=60).bad(2, "--trust-cluster")
    trusted = ("--cluster", "no address at all", "--trust-cluster")
    folder.obrin("drill", *trusted, timeout=60).bad(3, "no scheduler")
    folder.obrin("reach", "--trust-cluster").bad(2, "belongs to --cluster")
    folder.obrin("reach", "--cluster", "x", "--workers", "2").bad(2, "or --cluster")
    folder.obrin("reach", "--workers", "0").bad(2, "--workers")
    from obrin.live.crew import cluster

    monkeypatch.setattr(cluster, "PATIENCE", 0.3)
    with pytest.raises(ObrinError, match="dask scheduler"):
        cluster.Cluster("tcp://127.0.0.1:1")
    monkeypatch.setitem(sys.modules, "distributed", None)
    with pytest.raises(ObrinError, match=r"obrin\[cluster\]"):
        cluster.Cluster("tcp://127.0.0.1:1")
