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
    "Element": "obrin.core.drill.elements",
    "Finding": "obrin.core.check",
    "FixedMatch": "obrin.core.address.match",
    "FreeSpace": "obrin.core.address.space",
    "NetworkRef": "obrin.core.design.places",
    "ObrinError": "obrin.core.errors",
    "Offering": "obrin.core.catalogue.offering",
    "Outcome": "obrin.core.drill.sweep",
    "PRACTICE_CLOUD": "obrin.core.catalogue.offering",
    "Pack": "obrin.core.handover.pack",
    "Prefix": "obrin.core.address.prefix",
    "PrefixSet": "obrin.core.address.bulk",
    "ReachModel": "obrin.core.reach.model",
    "Secrets": "obrin.core.handover.secrets",
    "Settled": "obrin.core.settled.model",
    "SpaceView": "obrin.core.space.view",
    "Sweep": "obrin.core.drill.sweep",
    "build_settled": "obrin.core.settled.building",
    "check": "obrin.core.check",
    "elements": "obrin.core.drill.elements",
    "load_design": "obrin.core.design.document",
    "make_key": "obrin.core.ipsec.shared_keys",
    "make_pack": "obrin.core.handover.pack",
    "parse_offering": "obrin.core.design.offering_file",
    "parse_prefix": "obrin.core.address.prefix",
    "predict_outage": "obrin.core.drill.outage",
    "probe_key": "obrin.core.reach.trace",
    "settle": "obrin.core.settle.settle",
    "space_view": "obrin.core.space.view",
    "summaries": "obrin.core.address.space",
    "trace": "obrin.core.reach.trace",
}

__all__ = [
    "PRACTICE_CLOUD",
    "BulkMatch",
    "Design",
    "DesignError",
    "Element",
    "Finding",
    "FixedMatch",
    "FreeSpace",
    "NetworkRef",
    "ObrinError",
    "Offering",
    "Outcome",
    "Pack",
    "Prefix",
    "PrefixSet",
    "ReachModel",
    "Secrets",
    "Settled",
    "SpaceView",
    "Sweep",
    "__version__",
    "build_settled",
    "check",
    "elements",
    "load_design",
    "make_key",
    "make_pack",
    "parse_offering",
    "parse_prefix",
    "predict_outage",
    "probe_key",
    "settle",
    "space_view",
    "summaries",
    "trace",
]

if TYPE_CHECKING:
    from obrin.core.address.bulk import PrefixSet
    from obrin.core.address.match import BulkMatch, FixedMatch
    from obrin.core.address.prefix import Prefix, parse_prefix
    from obrin.core.address.space import FreeSpace, summaries
    from obrin.core.catalogue.offering import PRACTICE_CLOUD, Offering
    from obrin.core.check import Finding, check
    from obrin.core.design.document import load_design
    from obrin.core.design.model import Design
    from obrin.core.design.offering_file import parse_offering
    from obrin.core.design.places import NetworkRef
    from obrin.core.drill.elements import Element, elements
    from obrin.core.drill.outage import predict_outage
    from obrin.core.drill.sweep import Outcome, Sweep
    from obrin.core.errors import DesignError, ObrinError
    from obrin.core.handover.pack import Pack, make_pack
    from obrin.core.handover.secrets import Secrets
    from obrin.core.ipsec.shared_keys import make_key
    from obrin.core.reach.model import ReachModel
    from obrin.core.reach.trace import probe_key, trace
    from obrin.core.settle.settle import settle
    from obrin.core.settled.building import build_settled
    from obrin.core.settled.model import Settled
    from obrin.core.space.view import SpaceView, space_view


def __getattr__(name: str) -> Any:
    if name not in _PUBLIC:
        raise AttributeError(f"module 'obrin' has no attribute '{name}'")
    return getattr(importlib.import_module(_PUBLIC[name]), name)
