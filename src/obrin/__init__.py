"""Obrin plans, proves, connects and keeps redundant IPsec links between sites and clouds.

The public Python API is what this module names; each name is imported when it is first used.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

_PUBLIC = {
    "Design": "obrin.core.design.model",
    "DesignError": "obrin.core.errors",
    "Finding": "obrin.core.check",
    "ObrinError": "obrin.core.errors",
    "Pack": "obrin.core.handover.pack",
    "Prefix": "obrin.core.address.prefix",
    "Settled": "obrin.core.design.settled",
    "build_settled": "obrin.core.design.building",
    "check": "obrin.core.check",
    "load_design": "obrin.core.design.document",
    "make_pack": "obrin.core.handover.pack",
    "parse_prefix": "obrin.core.address.prefix",
    "predict_outage": "obrin.core.drill.outage",
    "settle": "obrin.core.design.settle",
}

__all__ = [
    "Design",
    "DesignError",
    "Finding",
    "ObrinError",
    "Pack",
    "Prefix",
    "Settled",
    "__version__",
    "build_settled",
    "check",
    "load_design",
    "make_pack",
    "parse_prefix",
    "predict_outage",
    "settle",
]

if TYPE_CHECKING:
    from obrin.core.address.prefix import Prefix, parse_prefix
    from obrin.core.check import Finding, check
    from obrin.core.design.building import build_settled
    from obrin.core.design.document import load_design
    from obrin.core.design.model import Design
    from obrin.core.design.settle import settle
    from obrin.core.design.settled import Settled
    from obrin.core.drill.outage import predict_outage
    from obrin.core.errors import DesignError, ObrinError
    from obrin.core.handover.pack import Pack, make_pack


def __getattr__(name: str) -> Any:
    if name not in _PUBLIC:
        raise AttributeError(f"module 'obrin' has no attribute '{name}'")
    return getattr(importlib.import_module(_PUBLIC[name]), name)
