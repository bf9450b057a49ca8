"""HTTP clients: one server each, errors in the server's own words, and bounds on what it can do to
us.

A server may hang, send a byte now and then, answer for ever, or send a gigabyte. So every call has
an end in time, for one read and for all of it, and an answer has an end in size; nothing that is
compressed is taken, so that what arrives is what is kept. The time for all of it is kept by the
network streams themselves: whatever the library waits for, it waits no longer than that.
"""

from __future__ import annotations

import base64
import functools
import json
import ssl
import threading
import time
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, Self

import httpcore

from obrin.core.errors import ObrinError, OutsideError
from obrin.core.json_text import Json, JsonError, parse_json
from obrin.core.text import clean
from obrin.live.drivers.places import Place
from obrin.live.waiting import awaited

MOST_BYTES = 64 << 20
"""Largest size of one answer."""
CONNECT, ONE_READ, IN_ALL = 10.0, 20.0, 60.0
"""Seconds: for a connection, between two pieces of an answer, for the whole of a call."""
PATIENTLY = 180.0
"""Seconds for a call that has the server do something: it may take its time before it answers."""
TOO_MANY = 429
_CURES = {
    401: ". Look at its token, and whether it needs a user",
    403: ". Look at what its token may do there",
}
"""What to look at after these statuses (RFC 9110 section 15.5)."""
LONGEST_WAIT = 30.0
"""Seconds to wait after an answer that asks to come later."""
_FAILURES = (
    httpcore.TimeoutException,
    httpcore.NetworkError,
    httpcore.ProtocolError,
    httpcore.UnsupportedProtocol,
    httpcore.ConnectionNotAvailable,
)


class HttpError(OutsideError):
    """An answer that is not a success; `status` is the HTTP status code, 0 without an answer."""

    def __init__(self, text: str, status: int = 0) -> None:
        self.status = status
        super().__init__(text)


@dataclass(frozen=True, slots=True)
class Answer:
    """`headers` by name in small letters."""

    status: int
    headers: Mapping[str, str]
    body: bytes = field(repr=False)
    of: str = "the server"

    def json(self) -> Any:
        """Raises HttpError where the body is something else."""
        try:
            return parse_json(self.body)
        except JsonError as error:
            kind = self.headers.get("content-type", "") or "nothing"
            raise HttpError(
                f"{self.of} answered {clean(kind, 60)} where JSON was asked for ({error}). Look "
                "whether its url is right",
                self.status,
            ) from None


class Client:
    """One server. Errors come as HttpError with the server's own words, never with a body sent."""

    @classmethod
    def at(cls, what: str, place: Place) -> Self:
        return cls(what, place.url, place.token, place.authority, place.user)

    def __init__(
        self, what: str, url: str, token: str, authority: str | None = None, user: str = ""
    ) -> None:
        """`authority` is a file of certificates to believe; with a `user` the token is a password
        (Basic, RFC 7617). Raises ObrinError for a bad one, for an address that is none, and for a
        token that cannot be sent."""
        self.what = what
        self._url = url
        _need_url(what, url)
        self._headers = {"Authorization": _credentials(what, user, token)}
        self._pool = httpcore.ConnectionPool(
            ssl_context=_trust(what, url, authority),
            max_connections=100,
            network_backend=_Timely(httpcore.SyncBackend()),
        )

    def close(self) -> None:
        self._pool.close()

    def call(
        self,
        method: str,
        path: str,
        body: Json | None = None,
        headers: dict[str, str] | None = None,
        lasts: float = 0.0,
    ) -> Answer:
        """`lasts` is how many seconds what is asked takes by itself. Raises HttpError for no
        answer, and for a status of 300 or more."""
        in_all = IN_ALL if method == "GET" else PATIENTLY
        until = time.monotonic() + in_all
        words = f"{self.what} has not answered {method} yet; giving up after {in_all:.0f} s"
        with awaited(words, lasts):
            while True:
                answer = self._ask(method, path, body, headers or {}, until)
                wait = _asked_to_wait(answer) if answer.status == TOO_MANY else None
                if wait is None or time.monotonic() + wait >= until:
                    break
                time.sleep(wait)
        if answer.status >= 300:
            raise HttpError(
                f"{self.what} answered {answer.status} to {method} {path}: {_detail(answer)}"
                + _CURES.get(answer.status, ""),
                answer.status,
            )
        return answer

    def get(self, path: str) -> Json:
        found = self.call("GET", path).json()
        if not isinstance(found, dict):
            raise HttpError(f"{self.what} answered what is not an object to GET {path}")
        return found

    def _ask(
        self,
        method: str,
        path: str,
        body: Json | None,
        headers: Mapping[str, str],
        until: float,
    ) -> Answer:
        content = None if body is None else _encoded(body)
        kind = {} if content is None else {"Content-Type": "application/json"}
        own = {**kind, **headers, **self._headers, "Accept-Encoding": "identity"}
        one_read = ONE_READ if method == "GET" else PATIENTLY
        timeout = {"connect": CONNECT, "read": one_read, "write": ONE_READ, "pool": IN_ALL}
        _deadline.until = until
        try:
            with self._pool.stream(
                method,
                self._url.rstrip("/") + path if path else self._url,
                headers=list(own.items()),
                content=content,
                extensions={"timeout": timeout},
            ) as response:
                lowered = {
                    n.decode("latin-1").lower(): v.decode("latin-1") for n, v in response.headers
                }
                held = self._bounded(response.iter_stream(), lowered)
                return Answer(response.status, lowered, held, self.what)
        except _FAILURES as error:
            raise HttpError(f"{self.what} does not answer: {_words(error, until)}") from error

    def _bounded(self, pieces: Iterable[bytes], lowered: Mapping[str, str]) -> bytes:
        """All of a body. Raises HttpError."""
        if lowered.get("content-encoding", "identity").lower() != "identity":
            raise HttpError(
                f"{self.what} answered in the encoding '{clean(lowered['content-encoding'], 40)}', "
                "which was not asked for. Switch compression off there"
            )
        held = bytearray()
        for piece in pieces:
            held += piece
            if len(held) > MOST_BYTES:
                raise HttpError(
                    f"{self.what} answered with more than {MOST_BYTES:,} bytes. Look whether its "
                    "url is right"
                )
        return bytes(held)


