"""Our TCP against the kernel's, in a network namespace of this process's own, over a TUN device that
loses and reorders packets. A program: it prints the seconds that each direction took, as JSON.

    python -m tests.live.kernel_tcp LOSS REORDER PASSWORD CALLER
"""

from __future__ import annotations

import contextlib
import heapq
import itertools
import json
import os
import random
import selectors
import socket
import struct
import sys
import threading
import time

from obrin.core.address.prefix import parse_address
from obrin.live.practice.hosts.kernel_host import INTERFACE, _interface, _leave, _set_up
from obrin.wire.errors import PacketError
from obrin.wire.packet import TCP, decode_packet
from obrin.wire.tcp import Connection, TcpStack
from obrin.wire.tcp_protection import TCP_MD5, protection

OURS, KERNEL = parse_address("10.99.0.1"), parse_address("10.99.0.2")
PORT, SIZE = 1790, 300_000
TCP_MD5SIG = 14
DATA = random.Random(7).randbytes(SIZE)


def signed(kernel: socket.socket, password: str) -> None:
    """struct tcp_md5sig: whose segments, how long the key is, the key."""
    peer = struct.pack("=HH4s120x", socket.AF_INET, 0, socket.inet_aton(str(OURS)))
    key = password.encode()
    option = peer + struct.pack("=BBHI80s", 0, 0, len(key), 0, key)
    kernel.setsockopt(socket.IPPROTO_TCP, TCP_MD5SIG, option)


class KernelEnd(threading.Thread):
    """Ordinary sockets: reads all, then writes as much, then closes."""

    def __init__(self, password: str, caller: str) -> None:
        super().__init__(daemon=True)
        self.socket = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
        if password:
            signed(self.socket, password)
        self._calls = caller == "kernel"
        self.got = b""
        self.error = ""
        if not self._calls:
            self.socket.bind((str(KERNEL), PORT))
            self.socket.listen(1)

    def run(self) -> None:
        try:
            if self._calls:
                self.socket.connect((str(OURS), PORT))
                connection = self.socket
            else:
                connection, _ = self.socket.accept()
            got = bytearray()
            while len(got) < SIZE:
                data = connection.recv(65536)
                if not data:
                    break
                got += data
            self.got = bytes(got)
            connection.sendall(DATA)
            connection.close()
        except OSError as error:
            self.error = str(error)


class Link:
    """The TUN device, with what is lost and late on both ways."""

    def __init__(self, tun: int, stack: TcpStack, loss: float, reorder: float) -> None:
        self.tun, self.stack, self.loss, self.reorder = tun, stack, loss, reorder
        self.rng = random.Random(f"link:{loss}:{reorder}")
        self.late: list[tuple[float, int, bool, bytes]] = []
        self.count = itertools.count()
        self.waiting = selectors.DefaultSelector()
        self.waiting.register(tun, selectors.EVENT_READ)

    def carry(self, data: bytes, *, out: bool, now: float) -> None:
        if self.rng.random() >= self.loss:
            delay = 0.002 + (self.rng.random() * 0.01 if self.rng.random() < self.reorder else 0)
            heapq.heappush(self.late, (now + delay, next(self.count), out, data))

    def step(self) -> None:
        now = time.monotonic()
        due = min(self.stack.next_timer(), self.late[0][0] if self.late else now + 0.02, now + 0.02)
        if self.waiting.select(max(0.0, due - now)):
            packet = os.read(self.tun, 65535)
            if packet[0] >> 4 == 4 and packet[9] == TCP:
                self.carry(packet, out=False, now=now)
        now = time.monotonic()
        while self.late and self.late[0][0] <= now:
            _, _, out, data = heapq.heappop(self.late)
            if out:
                os.write(self.tun, data)
            else:
                with contextlib.suppress(PacketError):
                    self.stack.receive(decode_packet(data), now)
        self.stack.handle_timer(now)
        for data in self.stack.packets(now):
            self.carry(data, out=True, now=now)


def main(loss: float, reorder: float, password: str, caller: str) -> dict[str, object]:
    _leave()
    tun = _interface()
    _set_up("ip", [KERNEL], 1400)
    stack = TcpStack(os.urandom, mss=1360)
    if password:
        stack.protections[OURS, KERNEL] = protection(TCP_MD5, password.encode())
    accepted: list[Connection] = []
    stack.listen(OURS, PORT, accepted.append)
    kernel = KernelEnd(password, caller)
    kernel.start()
    link, begun = Link(tun, stack, loss, reorder), time.monotonic()
    if caller != "kernel":
        accepted.append(stack.connect(OURS, KERNEL, PORT, begun))
    got, there, back, sent = bytearray(), 0.0, 0.0, False
    while time.monotonic() - begun < 40 and not back:
        link.step()
        if accepted and not sent:
            accepted[0].send(DATA)
            sent = True
        if kernel.got and not there:
            there = time.monotonic() - begun
        if accepted:
            got += accepted[0].take()
        if len(got) == SIZE:
            back = time.monotonic() - begun - there
    return {
        "there": there,
        "back": back,
        "whole": kernel.got == DATA and bytes(got) == DATA,
        "error": kernel.error,
        "interface": INTERFACE,
    }


if __name__ == "__main__":
    print(json.dumps(main(float(sys.argv[1]), float(sys.argv[2]), sys.argv[3], sys.argv[4])))
