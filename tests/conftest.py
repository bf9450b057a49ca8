"""Property tests are the same in every run and have no deadline: machines differ in speed."""

from __future__ import annotations

import os

from hypothesis import settings

settings.register_profile("obrin", deadline=None, derandomize=True)
settings.load_profile("obrin")


def pytest_xdist_auto_num_workers() -> int:
    """One more than there are cores: tests of the practice world mostly wait, in real time."""
    return (os.cpu_count() or 1) + 1
