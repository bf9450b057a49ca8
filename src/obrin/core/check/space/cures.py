"""A way out of an overlap is tried before it is offered: written down, settled and judged."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import pydantic

from obrin.core.catalogue.offering import Offered
from obrin.core.check.space.spaces import contests_of, owner_text
from obrin.core.design.model import Design
from obrin.core.errors import ObrinError
from obrin.core.settle.choices import Choices
from obrin.core.settle.settle import settle
from obrin.core.settled.building import build_settled
from obrin.core.space.view import Entry

Json = Mapping[str, Any]


def trial(
    design: Design, choices: Choices, offering: Offered, one: Entry, other: Entry
) -> Callable[[Json], str]:
    """Why a change of the design would not keep these two apart; empty when it does."""
    owners = owner_text(one), owner_text(other)
    before = design.model_dump(by_alias=True, exclude_unset=True, mode="json")

    def tried(change: Json) -> str:
        try:
            changed = Design.model_validate(merged(before, change))
            settled = build_settled(changed, settle(changed, choices, offering, bytes(5)))
        except (ObrinError, pydantic.ValidationError) as error:
            return str(error).splitlines()[0]
        return next(contests_of(settled, *owners), "")

    return tried


def merged(data: Any, change: Any) -> Any:
    """Mappings key by key, everything else replaced."""
    if not (isinstance(data, Mapping) and isinstance(change, Mapping)):
        return change
    found = dict(data)
    for key, value in change.items():
        found[key] = merged(data[key], value) if key in data else value
    return found
