"""Servers and agents that hang, drip, answer for ever or with nonsense: each ends in one clear line.

They speak from raw sockets, with nothing of the program's own. The limits in time are small here.
"""

from __future__ import annotations

import contextlib
import gzip
import socket
import threading
import time
from collections.abc import Callable, Iterator

import pytest

from obrin.core.errors import ObrinError, OutsideError
from obrin.live import http, waiting
from obrin.live.drivers import snmp
from obrin.live.drivers.places import Place
from obrin.live.http import Client, HttpError

Served = Callable[[socket.socket], None]
HEAD = b"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\n"


@contextlib.contextmanager
def server(answer: Served) -> Iterator[int]:
    """A TCP server; `answer` gets each connection after a request's first bytes."""
    listening = socket.create_server(("127.0.0.1", 0))
    ended = threading.Event()

    def serve() -> None:
        while not ended.is_set():
            try:
                connection, _ = listening.accept()
            except OSError:
                return
            threading.Thread(target=one, args=(connection,), daemon=True).start()

    def one(connection: socket.socket) -> None:
        with connection, contextlib.suppress(OSError):
            connection.recv(65536)
            answer(connection)

    threading.Thread(target=serve, daemon=True).start()
    try:
        yield listening.getsockname()[1]
    finally:
        ended.set()
        listening.close()


def endless(connection: socket.socket, piece: bytes, every: float = 0.0) -> None:
    while True:
        connection.sendall(piece)
        time.sleep(every)


def body_without_end(c: socket.socket) -> None:
    c.sendall(HEAD + b"\r\n")
    endless(c, b" " * 65536)


def packed(c: socket.socket) -> None:
    data = gzip.compress(b" " * (30 << 20))
    c.sendall(HEAD + b"Content-Encoding: gzip\r\nContent-Length: %d\r\n\r\n" % len(data) + data)


def drips_of_body(c: socket.socket) -> None:
    c.sendall(HEAD + b"Content-Length: 100000\r\n\r\n")
    endless(c, b" ", 0.05)


def drips_of_header(c: socket.socket) -> None:
    c.sendall(HEAD + b"X: ")
    endless(c, b"x", 0.05)


def chunks_without_end(c: socket.socket) -> None:
    c.sendall(HEAD + b"Transfer-Encoding: chunked\r\n\r\n")
    endless(c, b"1\r\n \r\n", 0.05)


def come_later(c: socket.socket, when: bytes) -> None:
    c.sendall(b"HTTP/1.1 429 Later\r\nRetry-After: %b\r\nContent-Length: 0\r\n\r\n" % when)


def whole(c: socket.socket, body: bytes, kind: bytes = b"application/json") -> None:
    c.sendall(
        b"HTTP/1.1 200 OK\r\nContent-Type: %b\r\nContent-Length: %d\r\n\r\n" % (kind, len(body))
    )
    c.sendall(body)


HOSTILE: dict[str, tuple[Served, str]] = {
    "hangs": (lambda c: time.sleep(30), "says nothing"),
    "body without end": (body_without_end, "more than 1,000,000 bytes"),
    "packed": (packed, "'gzip', which was not asked for"),
    "drips of body": (drips_of_body, "not complete in time"),
    "drips of header": (drips_of_header, "not complete in time"),
    "chunks without end": (chunks_without_end, "not complete in time"),
    "100 Continue": (
        lambda c: endless(c, b"HTTP/1.1 100 Continue\r\n\r\n", 0.01),
        "not complete in time",
    ),
    "later, in the past": (lambda c: come_later(c, b"-1"), "answered 429"),
    "later, much": (lambda c: come_later(c, b"1e999"), "answered 429"),
    "later, nan": (lambda c: come_later(c, b"nan"), "answered 429"),
    "HTML": (lambda c: whole(c, b"<html>", b"text/html"), "answered text/html where JSON was"),
    "nothing": (lambda c: c.sendall(b"HTTP/1.1 204 No Content\r\n\r\n"), "answered nothing where"),
    "a list": (lambda c: whole(c, b"[]"), "not an object"),
    "deep": (lambda c: whole(c, b"[" * 500_000), "nested too deeply"),
    "infinite": (lambda c: whole(c, b'{"a": 1e999}'), "1e999 is not a number"),
    "not a number": (lambda c: whole(c, b'{"a": NaN}'), "NaN is not a number"),
    "digits": (lambda c: whole(c, b'{"a": ' + b"9" * 5000 + b"}"), "where JSON was asked for"),
    "not HTTP": (lambda c: c.sendall(b"SSH-2.0-x\r\n"), "does not answer"),
    "closes": (lambda c: c.close(), "does not answer"),
    "headers without end": (lambda c: endless(c, HEAD + b"X: y\r\n" * 999), "does not answer"),
    "redirect": (
        lambda c: c.sendall(
            b"HTTP/1.1 301 X\r\nLocation: http://192.0.2.1/\r\nContent-Length: 0\r\n\r\n"
        ),
        "names http://192.0.2.1/, which is not followed",
    ),
    "control characters": (
        lambda c: c.sendall(
            b"HTTP/1.1 400 X\r\nContent-Length: 20\r\n\r\n"
            + b'{"detail":"\\u001b[2J"}'[:20].ljust(20)
        ),
        "answered 400",
    ),
}

