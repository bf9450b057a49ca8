"""A pack: all that one gateway's owner is handed, as texts by file name."""

from __future__ import annotations

import json
from dataclasses import dataclass

from obrin.core.drill.outage import Predictor
from obrin.core.handover.mirror import cloud_end, site_end, unmirrored
from obrin.core.handover.proof import proof_sheet
from obrin.core.handover.secrets import Secrets, key_data
from obrin.core.handover.sheet import sheet_csv, value_sheet
from obrin.core.handover.standard_data import Json, standard_data
from obrin.core.handover.steps import steps
from obrin.core.settled.model import Settled

CONFIG, KEYS, SHEET, STEPS = "config.json", "keys.json", "sheet.md", "steps.md"
MIRROR, VALUES = "mirror.md", "values.csv"


@dataclass(frozen=True, slots=True)
class Pack:
    """Only `keys` holds secrets, and nothing else."""

    gateway: str
    config: Json
    keys: Json
    sheet: str
    steps: str
    mirror: str

    def open_files(self) -> dict[str, str]:
        """File name to text, without the keys."""
        return {
            CONFIG: as_json(self.config),
            SHEET: self.sheet,
            STEPS: self.steps,
            MIRROR: self.mirror,
            VALUES: sheet_csv(self.sheet),
        }


def as_json(data: Json) -> str:
    return json.dumps(data, indent=2) + "\n"


def gateways_of(settled: Settled) -> list[str]:
    """Everything that gets a pack: site gateways and clouds with a tunnel or circuit, and the
    members of hubs."""
    used = {t.gateway for t in settled.legs()} | {t.cloud for t in settled.legs()}
    used |= {name for name in settled.clouds if settled.hubs_of(name)}
    return [name for name in (*settled.gateways, *settled.clouds) if name in used]


def make_pack(
    settled: Settled, place: str, secrets: Secrets, predictor: Predictor | None = None
) -> Pack:
    """Raises KeyError naming the tunnel or gateway whose secret is missing.

    For many packs of one design, give them one `predictor`.
    """
    return Pack(
        place,
        standard_data(settled, place),
        key_data(settled, place, secrets),
        value_sheet(settled, place),
        steps(settled, place, predictor or Predictor(settled)),
        proof_sheet(settled, place),
    )


def mirror_faults(settled: Settled) -> list[str]:
    """Where the two ends of a tunnel are not mirror images; empty, or there is a bug in Obrin."""
    return [
        f"{tunnel.label}: {fault}"
        for tunnel in settled.tunnels()
        for fault in unmirrored(site_end(settled, tunnel), cloud_end(settled, tunnel))
    ]
