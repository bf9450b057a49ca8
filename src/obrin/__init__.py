"""Obrin plans, proves, connects and keeps redundant IPsec links between sites and clouds.

The public Python API is what this module names; each name is imported when it is first used. This
module itself imports nothing: an interrupt in the program's first moments must find it ready.
"""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__version__ = "0.1.0"

_PUBLIC = {
    "BulkMatch": "obrin.core.address.match",
    "Choice": "obrin.core.settle.choices",
    "Design": "obrin.core.design.model",
    "DesignError": "obrin.core.errors",
    "Element": "obrin.core.drill.elements",
    "Finding": "obrin.core.check.finding",
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
    "Severity": "obrin.core.check.finding",
    "SpaceView": "obrin.core.space.view",
    "Sweep": "obrin.core.drill.sweep",
    "agreements": "obrin.core.handover.ends.agreed",
    "availability": "obrin.core.drill.availability",
    "build_settled": "obrin.core.settled.building",
    "check": "obrin.core.check.whole",
    "demand_of": "obrin.core.settle.classes",
    "elements": "obrin.core.drill.elements",
    "endings": "obrin.core.calendar.endings",
    "failures": "obrin.core.drill.sweep",
    "judge_classes": "obrin.core.settle.classes",
    "load_design": "obrin.core.design.document",
    "make_key": "obrin.core.ipsec.shared_keys",
    "make_pack": "obrin.core.handover.pack",
    "matrix": "obrin.core.reach.matrix",
    "parse_offering": "obrin.core.design.offering_file",
    "parse_prefix": "obrin.core.address.prefix",
    "path_there_and_back": "obrin.core.reach.paths",
    "predict_outage": "obrin.core.drill.outage",
    "probe_key": "obrin.core.reach.trace",
    "repairs_of": "obrin.core.drill.availability",
    "rotation": "obrin.core.handover.rotation",
    "sessions": "obrin.core.routing.tables",
    "settle": "obrin.core.settle.settle",
    "space_view": "obrin.core.space.view",
    "state_of": "obrin.core.routing.model",
    "summaries": "obrin.core.address.space",
    "table_names": "obrin.core.routing.tables",
    "table_rows": "obrin.core.routing.tables",
    "trace": "obrin.core.reach.trace",
    "weaknesses": "obrin.core.ipsec.shared_keys",
    "wrapping_of": "obrin.core.settled.wrapping",
}

__all__ = [
    "PRACTICE_CLOUD",
    "BulkMatch",
    "Choice",
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
    "Severity",
    "SpaceView",
    "Sweep",
    "__version__",
    "agreements",
    "availability",
    "build_settled",
    "check",
    "demand_of",
    "elements",
    "endings",
    "failures",
    "judge_classes",
    "load_design",
    "make_key",
    "make_pack",
    "matrix",
    "parse_offering",
    "parse_prefix",
    "path_there_and_back",
    "predict_outage",
    "probe_key",
    "repairs_of",
    "rotation",
    "sessions",
    "settle",
    "space_view",
    "state_of",
    "summaries",
    "table_names",
    "table_rows",
    "trace",
    "weaknesses",
    "wrapping_of",
]

if TYPE_CHECKING:
    from obrin.core.address.bulk import PrefixSet
    from obrin.core.address.match import BulkMatch, FixedMatch
    from obrin.core.address.prefix import Prefix, parse_prefix
    from obrin.core.address.space import FreeSpace, summaries
    from obrin.core.calendar.endings import endings
    from obrin.core.catalogue.offering import PRACTICE_CLOUD, Offering
    from obrin.core.check.finding import Finding, Severity
    from obrin.core.check.whole import check
    from obrin.core.design.document import load_design
    from obrin.core.design.model import Design
    from obrin.core.design.offering_file import parse_offering
    from obrin.core.design.places import NetworkRef
    from obrin.core.drill.availability import availability, repairs_of
    from obrin.core.drill.elements import Element, elements
    from obrin.core.drill.outage import predict_outage
    from obrin.core.drill.sweep import Outcome, Sweep, failures
    from obrin.core.errors import DesignError, ObrinError
    from obrin.core.handover.ends.agreed import agreements
    from obrin.core.handover.pack import Pack, make_pack
    from obrin.core.handover.rotation import rotation
    from obrin.core.handover.secrets import Secrets
    from obrin.core.ipsec.shared_keys import make_key, weaknesses
    from obrin.core.reach.matrix import matrix
    from obrin.core.reach.model import ReachModel
    from obrin.core.reach.paths import path_there_and_back
    from obrin.core.reach.trace import probe_key, trace
    from obrin.core.routing.model import state_of
    from obrin.core.routing.tables import sessions, table_names, table_rows
    from obrin.core.settle.choices import Choice
    from obrin.core.settle.classes import demand_of, judge_classes
    from obrin.core.settle.settle import settle
    from obrin.core.settled.building import build_settled
    from obrin.core.settled.model import Settled
    from obrin.core.settled.wrapping import wrapping_of
    from obrin.core.space.view import SpaceView, space_view


def __getattr__(name: str) -> Any:
    if name not in _PUBLIC:
        raise AttributeError(f"module 'obrin' has no attribute '{name}'")
    from importlib import import_module

    return getattr(import_module(_PUBLIC[name]), name)