ABOUT_TIME = ("says nothing", "not complete in time", "does not answer", "answered 429")


@pytest.mark.parametrize("name", HOSTILE)
def test_whatever_a_server_does_ends_in_time_with_one_line(name: str, monkeypatch) -> None:
    answer, words = HOSTILE[name]
    if words in ABOUT_TIME:
        monkeypatch.setattr(http, "ONE_READ", 0.6)
        monkeypatch.setattr(http, "IN_ALL", 1.2)
    monkeypatch.setattr(http, "MOST_BYTES", 1_000_000)
    with server(answer) as port:
        client = Client("the device of x", f"http://127.0.0.1:{port}", "token")
        begun = time.monotonic()
        with pytest.raises(HttpError, match="the device of x") as caught:
            client.get("/restconf/data")
        assert time.monotonic() - begun < 4.0
        client.close()
    text = str(caught.value)
    assert words in text
    assert len(text) < 700
    assert text.isprintable()


def test_what_takes_longer_is_said_after_a_second(monkeypatch) -> None:
    monkeypatch.setattr(http, "ONE_READ", 1.5)
    monkeypatch.setattr(waiting, "PATIENCE", 0.2)
    said: list[str] = []
    waiting.tell_by(said.append)
    try:
        with server(lambda c: time.sleep(5)) as port, pytest.raises(HttpError):
            Client("the device of x", f"http://127.0.0.1:{port}", "token").get("/x")
        with server(lambda c: whole(c, b"{}")) as port:
            Client("the device of y", f"http://127.0.0.1:{port}", "token").get("/x")
        with server(lambda c: (time.sleep(0.6), whole(c, b"{}"))) as port:
            client = Client("the device of z", f"http://127.0.0.1:{port}", "token")
            client.call("POST", "/x", {}, lasts=0.6)
    finally:
        waiting.tell_by(None)
    assert said == ["the device of x has not answered GET yet; giving up after 60 s"]


@pytest.mark.parametrize(
    ("url", "token", "words"),
    [
        ("http://[::1", "t", "cannot be used"),
        ("http://x:99999/", "t", "cannot be used"),
        ("http://x:y/", "t", "cannot be used"),
        ("http:///x", "t", "needs http:// or https:// and a host"),
        ("ftp://x", "t", "needs http://"),
        ("http://\u00fc.example", "t", "cannot be used"),
        ("http://127.0.0.1", "a\x1bb", "only printable ASCII"),
        ("http://127.0.0.1", "t\u00f6ken", "only printable ASCII"),
        ("http://127.0.0.1", "a\nb", "only printable ASCII"),
        ("http://127.0.0.1", "", "is empty"),
    ],
)
def test_places_that_cannot_be_reached_are_refused_in_words(url, token, words) -> None:
    with pytest.raises(ObrinError, match="of x") as caught:
        Client("the device of x", url, token)
    assert words in str(caught.value)
    assert str(caught.value).isprintable()


# SNMP, in BER of our own (X.690)


