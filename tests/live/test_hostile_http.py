"""Both APIs against their own descriptions, by generated requests and by the worst that we know.

Whatever comes, the answer is one that the description names: never a 500, and after it everything
works as before.
"""

from __future__ import annotations

import asyncio
import json

import httpx
import pytest
import schemathesis
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from schemathesis import Case, GenerationMode
from schemathesis.schemas import APIOperation, BaseSchema
from starlette.applications import Starlette

from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.handover.pack import make_pack
from obrin.core.handover.secrets import Secrets
from obrin.live.drivers.practice_cloud.cloud_steps import cloud_steps
from obrin.live.practice.cloud.bodies import KINDS
from obrin.live.practice.cloud.process import CloudProcess
from obrin.live.practice.gateway.process import GatewayProcess
from obrin.live.practice.gateway.site_process import SiteProcess
from obrin.live.practice.service import MAX_BODY, TokenGuard, _depth
from obrin.live.rehearse.virtual import kind_and_name
from tests.doubles import settled_of

SECRETS = Secrets({"quay-apps/a": "key-of-a-1234567890", "quay-apps/b": "key-of-b-1234567890"})
YANG = {"content-type": "application/yang-data+json"}
BRIEF = settings(
    max_examples=40, deadline=None, derandomize=True, suppress_health_check=list(HealthCheck)
)


def cloud() -> Starlette:
    return CloudProcess(0, {}, 1e6, "secret", PRACTICE_CLOUD).application()


def gateway() -> Starlette:
    return GatewayProcess("quay-gw", SiteProcess({"quay-gw": {}}, {}, "secret", None)).application()


CLOUD, GATEWAY = cloud(), gateway()
cloud_schema = schemathesis.openapi.from_asgi("/v1/openapi.json", CLOUD)
gateway_schema = schemathesis.openapi.from_asgi("/openapi.json", GATEWAY)


def answered_as_described(case) -> None:
    response = case.call(headers={"content-type": "application/json"})
    assert response.status_code < 500, (case.method, case.path, response.text)
    if response.status_code >= 400:
        assert "json" in str(response.headers["content-type"])
        assert response.json()


def operations(schema: BaseSchema) -> list[object]:
    """Each by its method and path."""
    found = [result.ok() for result in schema.get_all_operations()]
    return [pytest.param(operation, id=operation.label) for operation in found]


def fitting_or_not(operation: APIOperation) -> st.SearchStrategy[Case]:
    """Requests as they are described, and others, where anything is described."""
    modes = [GenerationMode.POSITIVE]
    if operation.body or operation.query or operation.path_parameters:
        modes.append(GenerationMode.NEGATIVE)
    return st.one_of(operation.as_strategy(generation_mode=mode) for mode in modes)


@pytest.mark.parametrize("operation", operations(cloud_schema))
@BRIEF
@given(data=st.data())
def test_generated_requests_to_the_cloud(operation: APIOperation, data: st.DataObject) -> None:
    answered_as_described(data.draw(fitting_or_not(operation)))


@pytest.mark.parametrize("operation", operations(gateway_schema))
@BRIEF
@given(data=st.data())
def test_generated_requests_to_a_gateway(operation: APIOperation, data: st.DataObject) -> None:
    answered_as_described(data.draw(fitting_or_not(operation)))


def ask(app, method: str, path: str, body: bytes = b"", headers=None) -> httpx.Response:
    async def go() -> httpx.Response:
        transport = httpx.ASGITransport(app, raise_app_exceptions=True)
        async with httpx.AsyncClient(transport=transport, base_url="http://x") as client:
            return await client.request(method, path, content=body, headers=headers)

    return asyncio.run(go())


DEEP = b"[" * 100_000 + b"]" * 100_000
BODIES = {
    "nothing": b"",
    "no JSON": b"{",
    "not UTF-8": b'{"a": "\xff"}',
    "a list": b"[]",
    "deep": b'{"a": ' + DEEP + b"}",
    "deep objects": b'{"a":' * 5000 + b"1" + b"}" * 5000,
    "brackets never closed": b"[" * 100_000,
    "a lone surrogate": b'{"ietf-restconf:data": {}, "a": "\\ud800"}',
    "a number without end": b'{"a": ' + b"9" * 5000 + b"}",
    "NaN": b'{"a": NaN}',
    "infinity": b'{"a": 1e999, "b": -Infinity}',
    "nulls": b'{"a": null, "spaces": null}',
    "a huge body": b'{"a": "' + b"x" * MAX_BODY + b'"}',
}


@pytest.mark.parametrize("what", BODIES)
def test_no_body_is_too_bad(what: str) -> None:
    paths = [(CLOUD, "PUT", f"/v1/{kind}/x") for kind in KINDS] + [
        (CLOUD, "POST", "/v1/probes"),
        (GATEWAY, "PUT", "/restconf/data"),
        (GATEWAY, "PUT", "/restconf/data/obrin-keys:keys"),
        (GATEWAY, "PUT", "/restconf/data/obrin-ipsec:ipsec"),
        (GATEWAY, "POST", "/restconf/operations/obrin-observe:probe"),
    ]
    for app, method, path in paths:
        response = ask(app, method, path, BODIES[what])
        assert 400 <= response.status_code < 500, (path, response.text[:200])
        assert response.json()
        assert len(response.content) < 3000


def test_a_body_that_only_says_that_it_is_huge_is_not_waited_for() -> None:
    class Endless(httpx.AsyncByteStream):
        async def __aiter__(self):
            sent = 0
            while True:
                sent += 1 << 20
                assert sent < 4 * MAX_BODY, "it was read to the end"
                yield b"x" * (1 << 20)

    async def go(headers) -> int:
        transport = httpx.ASGITransport(CLOUD)
        async with httpx.AsyncClient(transport=transport, base_url="http://x") as client:
            return (
                await client.put("/v1/networks/x", content=Endless(), headers=headers)
            ).status_code

    for length in ("300000000", "9" * 50, "-5", "zz"):
        assert asyncio.run(go({"content-length": length})) == 413


