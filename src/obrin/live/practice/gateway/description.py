"""What a practice gateway answers over HTTP, as OpenAPI 3.1; the data is described in YANG."""

from __future__ import annotations

from typing import Any

from obrin.core.design.values import PROTOCOLS

_MEDIA = "application/yang-data+json"
_ADDRESS = {"type": "string", "format": "ipv4"}
_PORT = {"type": "integer", "minimum": 0, "maximum": 65535}
_SECONDS = {"type": ["string", "number"]}
_DONE = {"description": "done"}
_ERRORS = {
    str(code): {"description": "ietf-restconf:errors (RFC 8040 section 7.1)"}
    for code in (400, 403, 404, 405, 413)
}
_OPERATIONS: dict[str, tuple[str, dict[str, Any], list[str]]] = {
    "obrin-ipsec:begin-anew": (
        "Begin a tunnel anew",
        {"tunnel": {"type": "string"}},
        ["tunnel"],
    ),
    "obrin-observe:probe": (
        "Let a practice host probe",
        {
            "source": _ADDRESS,
            "destination": _ADDRESS,
            "port": _PORT,
            "timeout": _SECONDS,
            "size": {"type": "integer", "minimum": 0, "maximum": 65535},
            "fragmentable": {"type": "boolean"},
            "protocol": {"enum": sorted(PROTOCOLS)},
        },
        ["source", "destination", "protocol"],
    ),
    "obrin-observe:stream": (
        "Let a practice host stream",
        {"source": _ADDRESS, "destination": _ADDRESS, "interval": _SECONDS, "duration": _SECONDS},
        ["source", "destination", "interval", "duration"],
    ),
}


def openapi() -> dict[str, Any]:
    """RFC 8040 over the modules of a gateway, and the operations of obrin-observe and
    obrin-ipsec."""
    module = {
        "name": "top",
        "in": "path",
        "required": True,
        "schema": {"type": "string", "examples": ["ietf-interfaces:interfaces"]},
    }
    done = {"201": {"description": "made"}, "204": {"description": "changed"}}
    paths: dict[str, Any] = {
        "/restconf/data": {
            "get": {"summary": "All data, with its ETag", "responses": {"200": _data()}},
            "put": {
                "summary": "All configuration at once",
                "requestBody": _body({"ietf-restconf:data": {"type": "object"}}),
                "responses": {**done, **_ERRORS},
            },
        },
        "/restconf/data/{top}": {
            "parameters": [module],
            "get": {"summary": "One container", "responses": {"200": _data(), **_ERRORS}},
            "put": {
                "summary": "One container of configuration, or the keys",
                "requestBody": _body({}),
                "responses": {**done, **_ERRORS},
            },
        },
    }
    for name, (summary, fields, required) in _OPERATIONS.items():
        given = {"type": "object", "properties": fields, "required": required}
        successes = {"200": _data()} if name.startswith("obrin-observe") else {"204": _DONE}
        paths[f"/restconf/operations/{name}"] = {
            "post": {
                "summary": summary,
                "requestBody": _body({f"{name.partition(':')[0]}:input": given}),
                "responses": {**successes, **_ERRORS},
            }
        }
    return {
        "openapi": "3.1.0",
        "info": {"title": "Practice gateway", "version": "1"},
        "paths": paths,
    }


def _body(properties: dict[str, Any]) -> dict[str, Any]:
    schema = {"type": "object", "properties": properties, "required": list(properties)}
    return {"required": True, "content": {_MEDIA: {"schema": schema}}}


def _data() -> dict[str, Any]:
    return {"description": "YANG data as JSON (RFC 7951)", "content": {_MEDIA: {}}}