def tlv(kind: int, *parts: bytes) -> bytes:
    body = b"".join(parts)
    size = len(body)
    if size < 128:
        return bytes((kind, size)) + body
    told = size.to_bytes((size.bit_length() + 7) // 8, "big")
    return bytes((kind, 0x80 | len(told))) + told + body


def number(value: int) -> bytes:
    return tlv(2, value.to_bytes(value.bit_length() // 8 + 1, "big", signed=True))


def arc(value: int) -> bytes:
    found = [value & 0x7F]
    while value := value >> 7:
        found.append(0x80 | value & 0x7F)
    return bytes(reversed(found))


def oid(*arcs: int) -> bytes:
    return tlv(6, bytes((arcs[0] * 40 + arcs[1],)), *map(arc, arcs[2:]))


def request_id(asked: bytes) -> bytes:
    """The INTEGER of a request, found by walking v2c: SEQUENCE, version, community, PDU."""

    def inside(data: bytes, at: int) -> int:
        return at + 2 + (data[at + 1] & 0x7F if data[at + 1] & 0x80 else 0)

    at = inside(asked, 0)
    at += 2 + asked[at + 1]
    at += 2 + asked[at + 1]
    at = inside(asked, at)
    return asked[at : at + 2 + asked[at + 1]]


Pairs = Callable[[int], list[tuple[bytes, bytes]]]


@contextlib.contextmanager
def agent(pairs: Pairs, wait: float = 0.0, raw: bytes | None = None) -> Iterator[int]:
    """A v2c agent whose nth answer holds `pairs(n)`, or is `raw`."""
    heard = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    heard.bind(("127.0.0.1", 0))

    def serve() -> None:
        count = 0
        with contextlib.suppress(OSError):
            while True:
                asked, sender = heard.recvfrom(65536)
                time.sleep(wait)
                held = [tlv(0x30, name, value) for name, value in pairs(count)]
                count += 1
                pdu = tlv(0xA2, request_id(asked), number(0), number(0), tlv(0x30, *held))
                told = tlv(0x30, number(1), tlv(4, b"public"), pdu)
                heard.sendto(told if raw is None else raw, sender)

    threading.Thread(target=serve, daemon=True).start()
    try:
        yield heard.getsockname()[1]
    finally:
        heard.close()


ROOT = snmp.ROOTS[0]
NULL = tlv(5)


def rising(n: int, value: bytes = number(1), each: int = 20) -> list[tuple[bytes, bytes]]:
    return [(oid(*ROOT, 1, n * each + k), value) for k in range(1, each + 1)]


AGENTS: dict[str, tuple[Pairs, float, bytes | None, str]] = {
    "rising for ever": (rising, 0.0, None, "more than"),
    "NULL for ever": (lambda n: rising(n, NULL), 0.0, None, "more than"),
    "one now and then": (lambda n: rising(n, each=1), 0.15, None, "within 2 s"),
    "falling": (lambda n: rising(5 - n), 0.0, None, "do not rise"),
    "a long text": (lambda n: rising(n, tlv(4, b"x" * 9000), 1), 0.0, None, "a value of more than"),
    "25 texts of 2,500 bytes": (
        lambda n: rising(n, tlv(4, b"x" * 2500), 20),
        0.0,
        None,
        "the agent of x",
    ),
    "huge arcs": (
        lambda n: [(tlv(6, b"\x2b", *[b"\xff" * 400 + b"\x01"] * 90), number(1))],
        0.0,
        None,
        "the agent of x",
    ),
    "many arcs": (
        lambda n: [(oid(*ROOT, *range(1, 5000)), number(1))],
        0.0,
        None,
        "the agent of x",
    ),
    "no BER": (rising, 0.0, b"\xff" * 300, "the agent of x"),
    "deep": (rising, 0.0, b"\x30\x80" * 3000, "the agent of x"),
    "empty": (rising, 0.0, b"", "the agent of x"),
}


@pytest.mark.parametrize("name", AGENTS)
def test_whatever_an_agent_tells_ends_in_time_with_one_line(name: str, monkeypatch, capfd) -> None:
    monkeypatch.setattr(snmp, "IN_ALL", 2.0)
    monkeypatch.setattr(snmp, "TIMEOUT", 0.3)
    monkeypatch.setattr(snmp, "RETRIES", 1)
    monkeypatch.setattr(snmp, "MOST_VALUES", 300)
    pairs, wait, raw, words = AGENTS[name]
    with agent(pairs, wait, raw) as port:
        place = Place(name="x", url=f"snmp://127.0.0.1:{port}", token="public")
        begun = time.monotonic()
        with pytest.raises(OutsideError, match="the agent of x") as caught:
            snmp.open_observer(place).state()
        assert time.monotonic() - begun < 6.0
    text = str(caught.value)
    assert words in text
    assert len(text) < 600
    said = capfd.readouterr()
    assert "Traceback" not in said.err + said.out
