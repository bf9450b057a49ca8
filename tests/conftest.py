"""Property tests are the same in every run and have no deadline: machines differ in speed."""

from __future__ import annotations

import os

import pytest
from hypothesis import settings

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


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """A file stays together, as it is given to one worker."""
    places = {name: number for number, name in enumerate(HEAVY)}
    items.sort(key=lambda item: places.get(item.path.stem, len(HEAVY)))


def pytest_xdist_auto_num_workers() -> int:
    """One more than there are cores: tests of the practice world mostly wait, in real time."""
    return (os.cpu_count() or 1) + 1