def test_brackets_in_strings_are_no_depth() -> None:
    assert _depth(b'{"a": "[[[[[\\"[[[", "b": [1, [2]]}') == 3


def complete(app) -> tuple[dict, dict]:
    pack = make_pack(settled_of(), "quay-gw", SECRETS)
    for path, body in (
        ("/restconf/data/obrin-keys:keys", pack.keys),
        ("/restconf/data", {"ietf-restconf:data": pack.config}),
    ):
        assert ask(app, "PUT", path, json.dumps(body).encode(), YANG).status_code in (201, 204)
    return pack.config, pack.keys


def mutations(config: dict):
    """The configuration with each leaf replaced by values of its own kind that make no sense."""

    def leaves(node, path=()):
        if isinstance(node, dict):
            for name, value in node.items():
                yield from leaves(value, (*path, name))
        elif isinstance(node, list):
            for index, value in enumerate(node[:2]):
                yield from leaves(value, (*path, index))
        else:
            yield path, node

    for path, value in leaves(config):
        odd = ["", "x" * 300, "0.0.0.0", "::"] if isinstance(value, str) else [0, -1, 2**31, 65536]
        for new in odd:
            changed = json.loads(json.dumps(config))
            node = changed
            for part in path[:-1]:
                node = node[part]
            node[path[-1]] = new
            yield path, new, changed


def test_a_refused_configuration_is_not_kept() -> None:
    """The same again is refused again, and what was there before is there still."""
    app = gateway()
    config, _ = complete(app)
    before = ask(app, "GET", "/restconf/data").headers["etag"]
    refused = 0
    for number, (path, new, changed) in enumerate(mutations(config)):
        if number % 7:
            continue
        body = json.dumps({"ietf-restconf:data": changed}).encode()
        first = ask(app, "PUT", "/restconf/data", body, YANG)
        again = ask(app, "PUT", "/restconf/data", body, YANG)
        assert first.status_code in (204, 400), (path, new, first.text)
        assert again.status_code == first.status_code, (path, new)
        if first.status_code == 400:
            refused += 1
            data = ask(app, "GET", "/restconf/data")
            assert data.headers["etag"] == before, (path, new)
        else:
            complete(app)
    assert refused > 20


def test_a_refused_set_of_keys_is_not_kept() -> None:
    app = gateway()
    _config, _keys = complete(app)
    before = ask(app, "GET", "/restconf/data").headers["etag"]
    for bad in (
        {"obrin-keys:keys": {"certificate": {"chain": "x", "authorities": "y"}}},
        {"obrin-keys:keys": {"pre-shared-key": [{"tunnel": 7}]}},
        {"obrin-keys:keys": {"pre-shared-key": {}}},
        {"obrin-keys:keys": {"pre-shared-key": [], "session-password": [{"neighbor": 7}]}},
        {"obrin-keys:keys": {"pre-shared-key": [], "session-password": {}}},
        {"obrin-keys:keys": []},
    ):
        for _ in range(2):
            response = ask(
                app, "PUT", "/restconf/data/obrin-keys:keys", json.dumps(bad).encode(), YANG
            )
            assert response.status_code == 400, response.text
        assert ask(app, "GET", "/restconf/data").headers["etag"] == before


def test_every_mutation_of_the_clouds_bodies_is_answered() -> None:
    settled = settled_of()
    app = cloud()
    for step in cloud_steps(settled, settled.clouds, SECRETS):
        kind, name = kind_and_name(step)
        for path, new, changed in mutations(step.body):
            response = ask(app, "PUT", f"/v1/{kind}/odd", json.dumps(changed).encode())
            assert response.status_code < 500, (kind, path, new, response.text)
            if response.status_code == 202:
                assert ask(app, "DELETE", f"/v1/{kind}/odd").status_code == 202
        for _ in range(50):
            response = ask(app, "PUT", f"/v1/{kind}/{name}", json.dumps(step.body).encode())
            if response.status_code == 200:
                break
        assert response.status_code == 200, response.text


def test_only_the_token_opens_and_the_proof_tells_nothing_of_it() -> None:
    class Served:
        def authorised(self, header: bytes) -> bool:
            return header == b"Bearer right"

        def prove(self, nonce: str) -> str:
            return f"proof of {len(nonce)}"

        def end(self) -> None:
            raise AssertionError("ended by a stranger")

    guarded = TokenGuard(CLOUD, Served())
    for method, path in (
        ("GET", "/v1/networks"),
        ("DELETE", "/v1/process"),
        ("GET", "/v1/proof"),
        ("POST", "/v1/proof/x"),
        ("GET", "/v1/proof/" + "x" * 200),
    ):
        for header in (
            {},
            {"authorization": "Bearer wrong"},
            {"authorization": ""},
            {"authorization": "Bearer rightx"},
        ):
            assert ask(guarded, method, path, headers=header).status_code == 401
    assert ask(guarded, "GET", "/v1/proof/abc").text == "proof of 3"
    right = {"authorization": "Bearer right"}
    assert ask(guarded, "GET", "/v1/networks", headers=right).json() == {"items": []}


@pytest.mark.parametrize("number", ["9" * 5000, "0", "-1", "\u0663", "1e9", "x", "9" * 17])
def test_no_number_of_an_operation_is_too_odd(number: str) -> None:
    assert ask(CLOUD, "GET", f"/v1/operations/{number}").status_code == 404
