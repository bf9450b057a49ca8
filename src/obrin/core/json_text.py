"""JSON from outside: text of any depth and any number in it ends in a value or in one error.

The library alone lets four kinds through: `NaN` and `Infinity`, which are not JSON (RFC 8259
section 6), numbers such as 1e999 that become infinite, integers of more digits than it converts,
and nesting deeper than the stack.
"""

from __future__ import annotations

import json
import math
from typing import Any, NoReturn

Json = dict[str, Any]
"""An object of JSON."""


class JsonError(ValueError):
    """`place` is `:line:column`, or empty where it is not known; `what` is wrong there."""

    def __init__(self, what: str, place: str = "") -> None:
        self.what, self.place = what, place
        super().__init__(f"{place.removeprefix(':')}: {what}" if place else what)


def parse_json(data: str | bytes) -> Any:
    """The value of a whole text, of which bytes are UTF-8. Raises JsonError and nothing else."""
    try:
        text = data if isinstance(data, str) else data.decode("utf-8-sig")
        return json.loads(text, parse_float=_finite, parse_constant=_refuse)
    except UnicodeDecodeError as error:
        raise JsonError(f"byte {error.start} is not UTF-8") from None
    except json.JSONDecodeError as error:
        raise JsonError(error.msg, f":{error.lineno}:{error.colno}") from None
    except RecursionError:
        raise JsonError("nested too deeply") from None
    except ValueError as error:
        raise JsonError(str(error)) from None


def _finite(text: str) -> float:
    value = float(text)
    if not math.isfinite(value):
        _refuse(text)
    return value


def _refuse(text: str) -> NoReturn:
    raise ValueError(f"{text[:40]} is not a number that can be kept")
