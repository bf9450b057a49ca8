"""The program on standby: imported once, and forked for each run that a test asks for.

Most of a short command's time is Python starting and importing. A fork of a process that has done
both runs the same entry point, with its own folder, environment, input and output. The tests of the
whole program start the real executable, and so do those that change how Python or a shell starts it.
"""

from __future__ import annotations

import atexit
import importlib
import json
import os
import pkgutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
import traceback
from pathlib import Path

from tests.cli import torture


class Standby:
    """One server process for this test process; `run` may be called from several threads."""

    def __init__(self) -> None:
        self._folder = tempfile.TemporaryDirectory(prefix="obrin-standby-")
        self._address = str(Path(self._folder.name) / "s")
        self._process = subprocess.Popen(
            [sys.executable, "-m", "tests.cli.standby", self._address],
            stdin=subprocess.DEVNULL,
            cwd=Path(__file__).parents[2],
        )
        atexit.register(self._stop)
        for _ in range(600):
            if Path(self._address).exists():
                return
            time.sleep(0.05)
        raise RuntimeError("the program on standby did not start")

    def _stop(self) -> None:
        self._process.kill()
        self._process.wait()
        self._folder.cleanup()

    def run(
        self,
        arguments: tuple[str, ...],
        cwd: Path,
        given: str,
        timeout: float,
        env: dict[str, str],
    ) -> tuple[int, str, str]:
        """Exit code, stdout and stderr. Raises TimeoutError."""
        with tempfile.TemporaryDirectory(dir=self._folder.name) as name:
            files = [Path(name) / part for part in ("in", "out", "err")]
            files[0].write_text(given, encoding="utf-8")
            asked = {
                "arguments": arguments,
                "cwd": str(cwd),
                "env": env,
                "files": list(map(str, files)),
            }
            with socket.socket(socket.AF_UNIX) as connection:
                connection.settimeout(timeout)
                connection.connect(self._address)
                connection.sendall(json.dumps(asked).encode() + b"\n")
                answer = connection.recv(16)
            if not answer and torture.VARIABLE not in env:
                raise RuntimeError(f"obrin {' '.join(arguments)} ended without an exit code")
            answer = answer or str(torture.KILLED).encode()
            out, err = (file.read_text(encoding="utf-8") for file in files[1:])
            return int(answer), out, err


def serve(address: str) -> None:
    """Fork for each connection, forever."""
    for module in pkgutil.walk_packages(importlib.import_module("obrin").__path__, "obrin."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    with socket.socket(socket.AF_UNIX) as server:
        server.bind(address + ".new")
        server.listen(16)
        os.rename(address + ".new", address)
        while True:
            connection, _ = server.accept()
            if os.fork() == 0:
                server.close()
                _run(connection)
            connection.close()


def _run(connection: socket.socket) -> None:
    """In the child: become the program, and tell its exit code."""
    from obrin.cli.entry import run

    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    asked = json.loads(connection.makefile("rb").readline())
    for number, (file, flags) in enumerate(
        zip(
            asked["files"],
            (os.O_RDONLY, os.O_WRONLY | os.O_CREAT, os.O_WRONLY | os.O_CREAT),
            strict=True,
        )
    ):
        os.dup2(os.open(file, flags, 0o600), number)
    os.chdir(asked["cwd"])
    os.environ.clear()
    os.environ.update(asked["env"])
    sys.argv = ["obrin", *asked["arguments"]]
    if torture.VARIABLE in os.environ:
        torture.arm(os.environ[torture.VARIABLE])
    code: object = 1
    try:
        code = run()
    except SystemExit as error:
        code = error.code
    except BaseException:
        traceback.print_exc()
    for stream in (sys.stdout, sys.stderr):
        stream.flush()
    connection.sendall(str(code if isinstance(code, int) else int(code is not None)).encode())
    os._exit(0)


if __name__ == "__main__":
    serve(sys.argv[1])
