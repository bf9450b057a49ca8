"""The option `--without`, and a design with those things failed."""

from __future__ import annotations

from collections.abc import Collection
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from obrin.core.reach.model import ReachModel
    from obrin.core.settled.model import Settled

without_option = click.option(
    "--without",
    "failed",
    multiple=True,
    metavar="KIND:NAME",
    help="With this failed, such as uplink:hh-east/fibre; may be repeated.",
)


def model_without(settled: Settled, failed: Collection[str]) -> ReachModel:
    """The model with elements failed, each as `kind:name`. Raises ObrinError for an unknown one."""
    from obrin.core.reach.model import ReachModel

    whole = ReachModel(settled)
    return whole.without(ways_without(settled, failed)) if failed else whole


def ways_without(settled: Settled, failed: Collection[str]) -> frozenset[str]:
    """The ways that these take along. Raises ObrinError for an unknown one."""
    from obrin.core.drill.elements import lost_ways, parse_elements

    return lost_ways(settled, parse_elements(settled, failed))
