"""HTTP clients: one server each, errors in the server's own words."""

from __future__ import annotations

import functools
import ssl
import time
from typing import Any, Self

import httpx

from obrin.core.errors import ObrinError, OutsideError
from obrin.core.text import clean
from obrin.live.drivers.places import Place

Json = dict[str, Any]


class HttpError(OutsideError):
    """An answer that is not a success; `status` is the HTTP status code, 0 without an answer."""

    def __init__(self, text: str, status: int = 0) -> None:
        self.status = status
        super().__init__(text)


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
    if authority is None:
        return httpx.create_ssl_context()
    return ssl.create_default_context(cafile=authority)


TOO_MANY, TIMES, LONGEST_WAIT = 429, 60, 30.0
"""Who is told to come later does, so many times, and waits so many seconds at the most."""


class Client:
    """One server. Errors come as HttpError with the server's own words, never with a body sent."""

    @classmethod
    def at(cls, what: str, place: Place) -> Self:
        return cls(what, place.url, place.token, place.authority)

    def __init__(self, what: str, url: str, token: str, authority: str | None = None) -> None:
        """`authority` is a file of certificates to believe. Raises ObrinError for a bad one."""
        self.what = what
        self._client = httpx.Client(
            base_url=url,
            headers={"Authorization": f"Bearer {token}"},
            timeout=httpx.Timeout(20.0, read=150.0),
            trust_env=False,
            verify=_trust(what, url, authority),
        )

    def close(self) -> None:
        self._client.close()

    def call(
        self,
        method: str,
        path: str,
        body: Json | None = None,
        headers: dict[str, str] | None = None,
    ) -> httpx.Response:
        """Raises HttpError for no answer and for a status of 400 or more."""
        for left in reversed(range(TIMES)):
            try:
                response = self._client.request(method, path, json=body, headers=headers)
            except httpx.HTTPError as error:
                raise HttpError(f"{self.what} does not answer: {error}") from error
            if response.status_code != TOO_MANY or not left:
                break
            time.sleep(_asked_to_wait(response))
        if response.status_code >= 400:
            raise HttpError(
                f"{self.what} answered {response.status_code} to {method} {path}: "
                f"{_detail(response)}",
                response.status_code,
            )
        return response

    def get(self, path: str) -> Json:
        found: Json = self.call("GET", path).json()
        return found


def _asked_to_wait(response: httpx.Response) -> float:
    """Seconds, as the server says (RFC 9110 section 10.2.3), within reason."""
    try:
        return min(max(float(response.headers.get("Retry-After", "1")), 0.1), LONGEST_WAIT)
    except ValueError:
        return 1.0


def _detail(response: httpx.Response) -> str:
    try:
        data = response.json()
        if "ietf-restconf:errors" in data:
            return clean(str(data["ietf-restconf:errors"]["error"][0]["error-message"]), 500)
        return clean(str(data.get("detail") or data.get("title")), 500)
    except (ValueError, KeyError, IndexError, AttributeError, TypeError):
        return clean(response.reason_phrase, 100)


class InternetClient(Client):
    """The practice internet's door for faults."""

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

    def cut_attachment(self, hub: str, member: str) -> None:
        self.call("POST", "/v1/faults", {"attachment": f"{hub}.{member}"})

    def heal(self) -> None:
        self.call("DELETE", "/v1/faults")

    def faults(self) -> Json:
        return self.get("/v1/faults")
