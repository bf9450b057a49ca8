"""Property tests are the same in every run and have no deadline: machines differ in speed."""

from __future__ import annotations

from hypothesis import settings

settings.register_profile("obrin", deadline=None, derandomize=True)
settings.load_profile("obrin")
