"""Files that are either whole or not there, and secrets that version control never sees.

A file is written beside its place under another name and renamed. Whoever is killed on the way
leaves that other name behind; it is cleared away when the same file is written next. A secret's
other name stands in a folder of its own that tells version control to ignore all of it, so that
not even a left-over of a secret can be added to a repository by mistake.

Nothing is written through a symbolic link: neither into a folder that is one, nor into a file that
is (a rename replaces the link and leaves what it points to alone).
"""

from __future__ import annotations

import contextlib
import os
import stat
from pathlib import Path

from obrin.core.errors import OutsideError

IGNORE = ".gitignore"
ASIDE = ".obrin-new"
"""The ignored folder for secrets on their way, beside where they go."""


def cannot(what: str, path: Path, error: OSError) -> OutsideError:
    """One wording for what the system refuses."""
    return OutsideError(f"cannot {what} {path}: {error.strerror or error}. Check the folder")


def read_file(path: Path, most: int) -> bytes:
    """An ordinary file of bounded size: no pipe that never ends, no device.

    Raises FileNotFoundError, and OutsideError with words that stand after the file's name.
    """
    try:
        # Not even opening a pipe may wait for somebody at its other end.
        descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        with os.fdopen(descriptor, "rb") as file:
            status = os.fstat(descriptor)
            if not stat.S_ISREG(status.st_mode):
                raise OutsideError("is no ordinary file")
            if status.st_size <= most:
                return file.read(most)
    except FileNotFoundError:
        raise
    except OSError as error:
        raise OutsideError(f"cannot be read: {error.strerror or error}") from None
    except ValueError as error:
        raise OutsideError(f"is no name of a file: {error}") from None
    raise OutsideError(f"has {status.st_size:,} bytes; at most {most:,} are read")


def folder_of_ours(path: Path) -> None:
    """Make a folder, or see that it is one and no symbolic link. Raises OutsideError."""
    try:
        path.mkdir(exist_ok=True)
        if path.is_symlink():
            raise OutsideError(
                f"{path} is a symbolic link. Obrin writes into no folder by way of one; remove it"
            )
    except OSError as error:
        raise cannot("make", path, error) from error


def private_folder(path: Path) -> None:
    """Make a folder that only its owner can enter and that version control leaves alone.

    An interrupted one is finished: the note to version control is there before anything else.
    """
    try:
        path.mkdir(mode=0o700)
    except FileExistsError:
        pass
    except OSError as error:
        raise cannot("make", path, error) from error
    folder_of_ours(path)
    keep_out(path, "*")


def keep_out(folder: Path, *patterns: str) -> None:
    """Version control ignores these names in a folder of ours, beside those that it ignores."""
    note, before = folder / IGNORE, list[str]()
    with contextlib.suppress(OSError, ValueError):
        if not note.is_symlink():
            before = note.read_text(encoding="utf-8").splitlines()
    lines = [*before, *(pattern for pattern in patterns if pattern not in before)]
    if lines != before:
        write_whole(note, "".join(f"{line}\n" for line in lines), 0o644)


TRIES = 50


def write_whole(path: Path, text: str, mode: int = 0o600, *, durable: bool = False) -> None:
    """Write to a temporary file, then rename. Raises OutsideError."""
    write_whole_bytes(path, text.encode("utf-8", "surrogateescape"), mode, durable=durable)


def write_whole_bytes(path: Path, data: bytes, mode: int = 0o644, *, durable: bool = False) -> None:
    """The same for bytes.

    `durable`: the file and its name are on the disk before this returns, since losing them would
    lose keys or decisions. Nobody else may read it (`mode` 0600): it is taken for a secret.
    """
    secret = not mode & 0o077
    aside = path.parent / ASIDE if secret else path.parent
    temporary = aside / f".{path.name}.{os.getpid()}.new"
    try:
        _clear_left_overs(path)
        for left in reversed(range(TRIES)):
            try:
                if secret:
                    aside.mkdir(mode=0o700, exist_ok=True)
                    _create(aside / IGNORE, b"*\n", 0o600, durable=False)
                _create(temporary, data, mode, durable=durable)
                break
            except FileNotFoundError:
                # Somebody who was done has just taken the folder away.
                if not secret or not left or not path.parent.is_dir():
                    raise
        os.replace(temporary, path)
        if durable:
            _sync_folder(path.parent)
    except OSError as error:
        raise cannot("write", path, error) from error
    finally:
        with contextlib.suppress(OSError):
            temporary.unlink(missing_ok=True)
        if secret:
            _remove_aside(aside)


def _create(path: Path, data: bytes, mode: int, *, durable: bool) -> None:
    with contextlib.suppress(FileNotFoundError):
        path.unlink()
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW
    descriptor = os.open(path, flags, mode)
    with os.fdopen(descriptor, "wb") as file:
        file.write(data)
        if durable:
            file.flush()
            os.fsync(file.fileno())


def _sync_folder(folder: Path) -> None:
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def _clear_left_overs(path: Path) -> None:
    """What killed runs left of this file, never what a living one is writing."""
    start, end = f".{path.name}.", ".new"
    for folder in (path.parent, path.parent / ASIDE):
        if folder.is_symlink() or not folder.is_dir():
            continue
        for name in os.listdir(folder) if folder.name == ASIDE else _beside(folder, start):
            pid = name.removesuffix(end).rpartition(".")[2]
            if name.endswith(end) and pid.isdigit() and not lives(int(pid)):
                (folder / name).unlink(missing_ok=True)


def _beside(folder: Path, start: str) -> list[str]:
    with os.scandir(folder) as entries:
        return [entry.name for entry in entries if entry.name.startswith(start)]


def lives(pid: int) -> bool:
    """Whether a process has this number. It may be anybody's: good for looking, not for ending."""
    try:
        os.kill(pid, 0)
    except PermissionError:
        return True
    except (OSError, OverflowError):
        return False
    return True


def _remove_aside(aside: Path) -> None:
    """Only when nobody else's file is in it."""
    with contextlib.suppress(OSError):
        if os.listdir(aside) == [IGNORE]:
            (aside / IGNORE).unlink()
        aside.rmdir()
