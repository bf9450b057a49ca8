"""The JSON Schema of the design file, and a reference made from it."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.design.model import Design
from obrin.core.design.values import format_duration, format_rate
from obrin.core.json_text import Json
from obrin.core.quantity import plain


def design_schema() -> Json:
    schema = Design.model_json_schema(by_alias=True)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema}


def reference_text() -> str:
    """Markdown: one table for each kind of entity."""
    schema = design_schema()
    lines = [
        "# The design file",
        "",
        "Made from the schema by `obrin schema --reference`; do not edit.",
        "",
        "YAML 1.2. A key whose value is left out, or that is itself left out, is a blank where",
        "the table says so, and `obrin settle` chooses for it. Names are lower-case letters,",
        "digits and hyphens. Times and rates carry their unit: `8 h`, `500 Mbit/s`.",
        "",
    ]
    lines += _entity("Design", schema)
    for name, entity in schema["$defs"].items():
        if "anyOf" in entity:
            short = _kind(entity["anyOf"][1])
            whole = entity["anyOf"][0]
            described = f"{whole['description']} Or, in short: {short}."
            lines += _entity(name, {**whole, "description": described})
            continue
        lines += _entity(name, entity)
    return "\n".join(lines).rstrip() + "\n"


def _entity(name: str, entity: Json) -> Iterator[str]:
    yield f"## {name}"
    yield ""
    yield str(entity.get("description", "")).replace("\n", " ")
    yield ""
    yield "| Key | Value | Default | Meaning |"
    yield "| --- | --- | --- | --- |"
    required = entity.get("required", [])
    for key, spec in entity.get("properties", {}).items():
        default = "required" if key in required else _default(spec)
        meaning = str(spec.get("description", "")).replace("\n", " ").replace("|", "\\|")
        yield f"| `{key}` | {_kind(spec)} | {default} | {meaning} |"
    yield ""


def _default(spec: Json) -> str:
    if "default" not in spec:
        return "its own defaults" if "$ref" in spec else "none"
    value = spec["default"]
    if value is None:
        return "blank"
    if isinstance(value, dict | list) and not value:
        return "none"
    if isinstance(value, float):
        unit = str(spec.get("examples", [""])[0]).partition(" ")[2]
        written = {"h": format_duration, "Mbit/s": format_rate}.get(unit)
        return f"`{f'{plain(value)} {unit}' if written is None else written(value)}`"
    return f"`{str(value).lower() if isinstance(value, bool) else value}`"


def _kind(spec: Json) -> str:
    if "$ref" in spec:
        name = spec["$ref"].rsplit("/", 1)[-1]
        return f"[{name}](#{name.lower()})"
    if "anyOf" in spec:
        return " or ".join(_kind(o) for o in spec["anyOf"] if o.get("type") != "null")
    if "enum" in spec:
        return " or ".join(f"`{v}`" for v in spec["enum"])
    if "const" in spec:
        return f"`{spec['const']}`"
    if spec.get("type") == "array":
        return f"list of {_kind(spec.get('items', {}))}"
    if spec.get("type") == "object":
        inner = spec.get("additionalProperties")
        if not isinstance(inner, dict):
            inner = next(iter(spec.get("patternProperties", {}).values()), {})
        return f"names, each {_kind(inner)}"
    if "examples" in spec:
        return f"text such as `{spec['examples'][0]}`"
    return {"integer": "whole number", "string": "text", "boolean": "`true` or `false`"}.get(
        str(spec.get("type")), str(spec.get("type", "text"))
    )
