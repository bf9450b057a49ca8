"""What the gateways of drawn designs tell in the standard tables is what the model has."""

from __future__ import annotations

import pytest

from obrin.core.handover.pack import make_pack
from obrin.core.handover.secrets import Secrets
from obrin.core.handover.standard.device import decode as decode_config
from obrin.core.routing.used import used_differences
from obrin.device.standard.operational import operational_state
from obrin.live.drivers.by_tables import ends_by_tables, paths_by_tables, routes_by_tables
from obrin.wire.mib.device import decode, encode
from tests.doubles import settled_of
from tests.live.buildable import Drawn
from tests.live.virtual_world import VirtualWorld, certificates_of, keys_of


def odd(seed: int) -> list[str]:
    settled = settled_of(Drawn(seed, widely=True).text)
    world = VirtualWorld(settled)
    world.run(12.0)
    secrets = Secrets(keys_of(settled), certificates_of(settled))
    found = []
    for name, site in world.sites.items():
        told = decode_config(make_pack(settled, name, secrets).config).interfaces
        state = operational_state(site.router, told, world.now)
        state = decode({cell.oid: cell.value for cell in encode(state)})
        ends = ends_by_tables(settled, name, state)
        found += [
            f"{seed}: {label}: {end.child}" for label, end in ends.items() if end.child != "up"
        ]
        routes = [(r.prefix, r.via) for r in routes_by_tables(settled, name, state)]
        found += [f"{seed}: {name}: {d}" for d in used_differences(settled, name, routes)]
        paths = paths_by_tables(state)
        if paths is not None:
            found += [f"{seed}: {name}: {d}" for d in paths.differences(settled, name)]
    return found


@pytest.mark.parametrize("seed", range(24))
def test_tables_of_drawn_designs_are_those_of_the_model(seed: int) -> None:
    assert odd(seed) == []
