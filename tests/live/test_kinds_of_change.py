"""Every kind of change to a link that is built: what is said of each state is what packets do."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from obrin.core.change.groups import Groups
from obrin.core.change.order import best_order
from obrin.core.change.plan import make_plan
from tests.doubles import DESIGN, swap
from tests.live.changes import both_settled
from tests.live.reshaping import Reshaped

DEMO = Path(__file__).parents[2] / "src" / "obrin" / "demo"
CROSSING = (DEMO / "crossing.yaml").read_text(encoding="utf-8")
LEDGER = (DEMO / "ledger.yaml").read_text(encoding="utf-8")
NO_LINE = re.sub(r"circuits:\n(  .*\n)+?(?=\nlinks)", "", CROSSING)
NO_LINE = NO_LINE.replace("    prefer: [harbour-line]", "    # ")
NO_LINE = NO_LINE.replace(", harbour-line", "").replace("harbour-line, ", "")

BGP = "    bgp: {hold-time: 6 s}\n"
RADIO = "          radio: {address: 198.51.100.20, provider: two}\n"
SECOND = "      b: {gateway: quay-gw, uplink: radio, instance: 2}\n"
CLOUD = "clouds:\n  apps:\n    subnets: {web: {hosts: 100}}\n"
HUB = "  core:\n    hub: {members: [apps]}\n"
WISHES = "expectations:\n"
OLD_LINK = DESIGN[DESIGN.index("  quay-apps:\n") : DESIGN.index(WISHES)]
HUB_LINK = OLD_LINK.replace("quay-apps", "quay-core").replace("cloud: apps", "cloud: core")
HUB_LINK = HUB_LINK.replace("      a:", "      c:").replace("      b:", "      d:")
SITE = """\
  pier:
    networks: {shop: 10.30.0.0/24}
    gateways: {pier-gw: {uplinks: {line: {address: 192.0.2.44}}}}
"""
SITE_LINK = """\
  pier-apps:
    site: pier
    cloud: apps
    bgp: {hold-time: 6 s}
    tunnels:
      e: {gateway: pier-gw, uplink: line}
"""
TWO_BOXES = swap(
    (RADIO, "      quay-gw2:\n        uplinks:\n" + RADIO),
    (SECOND, SECOND.replace("quay-gw", "quay-gw2")),
)
BESIDE = swap((CLOUD, CLOUD + HUB), (WISHES, HUB_LINK + WISHES))

INSIDE = (
    ("instance: 1}", "instance: 1, inside: 169.254.9.0/30}"),
    ("instance: 2}", "instance: 2, inside: 169.254.9.4/30}"),
)
OWN_SUITE = swap((BGP, BGP + "    suite: ours\n"), ("sites:\n", """\
suites:
  ours:
    ike: {encryption: AES-GCM-16-256, prf: PRF-HMAC-SHA2-256, group: 31}
    esp: {encryption: AES-GCM-16-256}
sites:
"""))  # fmt: skip

KINDS: dict[str, tuple[str, str]] = {
    "BGP to static": (DESIGN, swap((BGP, "    routing: static\n"))),
    "a second tunnel": (swap((SECOND, "")), DESIGN),
    "a second uplink": (swap((SECOND, ""), (RADIO, "")), DESIGN),
    "a second gateway": (swap((SECOND, ""), (RADIO, "")), TWO_BOXES),
    "a second instance": (
        swap((CLOUD, CLOUD + "    gateway: {instances: 1}\n"), ("instance: 2", "instance: 1")),
        DESIGN,
    ),
    "gateway to hub": (DESIGN, swap((CLOUD, CLOUD + HUB), ("    cloud: apps", "    cloud: core"))),
    "a hub beside the gateway": (DESIGN, BESIDE),
    "the gateway's links given up": (BESIDE, BESIDE.replace(OLD_LINK, "")),
    "a hub's links for the gateway's": (DESIGN, BESIDE.replace(OLD_LINK, "")),
    "the same addresses inside": (swap(*INSIDE), swap(*INSIDE, text=BESIDE.replace(OLD_LINK, ""))),
    "a circuit with the tunnels as backup": (NO_LINE, CROSSING),
    "peers beyond the tunnels moved inside": (
        CROSSING,
        CROSSING.replace(", site-end: loopback, cloud-end: gateway-subnet", ""),
    ),
    "static to BGP at a hub": (CROSSING, CROSSING.replace("    routing: static\n", BGP)),
    "a new prefix at a site": (
        DESIGN,
        swap(("guests: 10", "labs: 10.20.12.0/24, guests: 10"), ("[desks]", "[desks, labs]")),
    ),
    "a new prefix at the cloud": (
        DESIGN,
        swap(("{web: {hosts: 100}", "{web: {hosts: 100}, more: {hosts: 50}")),
    ),
    "renumbering a network": (DESIGN, swap(("desks: 10.20.0.0/22", "desks: 10.77.0.0/22"))),
    "renumbering a cloud": (
        swap((CLOUD, CLOUD + "    space: 10.60.0.0/20\n")),
        swap((CLOUD, CLOUD + "    space: 10.80.0.0/20\n")),
    ),
    "one-to-one translation": (
        DESIGN,
        swap(
            (
                "    networks: [desks]\n",
                "    networks: [desks]\n    seen-as: {desks: 10.99.0.0/22}\n",
            )
        ),
    ),
    "another suite": (DESIGN, swap((BGP, BGP + "    suite: common\n"))),
    "PFS turned on": (OWN_SUITE, OWN_SUITE.replace("GCM-16-256}", "GCM-16-256, pfs: 31}")),
    "certificates to keys": (
        LEDGER,
        LEDGER.replace("authentication: certificate", "authentication: pre-shared-key"),
    ),
    "IPv6 added": (DESIGN, swap(("obrin: 1\n", "obrin: 1\nstack: dual\nula: fd00:1:2::/48\n"))),
    "the site's AS": (DESIGN, swap(("      quay-gw:\n", "      quay-gw:\n        as: 65123\n"))),
    "a device of another profile": (
        DESIGN,
        swap(("      quay-gw:\n", "      quay-gw:\n        profile: tunnel-firewall\n")),
    ),
    "access granted": (
        DESIGN,
        DESIGN + "  - {from: quay/desks, to: apps/web, flow: tcp/8443, until: 2031-05-01}\n",
    ),
    "a new site": (DESIGN, swap(("clouds:\n", SITE + "clouds:\n"), (WISHES, SITE_LINK + WISHES))),
}

LOSES = {"one-to-one translation"}
WAYS = [
    pytest.param(name, pair, id=f"{name}{note}")
    for name, there in KINDS.items()
    for note, pair in (("", there), (", undone", there[::-1]))
]


@pytest.mark.parametrize(("name", "pair"), WAYS)
def test_what_is_said_of_every_state_is_what_packets_do(name: str, pair: tuple[str, str]) -> None:
    assert pair[0] != pair[1]
    designs = both_settled(*pair)
    assert make_plan(*designs).loses() is (name in LOSES)
    changed = Reshaped(*designs)
    assert changed.differences() == []
    for step in best_order(Groups(*designs)):
        if step not in changed.done:
            changed.do(step)
            assert changed.differences() == [], step.name
