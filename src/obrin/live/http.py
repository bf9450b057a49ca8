"""HTTP clients of the cloud, of gateways (RESTCONF) and of the practice internet."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import httpx

from obrin.core.errors import OutsideError
from obrin.core.text import clean

Json = dict[str, Any]
YANG_JSON = {"Content-Type": "application/yang-data+json"}


class HttpError(OutsideError):
    """An answer that is not a success; `status` is the HTTP status code, 0 without an answer."""

    def __init__(self, text: str, status: int = 0) -> None:
        self.status = status
        super().__init__(text)


class Client:
    """One server. Errors come as HttpError with the server's own words, never with a body sent."""

    def __init__(self, what: str, url: str, token: str) -> None:
        self.what = what
        self._client = httpx.Client(
            base_url=url,
            headers={"Authorization": f"Bearer {token}"},
            timeout=httpx.Timeout(20.0, read=150.0),
            trust_env=False,
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
        try:
            response = self._client.request(method, path, json=body, headers=headers)
        except httpx.HTTPError as error:
            raise HttpError(f"{self.what} does not answer: {error}") from error
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


def _detail(response: httpx.Response) -> str:
    try:
        data = response.json()
        if "ietf-restconf:errors" in data:
            return clean(str(data["ietf-restconf:errors"]["error"][0]["error-message"]), 500)
        return clean(str(data.get("detail") or data.get("title")), 500)
    except (ValueError, KeyError, IndexError, AttributeError, TypeError):
        return clean(response.reason_phrase, 100)


class GatewayClient(Client):
    """A gateway over RESTCONF."""

    def configure(self, config: Json, keys: Json) -> bool:
        """Keys first, so that the configuration finds them. True if anything changed."""
        before = self.call("GET", "/restconf/data").headers.get("ETag")
        self.call("PUT", "/restconf/data/obrin-keys:keys", keys, YANG_JSON)
        self.call("PUT", "/restconf/data", {"ietf-restconf:data": config}, YANG_JSON)
        after = self.call("GET", "/restconf/data").headers.get("ETag")
        return bool(before != after)

    def configured(self) -> bool:
        """Whether it has any configuration."""
        return len(self.get("/restconf/data")["ietf-restconf:data"]) > 1

    def state(self) -> Json:
        found: Json = self.get("/restconf/data/obrin-observe:state")["obrin-observe:state"]
        return found

    def operate(self, name: str, given: Json) -> Json:
        path = f"/restconf/operations/obrin-observe:{name}"
        response = self.call("POST", path, {"obrin-observe:input": given}, YANG_JSON)
        found: Json = response.json()["obrin-observe:output"]
        return found


class CloudClient(Client):
    """The cloud's API."""

    def state(self, gateway: str) -> Json:
        return self.get(f"/v1/gateways/{gateway}/state")

    def drops(self, network: str) -> list[Json]:
        found: list[Json] = self.get(f"/v1/networks/{network}/drops")["drop"]
        return found

    def probe(self, given: Json) -> Json:
        found: Json = self.call("POST", "/v1/probes", given).json()
        return found


class InternetClient(Client):
    """The practice internet's door for faults."""

    def cut_path(self, one: str, other: str) -> None:
        self.call("POST", "/v1/faults", {"path": [one, other]})

    def cut_uplink(self, name: str) -> None:
        self.call("POST", "/v1/faults", {"uplink": name})

    def heal(self) -> None:
        self.call("DELETE", "/v1/faults")

    def faults(self) -> Json:
        return self.get("/v1/faults")


class Ends:
    """Clients for everything that a project's world has."""

    def __init__(self, token: str, cloud: str, gateways: dict[str, str], internet: str) -> None:
        self.cloud = CloudClient("the cloud", cloud, token)
        self.gateways = {
            name: GatewayClient(f"gateway {name}", url, token) for name, url in gateways.items()
        }
        self.internet = InternetClient("the practice internet", internet, token)

    def close(self) -> None:
        for client in (self.cloud, self.internet, *self.gateways.values()):
            client.close()


@contextmanager
def open_ends(token: str, cloud: str, gateways: dict[str, str], internet: str) -> Iterator[Ends]:
    ends = Ends(token, cloud, gateways, internet)
    try:
        yield ends
    finally:
        ends.close()
