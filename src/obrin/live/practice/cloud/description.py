"""The API's description in OpenAPI 3.1, made from the bodies that validate its requests."""

from __future__ import annotations

from typing import Any

from obrin.live.practice.cloud.bodies import KINDS


def openapi() -> dict[str, Any]:
    paths: dict[str, Any] = {
        "/v1/operations/{number}": {
            "get": {"summary": "Progress of a change", "responses": {"200": _answer("operation")}}
        },
        "/v1/gateways/{name}/state": {
            "get": {
                "summary": "Tunnels, sessions and drops of a gateway's instances",
                "responses": {"200": _answer("state")},
            }
        },
        "/v1/networks/{name}/drops": {
            "get": {"summary": "What its filters dropped", "responses": {"200": _answer("drops")}}
        },
        "/v1/probes": {
            "post": {
                "summary": "One question from a practice host",
                "responses": {"200": _answer("answer")},
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
        problems = {
            str(code): {"description": "problem details (RFC 9457)"}
            for code in (403, 404, 409, 412, 422, 428)
        }
        paths[f"/v1/{kind}/{{name}}"] = {
            "parameters": [
                {"name": "name", "in": "path", "required": True, "schema": {"type": "string"}}
            ],
            "get": {"summary": f"One of {kind}, with its ETag", "responses": {"200": _answer("")}},
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


def _answer(what: str) -> dict[str, Any]:
    return {"description": what or "found", "content": {"application/json": {}}}
