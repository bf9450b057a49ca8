"""Any program as a host of the practice world: in a network namespace of its own, with an interface
whose packets are those of the host.

The namespace belongs to this process and nobody else, so the kernel takes it away when the process
ends, however it ends. Making one needs root, or a kernel that gives every user namespaces.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import selectors
import shutil
import signal
import socket
import struct
import subprocess
import threading
import time
from collections.abc import Sequence
from pathlib import Path

from obrin.core.address.prefix import Address
from obrin.core.errors import OutsideError
from obrin.live.practice.internet.cable import PLUG, UNPLUG, unwrap

CLONE_NEWUSER, CLONE_NEWNET = 0x10000000, 0x40000000
PR_SET_PDEATHSIG = 1
"""The signal that a process gets when the one that started it ends."""
TUNSETIFF, IFF_TUN, IFF_NO_PI = 0x400454CA, 0x0001, 0x1000
INTERFACE = "host0"
SAY_EVERY = 4.0
"""Seconds between two signs of life."""


def run_as_host(
    addresses: Sequence[Address], port: int, token: bytes, command: Sequence[str], mtu: int = 1500
) -> int:
    """The program's exit code. Raises OutsideError, with why, where this machine cannot."""
    tool = shutil.which("ip")
    if tool is None:
        raise OutsideError("the program 'ip' (iproute2) is not here, which sets up the interface")
    cable = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    try:
        # It stays in the world outside, where the practice world is.
        cable.connect(("127.0.0.1", port))
        cable.send(token + PLUG)
        _leave()
        tun = _interface()
        _set_up(tool, addresses, mtu)
        return _run(command, tun, cable, token)
    finally:
        with contextlib.suppress(OSError):
            cable.send(token + UNPLUG)
        cable.close()


def _leave() -> None:
    """Move this process into a network namespace of its own."""
    libc = ctypes.CDLL(None, use_errno=True)
    root = os.geteuid() == 0
    user, group = os.getuid(), os.getgid()
    if not hasattr(libc, "unshare"):
        raise OutsideError("this system has no network namespaces (they are Linux's)")
    if libc.unshare(CLONE_NEWNET if root else CLONE_NEWUSER | CLONE_NEWNET):
        why = os.strerror(ctypes.get_errno())
        raise OutsideError(f"no network namespace can be made: {why}. Run this as root")
    if not root:
        try:
            Path("/proc/self/setgroups").write_text("deny", encoding="ascii")
            Path("/proc/self/uid_map").write_text(f"0 {user} 1", encoding="ascii")
            Path("/proc/self/gid_map").write_text(f"0 {group} 1", encoding="ascii")
        except OSError as error:
            raise OutsideError(f"no network namespace can be made: {error.strerror}") from error


def _interface() -> int:
    """A TUN device, by its descriptor."""
    import fcntl

    try:
        tun = os.open("/dev/net/tun", os.O_RDWR | os.O_CLOEXEC)
        fcntl.ioctl(tun, TUNSETIFF, struct.pack("16sH", INTERFACE.encode(), IFF_TUN | IFF_NO_PI))
    except OSError as error:
        raise OutsideError(
            f"no TUN device can be made: {error.strerror}. Run this as root"
        ) from error
    return tun


def _set_up(tool: str, addresses: Sequence[Address], mtu: int) -> None:
    for words in (
        ["link", "set", "lo", "up"],
        ["link", "set", INTERFACE, "mtu", str(mtu), "up"],
        *(["addr", "add", f"{a}/{a.bits}", "dev", INTERFACE, *_more(a)] for a in addresses),
        *([_family(a), "route", "add", "default", "dev", INTERFACE] for a in addresses),
    ):
        done = subprocess.run([tool, *words], capture_output=True, text=True, check=False)
        if done.returncode:
            raise OutsideError(f"'ip {' '.join(words)}' failed: {done.stderr.strip()}")


def _family(address: Address) -> str:
    return "-4" if address.bits == 32 else "-6"


def _more(address: Address) -> list[str]:
    return [] if address.bits == 32 else ["nodad"]


def _run(command: Sequence[str], tun: int, cable: socket.socket, token: bytes) -> int:
    over = threading.Event()
    relay = threading.Thread(target=_relay, args=(tun, cable, token, over), daemon=True)
    libc = ctypes.CDLL(None)
    try:
        # Before there is a second thread: what runs between fork and exec must not wait for one.
        with subprocess.Popen(
            list(command), preexec_fn=lambda: libc.prctl(PR_SET_PDEATHSIG, signal.SIGTERM)
        ) as program:
            relay.start()
            return program.wait()
    except FileNotFoundError:
        raise OutsideError(f"there is no program '{command[0]}'") from None
    except OSError as error:
        raise OutsideError(f"'{command[0]}' cannot be run: {error.strerror}") from error
    finally:
        _end_the_rest()
        over.set()
        if relay.is_alive():
            relay.join(1.0)
        os.close(tun)


def _end_the_rest() -> None:
    """End what the program has left running in this network namespace."""
    mine = Path("/proc/self/ns/net").readlink()
    for folder in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):  # it has ended meanwhile, or is somebody else's
            if folder.name != str(os.getpid()) and (folder / "ns" / "net").readlink() == mine:
                os.kill(int(folder.name), signal.SIGKILL)


def _relay(tun: int, cable: socket.socket, token: bytes, over: threading.Event) -> None:
    """Packets between the interface and the cable, and a sign of life now and then."""
    said = time.monotonic()
    with selectors.DefaultSelector() as waiting:
        waiting.register(tun, selectors.EVENT_READ)
        waiting.register(cable, selectors.EVENT_READ)
        while not over.is_set():
            for key, _ in waiting.select(0.2):
                with contextlib.suppress(OSError):
                    if key.fileobj is cable:
                        packet = unwrap(token, cable.recv(65535))
                        if packet is not None:
                            os.write(tun, packet)
                    else:
                        cable.send(token + os.read(tun, 65535))
            if time.monotonic() - said > SAY_EVERY:
                said = time.monotonic()
                with contextlib.suppress(OSError):
                    cable.send(token + PLUG)
