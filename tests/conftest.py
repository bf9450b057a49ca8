"""How tests are run: in which order, by how many, and for how long at most.

Property tests are the same in every run and have no deadline: machines differ in speed.
"""

from __future__ import annotations

import atexit
import os
import shutil
import signal
import tempfile
from collections import Counter
from pathlib import Path

import pytest
from hypothesis import settings
from xdist.remote import Producer
from xdist.scheduler import LoadScopeScheduling

if "OBRIN_CACHE" not in os.environ:  # workers have it from who starts them
    # Tests are run as the program is; what it keeps, it keeps apart from the user's own.
    os.environ["OBRIN_CACHE"] = tempfile.mkdtemp(prefix="obrin-tests-")
    atexit.register(shutil.rmtree, os.environ["OBRIN_CACHE"], ignore_errors=True)
if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
    # What a shell starts in the background ignores interrupts, and so would all that tests start.
    signal.signal(signal.SIGINT, signal.default_int_handler)
settings.register_profile("obrin", deadline=None, derandomize=True)
settings.load_profile("obrin")


HEAVY = (
    "test_whole_program",
    "test_lifecycle",
    "test_jobs",
    "test_rehearse",
    "test_scripts",
    "test_torture",
    "test_killed",
    "test_corners",
    "test_drill",
    "test_world_and_model",
    "test_reach_and_packets",
    "test_certificates",
    "test_seen",
)
"""Files that take longest come first, so that no worker is left with one of them at the end."""


LONGEST = {"slow": 0, "long": 900}
"""Seconds that a test may take by its marker, 0 for any; others have what pyproject.toml says."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    for item in items:
        for marker, seconds in LONGEST.items():
            if item.get_closest_marker(marker) is not None:
                item.add_marker(pytest.mark.timeout(seconds))
                break
    places = {name: number for number, name in enumerate(HEAVY)}
    items.sort(key=lambda item: places.get(item.path.stem, len(HEAVY)))
    names = Counter(item.nodeid for item in items)
    twice = [name for name, count in names.items() if count > 1]
    if twice:  # workers are given tests by their names, so one of them would not be run
        raise pytest.UsageError(f"several tests have one name: {twice[:5]}")


class OneByOne(LoadScopeScheduling):
    """Tests go to workers one by one, but for those of a file that share something."""

    together = frozenset(
        path.name
        for path in Path(__file__).parent.rglob("test_*.py")
        if 'scope="module"' in path.read_text(encoding="utf-8")
    )

    def _split_scope(self, nodeid: str) -> str:
        file = nodeid.partition("::")[0]
        return file if file.rpartition("/")[2] in self.together else nodeid


def pytest_xdist_make_scheduler(config: pytest.Config, log: Producer) -> OneByOne:
    return OneByOne(config, log)


def pytest_xdist_auto_num_workers() -> int:
    """One more than there are cores: tests of the practice world mostly wait, in real time."""
    return (os.cpu_count() or 1) + 1
