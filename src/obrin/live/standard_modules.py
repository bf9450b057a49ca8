"""Validation of standard data against its YANG modules (RFC 7950, RFC 7951).

The standard modules come from the package that ships them, Obrin's own from `obrin/yang`.
"""

from __future__ import annotations

import contextlib
import functools
import importlib.metadata
import importlib.resources
import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from obrin.core.errors import OutsideError

_IMPLEMENTED = (
    "iana-if-type",
    "ietf-interfaces",
    "ietf-ip",
    "ietf-routing",
    "ietf-ipv4-unicast-routing",
    "ietf-ipv6-unicast-routing",
    "ietf-access-control-list",
    "ietf-nat",
    "obrin-ipsec",
    "obrin-bgp",
    "obrin-circuits",
    "obrin-hosts",
    "obrin-interfaces",
    "obrin-keys",
    "obrin-observe",
)
_IMPORTED = ("ietf-inet-types", "ietf-yang-types", "ietf-packet-fields", "ietf-ethertypes")
_FEATURES = {
    "ietf-access-control-list": [
        "match-on-ipv4",
        "match-on-ipv6",
        "match-on-tcp",
        "match-on-udp",
        "match-on-icmp",
        "ipv4",
        "ipv6",
        "interface-attachment",
    ],
    "ietf-nat": ["basic-nat44", "nptv6"],
}


class StandardDataError(OutsideError):
    """Data that its modules do not allow; the text says where."""


def _standard_folders() -> list[str]:
    files = importlib.metadata.files("pyang") or []
    folders = {
        str(Path(str(f.locate())).resolve().parent)
        for f in files
        if f.suffix == ".yang" and f.parent.name in ("ietf", "iana")
    }
    if not folders:
        raise OutsideError(
            "the standard YANG modules are not installed. Reinstall the package 'pyang'"
        )
    return sorted(folders)


def _own_folder() -> str:
    return str(importlib.resources.files("obrin").joinpath("yang"))


def _entry(name: str, folders: list[str], kind: str) -> dict[str, Any]:
    for folder in folders:
        path = Path(folder) / f"{name}.yang"
        if path.exists():
            text = path.read_text(encoding="utf-8")
            revision = re.search(r"^\s*revision\s+\"?([0-9-]{10})", text, re.MULTILINE)
            namespace = re.search(r"namespace\s+\"([^\"]+)\"", text)
            return {
                "name": name,
                "revision": revision[1] if revision else "",
                "namespace": namespace[1] if namespace else "",
                "conformance-type": kind,
                "feature": _FEATURES.get(name, []),
            }
    raise OutsideError(f"the YANG module {name} is not installed. Reinstall the package 'pyang'")


@contextlib.contextmanager
def _patterns_once() -> Iterator[None]:
    """The library translates the pattern of each leaf anew, and most are the same few: three
    quarters of the time. Where it does so by another name, it just takes longer."""
    import yangson.constraint as library

    translate = getattr(library, "translate_pattern", None)
    if translate is None:
        yield
        return
    library.translate_pattern = functools.cache(translate)
    try:
        yield
    finally:
        library.translate_pattern = translate


@functools.cache
def data_model() -> Any:
    """The data model of a gateway. Takes a third of a second the first time."""
    import yangson

    folders = [*_standard_folders(), _own_folder()]
    modules = [_entry(name, folders, "implement") for name in _IMPLEMENTED]
    modules += [_entry(name, folders, "import") for name in _IMPORTED]
    library = {"ietf-yang-library:modules-state": {"module-set-id": "obrin", "module": modules}}
    with _patterns_once():
        return yangson.DataModel(json.dumps(library), tuple(folders))


def validate(data: dict[str, Any]) -> None:
    """Raises StandardDataError with the place and the reason."""
    import yangson.enumerations
    import yangson.exceptions

    try:
        instance = data_model().from_raw(data)
        instance.validate(ctype=yangson.enumerations.ContentType.config)
    except (
        yangson.exceptions.YangsonException,
        ArithmeticError,
        AttributeError,
        LookupError,
        RecursionError,
        TypeError,
        ValueError,
    ) as error:
        # Values of another shape than the modules say reach the library's own code now and then.
        raise StandardDataError(f"the data does not fit its YANG modules: {error}") from error
