"""Many datagrams in one call, where the kernel cuts and joins them itself (segmentation offload;
on Linux the options UDP_SEGMENT and UDP_GRO). Elsewhere they go one by one."""

from __future__ import annotations

import socket
import sys
from collections.abc import Iterable, Iterator, Sequence
from struct import Struct

Address = tuple[str, int]
Datagram = tuple[bytes, Address | None]
"""What is sent, and where to; None on a socket that is connected."""

_SEGMENT, _JOIN = 103, 104  # include/uapi/linux/udp.h
_KNOWN = sys.platform == "linux"
_SIZE, _JOINED_SIZE = Struct("=H"), Struct("=i")
MOST, MOST_BYTES = 64, 65_000
"""Datagrams in one call, and the bytes of all of them."""
LARGEST = 65_600


def join(sock: socket.socket) -> None:
    """Have the kernel give several at once, where it can."""
    if _KNOWN:
        try:
            sock.setsockopt(socket.IPPROTO_UDP, _JOIN, 1)
        except OSError:
            return


def batches(datagrams: Iterable[Datagram]) -> Iterator[list[Datagram]]:
    """Return those that one call can send: to one address, all of one size but the last, which
    may be smaller."""
    batch: list[Datagram] = []
    size = held = 0
    for datagram in datagrams:
        data, to = datagram
        fits = batch and to == batch[0][1] and len(data) <= size and len(batch) < MOST
        if not fits or held + len(data) > MOST_BYTES:
            if batch:
                yield batch
            batch, size, held = [], len(data), 0
        batch.append(datagram)
        held += len(data)
        if len(data) < size:
            yield batch
            batch, size, held = [], 0, 0
    if batch:
        yield batch


def send_all(sock: socket.socket, datagrams: Sequence[Datagram]) -> None:
    """What finds no room is lost."""
    for batch in batches(datagrams) if _KNOWN else ([d] for d in datagrams):
        if len(batch) == 1 or not _sent_together(sock, batch):
            for data, to in batch:
                _send(sock, data, to)


def _sent_together(sock: socket.socket, batch: Sequence[Datagram]) -> bool:
    (first, to), given = batch[0], [data for data, _ in batch]
    cut = [(socket.IPPROTO_UDP, _SEGMENT, _SIZE.pack(len(first)))]
    try:
        sock.sendmsg(given, cut, 0, *(() if to is None else (to,)))
    except OSError:
        return False
    return True


def _send(sock: socket.socket, data: bytes, to: Address | None) -> None:
    try:
        if to is None:
            sock.send(data)
        else:
            sock.sendto(data, to)
    except OSError:
        return


def receive(sock: socket.socket) -> Iterator[tuple[bytes, Address]]:
    """What one call brings, each with its sender. Raises OSError as `recvmsg` does."""
    data, control, _, sender = sock.recvmsg(LARGEST, socket.CMSG_SPACE(_JOINED_SIZE.size))
    size = next((_JOINED_SIZE.unpack(t)[0] for _, kind, t in control if kind == _JOIN), len(data))
    if len(data) <= size:
        yield data, sender
        return
    for start in range(0, len(data), size):
        yield data[start : start + size], sender
