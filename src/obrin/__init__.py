"""Obrin plans, proves, connects and keeps redundant IPsec links between sites and clouds.

The public Python API is what this module names; each name is imported when it is first used.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

_PUBLIC = {
    "BulkMatch": "obrin.core.address.match",
    "Design": "obrin.core.design.model",
    "DesignError": "obrin.core.errors",
    "Finding": "obrin.core.check",
    "FreeSpace": "obrin.core.address.space",
    "ObrinError": "obrin.core.errors",
    "Offering": "obrin.core.catalogue.offering",
    "Pack": "obrin.core.handover.pack",
    "Prefix": "obrin.core.address.prefix",
    "PrefixSet": "obrin.core.address.bulk",
    "Settled": "obrin.core.settled.model",
    "SpaceView": "obrin.core.space.view",
    "build_settled": "obrin.core.settled.building",
    "check": "obrin.core.check",
    "load_design": "obrin.core.design.document",
    "make_pack": "obrin.core.handover.pack",
    "parse_prefix": "obrin.core.address.prefix",
    "predict_outage": "obrin.core.drill.outage",
    "settle": "obrin.core.settle.settle",
    "space_view": "obrin.core.space.view",
    "summaries": "obrin.core.address.space",
}

__all__ = [
    "BulkMatch",
    "Design",
    "DesignError",
    "Finding",
    "FreeSpace",
    "ObrinError",
    "Offering",
    "Pack",
    "Prefix",
    "PrefixSet",
    "Settled",
    "SpaceView",
    "__version__",
    "build_settled",
    "check",
    "load_design",
    "make_pack",
    "parse_prefix",
    "predict_outage",
    "settle",
    "space_view",
    "summaries",
]

if TYPE_CHECKING:
    from obrin.core.address.bulk import PrefixSet
    from obrin.core.address.match import BulkMatch
    from obrin.core.address.prefix import Prefix, parse_prefix
    from obrin.core.address.space import FreeSpace, summaries
    from obrin.core.catalogue.offering import Offering
    from obrin.core.check import Finding, check
    from obrin.core.design.document import load_design
    from obrin.core.design.model import Design
    from obrin.core.drill.outage import predict_outage
    from obrin.core.errors import DesignError, ObrinError
    from obrin.core.handover.pack import Pack, make_pack
    from obrin.core.settle.settle import settle
    from obrin.core.settled.building import build_settled
    from obrin.core.settled.model import Settled
    from obrin.core.space.view import SpaceView, space_view


def __getattr__(name: str) -> Any:
    if name not in _PUBLIC:
        raise AttributeError(f"module 'obrin' has no attribute '{name}'")
    return getattr(importlib.import_module(_PUBLIC[name]), name)
