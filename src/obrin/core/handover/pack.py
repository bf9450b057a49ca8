"""A pack: all that one gateway's owner is handed, as texts by file name."""

from __future__ import annotations

from dataclasses import dataclass, field

from obrin.core.drill.outage import Predictor
from obrin.core.handover.ends.proof import Configurations
from obrin.core.handover.secrets import Secrets, key_data
from obrin.core.handover.sheet.blocks import markdown, values_csv
from obrin.core.handover.sheet.services import services_sheet
from obrin.core.handover.sheet.sheet import value_sheet
from obrin.core.handover.sheet.steps import steps
from obrin.core.handover.standard.basic import as_json, loaded
from obrin.core.handover.standard.device import DeviceConfig
from obrin.core.json_text import Json
from obrin.core.settled.model import Settled

CONFIG, KEYS, SHEET, STEPS = "config.json", "keys.json", "sheet.md", "steps.md"
MIRROR, VALUES = "mirror.md", "values.csv"
SERVICES, SERVICE_VALUES = "services.md", "services.csv"


@dataclass(frozen=True, slots=True, kw_only=True)
class Pack:
    """The files of a pack: only the keys hold secrets, and nothing else; both they and the
    configuration stand here as they are written. `services` is the sheet for the people around
    and its values, for a site's gateway."""

    gateway: str
    config_text: str
    keys_text: str = field(repr=False)
    sheet: str
    values: str
    steps: str
    mirror: str
    services: tuple[str, str] | None = None

    @property
    def config(self) -> Json:
        """The standard data, in a tree of its own."""
        return loaded(self.config_text)

    @property
    def keys(self) -> Json:
        return loaded(self.keys_text)

    def data_text(self, file: str) -> str:
        """The configuration or the keys as they are written."""
        return self.config_text if file == CONFIG else self.keys_text

    def open_files(self) -> dict[str, str]:
        """File name to text, without the keys."""
        around = (SERVICES, SERVICE_VALUES) if self.services else ()
        return {
            **dict(zip(around, self.services or (), strict=True)),
            CONFIG: self.config_text,
            SHEET: self.sheet,
            STEPS: self.steps,
            MIRROR: self.mirror,
            VALUES: self.values,
        }


def gateways_of(settled: Settled) -> list[str]:
    """Everything that gets a pack: site gateways and clouds with a tunnel or circuit, and the
    members of hubs."""
    used = {t.gateway for t in settled.legs()} | {t.cloud for t in settled.legs()}
    used |= {name for name in settled.clouds if settled.hubs_of(name)}
    return [name for name in (*settled.gateways, *settled.clouds) if name in used]


class PackMaker:
    """Makes the packs of one design; what several of them need is made once."""

    def __init__(self, settled: Settled) -> None:
        self._settled = settled
        self._predictor = Predictor(settled)
        self._configurations = Configurations(settled)
        self._services: dict[str, tuple[str, str]] = {}

    def make(self, place: str, secrets: Secrets) -> Pack:
        """Raises KeyError naming the tunnel or gateway whose secret is missing."""
        settled = self._settled
        sheet = value_sheet(settled, place)
        return Pack(
            gateway=place,
            config_text=self._configurations.text(place),
            keys_text=as_json(key_data(settled, place, secrets)),
            sheet=markdown(sheet),
            values=values_csv(sheet),
            steps=steps(settled, place, self._predictor),
            mirror=markdown(self._configurations.proof_sheet(place)),
            services=self._around(place),
        )

    def device_config_of(self, place: str) -> DeviceConfig:
        """What the standard data of its pack says."""
        return self._configurations.device_config_of(place)

    def _around(self, place: str) -> tuple[str, str] | None:
        """The sheet of the site that a gateway belongs to."""
        gateway = self._settled.gateways.get(place)
        if gateway is None:
            return None
        if gateway.site not in self._services:
            sheet = services_sheet(self._settled, gateway.site)
            self._services[gateway.site] = markdown(sheet), values_csv(sheet)
        return self._services[gateway.site]

    def mirror_faults(self) -> list[str]:
        """Say where the two ends of a tunnel are not configured as mirror images, by what was
        written for both; empty, or there is a bug in Obrin."""
        return [
            f"{tunnel.label}: {fault}"
            for tunnel in self._settled.tunnels()
            for fault in self._configurations.faults(tunnel)
        ]


def make_pack(settled: Settled, place: str, secrets: Secrets) -> Pack:
    """One pack alone. Raises KeyError naming the tunnel or gateway whose secret is missing."""
    return PackMaker(settled).make(place, secrets)
