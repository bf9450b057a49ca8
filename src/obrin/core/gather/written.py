"""Values as the text of a design."""

from __future__ import annotations

from typing import Any

import yaml

_DUMPER = getattr(yaml, "CSafeDumper", yaml.SafeDumper)


def as_yaml(values: Any, head: str = "") -> str:
    """`head` is a comment in front of it."""
    text: str = yaml.dump(
        values,
        Dumper=_DUMPER,
        sort_keys=False,
        default_flow_style=False,
        width=100,
        allow_unicode=True,
    )
    return f"# {head}\n{text}" if head else text
