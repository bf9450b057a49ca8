"""The API's description in OpenAPI 3.1, made from the bodies that validate its requests."""

from __future__ import annotations

from typing import Any

from obrin.core.design.values import PROTOCOLS
from obrin.live.practice.cloud.bodies import KINDS


def openapi() -> dict[str, Any]:
    paths: dict[str, Any] = {
        "/v1/operations/{number}": _read("Progress of a change", "operation", "number", "integer"),
        "/v1/gateways/{name}/state": _read(
            "Tunnels, sessions and drops of a gateway's instances", "state"
        ),
        "/v1/networks/{name}/drops": _read("What its filters dropped", "drops"),
        "/v1/probes": {
            "post": {
                "summary": "One question from a practice host",
                "requestBody": _body(_PROBE),
                "responses": {"200": _answer("answer"), **_problems(400, 404, 413, 422)},
            }
        },
    }
    schemas: dict[str, Any] = {}
    for kind, model in KINDS.items():
        schema = model.model_json_schema(ref_template="#/components/schemas/{model}")
        schemas |= schema.pop("$defs", {})
        schemas[model.__name__] = schema
        paths[f"/v1/{kind}/{{name}}"] = _resource(kind, model.__name__)
        paths[f"/v1/{kind}/{{name}}/acceptance"] = {
            "parameters": [_parameter("name")],
            "post": {
                "summary": "Its owner accepts what waits for that",
                "responses": {"200": _answer(""), **_problems(404, 409)},
            },
        }
    return {
        "openapi": "3.1.0",
        "info": {"title": "Practice cloud", "version": "1"},
        "paths": paths,
        "components": {"schemas": schemas},
    }


def _read(summary: str, what: str, key: str = "name", kind: str = "string") -> dict[str, Any]:
    """Something that is only read."""
    responses = {"200": _answer(what), **_problems(404)}
    return {
        "parameters": [_parameter(key, kind)],
        "get": {"summary": summary, "responses": responses},
    }


def _resource(kind: str, model: str) -> dict[str, Any]:
    """One that is read, made, changed and removed."""
    problems = _problems(400, 403, 404, 409, 412, 413, 422, 428)
    return {
        **_read(f"One of {kind}, with its ETag", ""),
        "put": {
            "summary": "Create, or change with If-Match; the same body changes nothing",
            "requestBody": _body({"$ref": f"#/components/schemas/{model}"}),
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


def _body(schema: dict[str, Any]) -> dict[str, Any]:
    return {"required": True, "content": {"application/json": {"schema": schema}}}


_PROBE = {
    "type": "object",
    "properties": {
        "source": {"type": "string", "format": "ipv4"},
        "destination": {"type": "string", "format": "ipv4"},
        "protocol": {"enum": sorted(PROTOCOLS)},
        "port": {"type": "integer", "minimum": 0, "maximum": 65535},
        "timeout": {"type": "number", "minimum": 0.1, "maximum": 30},
        "size": {"type": "integer", "minimum": 0, "maximum": 1500},
        "fragmentable": {"type": "boolean"},
    },
    "required": ["source", "destination", "protocol"],
}


def _parameter(name: str, kind: str = "string") -> dict[str, Any]:
    return {"name": name, "in": "path", "required": True, "schema": {"type": kind}}


def _problems(*codes: int) -> dict[str, Any]:
    return {str(code): {"description": "problem details (RFC 9457)"} for code in codes}


def _answer(what: str) -> dict[str, Any]:
    return {"description": what or "found", "content": {"application/json": {}}}
