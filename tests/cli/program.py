"""Runs the built program in a folder, as a user would."""

from __future__ import annotations

import functools
import json
import os
import shutil
import subprocess
import sys
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from tests.cli.standby import Standby

_BESIDE = Path(sys.executable).with_name("obrin")
PROGRAM = str(_BESIDE) if _BESIDE.exists() else shutil.which("obrin") or "obrin"
"""The program of the environment that runs the tests, before any other on the path."""


@dataclass
class Run:
    code: int
    out: str
    err: str

    @property
    def json(self):
        return json.loads(self.out)

    def good(self) -> Run:
        assert self.code == 0, f"exit {self.code}\n{self.out}\n{self.err}"
        return self

    def bad(self, code: int, *words: str) -> Run:
        assert self.code == code, f"exit {self.code}\n{self.out}\n{self.err}"
        assert "Traceback" not in self.out + self.err
        for word in words:
            assert word in self.out + self.err, f"{word!r} not in\n{self.out}\n{self.err}"
        return self


@functools.cache
def _standby() -> Standby:
    return Standby()


class Folder:
    """`real` starts the executable for every command; else forks of the program on standby run."""

    def __init__(self, path: Path, *, real: bool = False) -> None:
        self.path = path
        self._real = real

    def obrin(self, *arguments: str, given: str = "", timeout: float = 90, **env: str) -> Run:
        if not self._real and not any(name.startswith(("PYTHON", "_OBRIN")) for name in env):
            whole = {**os.environ, "COLUMNS": "110", **env}
            return Run(*_standby().run(arguments, self.path, given, timeout, whole))
        done = subprocess.run(
            [PROGRAM, *arguments],
            cwd=self.path,
            input=given,
            capture_output=True,
            text=True,
            timeout=timeout,
            env={**os.environ, "COLUMNS": "110", **env},
            check=False,
        )
        return Run(done.returncode, done.stdout, done.stderr)

    def all_bad(self, cases: Iterable[tuple[tuple[str, ...], int, str]]) -> None:
        """Each gets its exit code and message, and none of them changes a file."""
        listed, before = list(cases), self.files()
        with ThreadPoolExecutor(3) as pool:
            runs = list(pool.map(lambda case: self.obrin(*case[0]), listed))
        for run, (_, code, words) in zip(runs, listed, strict=True):
            run.bad(code, words)
        assert self.files() == before

    def write(self, name: str, text: str) -> Path:
        path = self.path / name
        path.write_text(text, encoding="utf-8")
        return path

    def files(self) -> dict[str, bytes]:
        return {
            str(p.relative_to(self.path)): p.read_bytes()
            for p in sorted(self.path.rglob("*"))
            if p.is_file()
        }


def too_early(err: str) -> bool:
    """Whether an interrupt met Python, or the installer's script, before our `run` began: then it
    is a traceback that has no function of ours."""
    if "Traceback" not in err:
        return False
    lines = [line for line in err.replace(PROGRAM, "").splitlines() if "obrin/" in line]
    return all(line.endswith("in <module>") for line in lines)