class _Timely(httpcore.NetworkBackend):
    """Connections on which a thread waits no longer than its call may take (`_deadline`)."""

    def __init__(self, inner: httpcore.NetworkBackend) -> None:
        self._inner = inner

    def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: Iterable[httpcore.SOCKET_OPTION] | None = None,
    ) -> httpcore.NetworkStream:
        within = _left(timeout, httpcore.ConnectTimeout)
        return _TimelyStream(
            self._inner.connect_tcp(host, port, within, local_address, socket_options)
        )


class _TimelyStream(httpcore.NetworkStream):
    def __init__(self, inner: httpcore.NetworkStream) -> None:
        self._inner = inner

    def read(self, max_bytes: int, timeout: float | None = None) -> bytes:
        return self._inner.read(max_bytes, _left(timeout, httpcore.ReadTimeout))

    def write(self, buffer: bytes, timeout: float | None = None) -> None:
        self._inner.write(buffer, _left(timeout, httpcore.WriteTimeout))

    def close(self) -> None:
        self._inner.close()

    def start_tls(
        self,
        ssl_context: ssl.SSLContext,
        server_hostname: str | None = None,
        timeout: float | None = None,
    ) -> httpcore.NetworkStream:
        within = _left(timeout, httpcore.ConnectTimeout)
        return _TimelyStream(self._inner.start_tls(ssl_context, server_hostname, within))

    def get_extra_info(self, info: str) -> Any:
        return self._inner.get_extra_info(info)


class _Deadline(threading.local):
    """Say when the call of this thread has to be over, by the monotonic clock."""

    until = float("inf")


_deadline = _Deadline()


def _left(timeout: float | None, over: type[httpcore.TimeoutException]) -> float:
    """Seconds that may still be waited. Raises `over` when there are none."""
    left = _deadline.until - time.monotonic()
    if left <= 0:
        raise over("it takes too long")
    return left if timeout is None else min(timeout, left)


def _words(error: Exception, until: float) -> str:
    if isinstance(error, httpcore.TimeoutException):
        if time.monotonic() >= until:
            return "its answer was not complete in time"
        return "it says nothing" if isinstance(error, httpcore.ReadTimeout) else "timed out"
    return clean(str(error), 200) or type(error).__name__


def _need_url(what: str, url: str) -> None:
    """Raises ObrinError."""
    try:
        found = httpcore.URL(url)
        if found.scheme in (b"http", b"https") and found.host and (found.port or 1) < 65536:
            return
        why = "it needs http:// or https:// and a host"
    except (ValueError, TypeError) as error:
        why = str(error)
    raise ObrinError(f"the url of {what}, '{clean(url, 100)}', cannot be used: {why}. Correct it")


