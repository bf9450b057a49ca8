"""Files that are either whole or not there, and secrets that version control never sees.

A file is written beside its place under another name and renamed. Whoever is killed on the way
leaves that other name behind; it is cleared away when the same file is written next. A secret is
written in a folder of that other name, which tells version control to ignore all of it, so that
not even a left-over of a secret can be added to a repository by mistake; it is cleared away when
any file is written there. No two processes share such a name: any number may write side by side.

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
ASIDE = ".new"
SECRET = "secret"
"""The name of a secret on its way, in a folder of its own."""
LOCK = "lock"
"""The name of what a writer holds, in Obrin's own folder of a project."""


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
                raise OutsideError("is not an ordinary file")
            if status.st_size <= most:
                return file.read(most)
    except FileNotFoundError:
        raise
    except OSError as error:
        raise OutsideError(f"cannot be read: {error.strerror or error}") from None
    except ValueError as error:
        raise OutsideError(f"is not a name of a file: {error}") from None
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


def take_folder_away(path: Path) -> None:
    """A folder of ours with nothing in it but its note and its lock: moved aside first, so that
    nobody finds it without its note. What somebody put there meanwhile comes back."""
    aside = path.with_name(f".{path.name}.{os.getpid()}{ASIDE}")
    with contextlib.suppress(OSError):
        os.rename(path, aside)
        kept = {entry.name for entry in os.scandir(aside)} - {LOCK, IGNORE}
        if kept and not path.exists():
            os.rename(aside, path)
        else:
            _remove(aside)


def keep_out(folder: Path, *patterns: str) -> None:
    """Version control ignores these names in a folder of ours, beside those that it ignores."""
    note, before = folder / IGNORE, list[str]()
    with contextlib.suppress(OSError, ValueError):
        if not note.is_symlink():
            before = note.read_text(encoding="utf-8").splitlines()
    lines = [*before, *(pattern for pattern in patterns if pattern not in before)]
    if lines != before:
        write_whole(note, "".join(f"{line}\n" for line in lines), 0o644)


def write_whole(path: Path, text: str, mode: int = 0o600, *, durable: bool = False) -> None:
    """Write to a temporary file, then rename. Raises OutsideError."""
    write_whole_bytes(path, text.encode("utf-8", "surrogateescape"), mode, durable=durable)


def write_whole_bytes(path: Path, data: bytes, mode: int = 0o644, *, durable: bool = False) -> None:
    """The same for bytes.

    `durable`: the file and its name are on the disk before this returns, since losing them would
    lose keys or decisions. Nobody else may read it (`mode` 0600): it is taken for a secret.
    """
    aside = path.with_name(f".{path.name}.{os.getpid()}{ASIDE}")
    temporary = aside
    try:
        _remove(aside)  # numbers of processes come again: ours was somebody's before
        _clear_left_overs(path)
        if not mode & 0o077:
            aside.mkdir(mode=0o700)
            _create(aside / IGNORE, b"*\n", 0o600, durable=False)
            temporary = aside / SECRET
        _create(temporary, data, mode, durable=durable)
        os.replace(temporary, path)
        if durable:
            _sync_folder(path.parent)
    except OSError as error:
        raise cannot("write", path, error) from error
    finally:
        _remove(aside)


def _create(path: Path, data: bytes, mode: int, *, durable: bool) -> None:
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
    """What killed runs left of this file and of secrets, never what a living one is writing."""
    with os.scandir(path.parent) as entries:
        beside = [entry for entry in entries if entry.name.endswith(ASIDE)]
    for entry in beside:
        name, _, pid = entry.name.removesuffix(ASIDE).rpartition(".")
        secret = entry.is_dir(follow_symlinks=False)
        if pid.isdecimal() and not lives(int(pid)) and (secret or name == f".{path.name}"):
            _remove(path.with_name(entry.name))


def _remove(aside: Path) -> None:
    """What stands beside its place, with what we put there and no more, as far as that can be."""
    with contextlib.suppress(OSError):
        if aside.is_dir() and not aside.is_symlink():
            for name in (SECRET, LOCK, IGNORE):
                (aside / name).unlink(missing_ok=True)
            aside.rmdir()
        else:
            aside.unlink(missing_ok=True)


def lives(pid: int) -> bool:
    """Whether a process has this number. It may be anybody's: good for looking, not for ending."""
    try:
        os.kill(pid, 0)
    except PermissionError:
        return True
    except (OSError, OverflowError):
        return False
    return True
