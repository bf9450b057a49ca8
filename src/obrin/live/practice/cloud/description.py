"""The API's description in OpenAPI 3.1, made from the bodies that validate its requests."""

from __future__ import annotations

from typing import Any

from obrin.core.design.values import PROTOCOLS
from obrin.live.practice.cloud.bodies import KINDS


def openapi() -> dict[str, Any]:
    paths: dict[str, Any] = {
        "/v1/operations/{number}": {
            "parameters": [_parameter("number", "integer")],
            "get": {
                "summary": "Progress of a change",
                "responses": {"200": _answer("operation"), **_problems(404)},
            },
        },
        "/v1/gateways/{name}/state": {
            "parameters": [_parameter("name")],
            "get": {
                "summary": "Tunnels, sessions and drops of a gateway's instances",
                "responses": {"200": _answer("state"), **_problems(404)},
            },
        },
        "/v1/networks/{name}/drops": {
            "parameters": [_parameter("name")],
            "get": {
                "summary": "What its filters dropped",
                "responses": {"200": _answer("drops"), **_problems(404)},
            },
        },
        "/v1/probes": {
            "post": {
                "summary": "One question from a practice host",
                "requestBody": {
                    "required": True,
                    "content": {"application/json": {"schema": _PROBE}},
                },
                "responses": {"200": _answer("answer"), **_problems(400, 404, 413, 422)},
            }
        },
    }
    schemas: dict[str, Any] = {}
    for kind, model in KINDS.items():
        schema = model.model_json_schema(ref_template="#/components/schemas/{model}")
        schemas |= schema.pop("$defs", {})
        schemas[model.__name__] = schema
        body = {
            "required": True,
            "content": {
                "application/json": {"schema": {"$ref": f"#/components/schemas/{model.__name__}"}}
            },
        }
        problems = _problems(400, 403, 404, 409, 412, 413, 422, 428)
        paths[f"/v1/{kind}/{{name}}"] = {
            "parameters": [_parameter("name")],
            "get": {
                "summary": f"One of {kind}, with its ETag",
                "responses": {"200": _answer(""), **_problems(404)},
            },
            "put": {
                "summary": "Create, or change with If-Match; the same body changes nothing",
                "requestBody": body,
                "responses": {
                    "200": _answer("already so"),
                    "202": {"description": "accepted; Location names the operation"},
                    **problems,
                },
            },
            "delete": {
                "summary": "Remove",
                "responses": {"202": {"description": "accepted"}, **problems},
            },
        }
    return {
        "openapi": "3.1.0",
        "info": {"title": "Practice cloud", "version": "1"},
        "paths": paths,
        "components": {"schemas": schemas},
    }


_PROBE = {
    "type": "object",
    "properties": {
        "source": {"type": "string", "format": "ipv4"},
        "destination": {"type": "string", "format": "ipv4"},
        "protocol": {"enum": sorted(PROTOCOLS)},
        "port": {"type": "integer", "minimum": 0, "maximum": 65535},
        "timeout": {"type": "number", "minimum": 0.1, "maximum": 30},
    },
    "required": ["source", "destination", "protocol"],
}


def _parameter(name: str, kind: str = "string") -> dict[str, Any]:
    return {"name": name, "in": "path", "required": True, "schema": {"type": kind}}


def _problems(*codes: int) -> dict[str, Any]:
    return {str(code): {"description": "problem details (RFC 9457)"} for code in codes}


def _answer(what: str) -> dict[str, Any]:
    return {"description": what or "found", "content": {"application/json": {}}}