def _credentials(what: str, user: str, token: str) -> str:
    """Raises ObrinError."""
    if not user:
        return f"Bearer {_sendable(what, token)}"
    pair = f"{user}:{_sendable(what, token)}".encode()
    return f"Basic {base64.b64encode(pair).decode()}"


def _sendable(what: str, token: str) -> str:
    """A token as a header can carry it (RFC 9110 section 5.5). Raises ObrinError."""
    if token and token.isascii() and token.isprintable() and token == token.strip():
        return token
    raise ObrinError(
        f"the token of {what} is empty, or has characters that HTTP does not carry: only printable "
        "ASCII without blanks around it. Look at the file or variable that it comes from"
    )


def _encoded(body: Json) -> bytes:
    return json.dumps(body, separators=(",", ":"), allow_nan=False).encode()


def _trust(what: str, url: str, authority: str | None) -> ssl.SSLContext:
    """Whom to believe at an address; nobody where nothing has to be proven."""
    if authority is None and not url.startswith("https:"):
        return ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    try:
        return _trusted(authority)
    except (OSError, ssl.SSLError) as error:
        raise ObrinError(
            f"the authority of {what}, {authority}, cannot be read: {error}. Give a file of PEM "
            "certificates"
        ) from None


@functools.cache
def _trusted(authority: str | None) -> ssl.SSLContext:
    """Made once: reading all authorities that are usually believed takes 30 ms."""
    return ssl.create_default_context(cafile=authority)


def _asked_to_wait(answer: Answer) -> float:
    """Seconds, as the server says (RFC 9110 section 10.2.3), within reason."""
    try:
        found = float(answer.headers.get("retry-after", "1"))
    except ValueError:
        return 1.0
    return min(max(found, 0.1), LONGEST_WAIT) if found == found else 1.0


def _detail(answer: Answer) -> str:
    if 300 <= answer.status < 400:
        where = clean(answer.headers.get("location", "nowhere"), 200)
        return f"it names {where}, which is not followed. Give that as its url, if it is right"
    try:
        data = answer.json()
        if "ietf-restconf:errors" in data:
            return clean(str(data["ietf-restconf:errors"]["error"][0]["error-message"]), 500)
        return clean(str(data.get("detail") or data.get("title")), 500)
    except (HttpError, KeyError, IndexError, AttributeError, TypeError):
        return "it gives no reason"


class InternetClient(Client):
    """The practice internet's door for faults, and for uplinks that come later."""

    def connect(self, line: str) -> int:
        """The port of a new uplink's cable."""
        found: Json = self.call("POST", "/v1/lines", {"line": line}).json()
        return int(found["port"])

    def join(self, circuit: str, mtu: int) -> tuple[int, int]:
        """The ports of the two cables of a new dedicated line, the site's first."""
        found = self.call("POST", "/v1/circuits", {"circuit": circuit, "mtu": mtu}).json()
        site, cloud = map(int, found["ports"])
        return site, cloud

    def cables(self) -> frozenset[str]:
        """The names of all that devices are plugged into."""
        return frozenset(self.get("/v1/lines")["cables"])

    def cut_path(self, one: str, other: str) -> None:
        self.call("POST", "/v1/faults", {"path": [one, other]})

    def cut_uplink(self, name: str) -> None:
        self.call("POST", "/v1/faults", {"uplink": name})

    def cut_circuit(self, label: str) -> None:
        self.call("POST", "/v1/faults", {"circuit": label})

    def trouble(self, kind: str, uplink: str, value: str) -> None:
        self.call("POST", "/v1/faults", {"trouble": kind, "at": uplink, "value": value})

    def heal(self) -> None:
        self.call("DELETE", "/v1/faults")

    def faults(self) -> Json:
        return self.get("/v1/faults")


class CloudFaults(Client):
    """The practice cloud's door for faults."""

    def trouble(self, kind: str, value: str) -> None:
        self.call("POST", "/v1/faults", {kind: value})

    def plug_in(self, circuit: str, way: str, port: int) -> None:
        """The cloud's end of a new dedicated line."""
        self.call("POST", "/v1/cables", {"circuit": circuit, "way": way, "port": port})

    def cut_attachment(self, hub: str, member: str) -> None:
        self.call("POST", "/v1/faults", {"attachment": f"{hub}.{member}"})

    def heal(self) -> None:
        self.call("DELETE", "/v1/faults")

    def faults(self) -> Json:
        return self.get("/v1/faults")
