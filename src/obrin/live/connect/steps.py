"""What a connect has to do: steps with their needs, and the bodies that the cloud is sent."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from typing import Any

from obrin.core.design.arrangement import SHARED
from obrin.core.handover.ends import TunnelEnd, cloud_end
from obrin.core.handover.pack import Pack
from obrin.core.handover.secrets import BY_KEY, Secrets, certificate_data
from obrin.core.handover.standard.ipsec import encode_suite
from obrin.core.reach.filters import Rule, filter_of
from obrin.core.routing.packet import ICMP, TCP, UDP
from obrin.core.settled.clouds import SettledCloud
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled
from obrin.live.practice.beyond import refuse_beyond

Json = dict[str, Any]
RESOURCE_KINDS = (
    "networks", "subnets", "addresses", "gateways", "far-ends", "tunnels", "filters",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class CloudStep:
    """One resource of the cloud. `needs` are names of steps that come first."""

    kind: str
    resource: str
    body: Json = field(repr=False)
    needs: frozenset[str] = frozenset()

    @property
    def name(self) -> str:
        return f"{self.kind}/{self.resource}"


@dataclass(frozen=True, slots=True)
class SiteStep:
    """One site gateway is handed its pack."""

    gateway: str
    pack: Pack = field(repr=False)
    needs: frozenset[str] = frozenset()

    @property
    def name(self) -> str:
        return f"pack/{self.gateway}"


Step = CloudStep | SiteStep


def cloud_tunnel_name(label: str) -> str:
    """`link/tunnel` as a resource's name."""
    return label.replace("/", ".")


def connect_steps(settled: Settled, packs: Mapping[str, Pack], secrets: Secrets) -> list[Step]:
    """All steps; any order that respects `needs` is good. Raises ObrinError for what cannot be
    built in the practice world."""
    refuse_beyond(settled)
    served = tunnels_served(settled, secrets.barred)
    used = {t.cloud for t in served}
    steps: list[Step] = []
    for cloud in settled.clouds.values():
        if cloud.name in used:
            steps += _network(settled, cloud)
    far_ends: dict[str, CloudStep] = {}
    for tunnel in served:
        step = _far_end(settled, tunnel)
        far_ends[step.name] = step
    steps += far_ends.values()
    steps += [tunnel_step(settled, tunnel, secrets) for tunnel in served]
    steps += [SiteStep(name, pack) for name, pack in packs.items() if name in settled.gateways]
    return steps


def tunnels_served(settled: Settled, barred: Collection[str]) -> list[SettledTunnel]:
    """Those with an end whose certificates are revoked are not built, and end if they are there."""
    return [t for t in settled.tunnels() if t.gateway not in barred and t.cloud not in barred]


def wanted_names(settled: Settled, barred: Collection[str]) -> set[str]:
    """Names of the steps of a design, for which no secret is needed."""
    served = tunnels_served(settled, barred)
    found = {f"pack/{t.gateway}" for t in settled.tunnels()}
    for tunnel in served:
        found |= {f"tunnels/{cloud_tunnel_name(tunnel.label)}",
                  f"far-ends/{tunnel.gateway}.{tunnel.uplink.name}"}  # fmt: skip
    for name in {t.cloud for t in served}:
        found |= {step.name for step in _network(settled, settled.clouds[name])}
    return found


def _network(settled: Settled, cloud: SettledCloud) -> list[Step]:
    name = cloud.name
    network = CloudStep(
        "networks",
        name,
        {"spaces": [str(p) for p in cloud.spaces.ipv4], "region": cloud.region or "unnamed"},
    )
    below = frozenset({network.name})
    subnets = [
        CloudStep(
            "subnets", f"{name}.{subnet.name}",
            {"network": name, "prefix": str(subnet.prefix.ipv4), "propagation": subnet.propagation},
            below,
        )
        for subnet in cloud.subnets.values()
    ]  # fmt: skip
    own = CloudStep(
        "subnets", f"{name}.gateway",
        {"network": name, "prefix": str(cloud.gateway_subnet.ipv4), "role": "gateway"}, below,
    )  # fmt: skip
    addresses = [
        CloudStep("addresses", f"{name}.{number}", {"address": str(address)})
        for number, address in enumerate(cloud.instances, 1)
    ]
    rules = CloudStep(
        "filters", name,
        {"network": name, "rules": _rules(filter_of(settled, name))}, below,
    )  # fmt: skip
    gateway = CloudStep(
        "gateways", name,
        {
            "network": name,
            "capacity_class": cloud.gateway_class,
            "autonomous_system": cloud.asn,
            "public_addresses": [a.resource for a in addresses],
        },
        frozenset({own.name, *(a.name for a in addresses)}),
    )  # fmt: skip
    return [network, *subnets, own, *addresses, rules, gateway]


def _rules(rules: tuple[Rule, ...]) -> list[Json]:
    """The cloud lets replies through by itself, so the rules for replies stay out."""
    found = []
    for rule in rules:
        if rule.reply:
            continue
        low, high = rule.destination_ports
        words = {None: "any", ICMP: "icmp", TCP: f"tcp/{low}-{high}", UDP: f"udp/{low}-{high}"}
        found.append(
            {
                "name": rule.name,
                "source": str(rule.source),
                "destination": str(rule.destination),
                "flow": words[rule.protocol],
            }
        )
    return found


def _far_end(settled: Settled, tunnel: SettledTunnel) -> CloudStep:
    end = cloud_end(settled, tunnel)
    return CloudStep(
        "far-ends", f"{tunnel.gateway}.{tunnel.uplink.name}",
        {
            "address": str(end.remote_address),
            "identity": end.remote_identity,
            "autonomous_system": end.remote_as,
            "prefixes": [str(p) for p in end.remote_prefixes],
        },
    )  # fmt: skip


def tunnel_step(settled: Settled, tunnel: SettledTunnel, secrets: Secrets) -> CloudStep:
    """A tunnel at the cloud, its secret included."""
    end: TunnelEnd = cloud_end(settled, tunnel)
    far_end = f"{tunnel.gateway}.{tunnel.uplink.name}"
    body: Json = {
        "gateway": tunnel.cloud,
        "instance": tunnel.instance,
        "far_end": far_end,
        "suite": encode_suite(end.suite),
        "inside": str(end.inside),
        "inside_address": str(end.local_inside),
        "liveness": {
            "delay": end.liveness.delay,
            "first_wait": end.liveness.wait,
            "tries": end.liveness.tries,
        },
        "always_encapsulate": end.always_encapsulate,
        "metric": end.preference,
    }
    if end.authentication == BY_KEY:
        body["pre_shared_key"] = secrets.keys[tunnel.label]
    else:
        files = certificate_data(secrets.certificates[tunnel.cloud])
        body["certificate"] = {name.replace("-", "_"): text for name, text in files.items()}
    if end.role == SHARED:
        body["shared"] = True
    if end.selection == "policy":
        body["local_selectors"] = [str(p) for p in end.local_selectors]
        body["remote_selectors"] = [str(p) for p in end.remote_selectors]
    if end.bfd is not None:
        body["bfd"] = {"interval": end.bfd.interval, "multiplier": end.bfd.multiplier}
    if end.translations:
        body["translation"] = [
            {"real": str(part.real), "seen": str(part.seen)} for part in end.translations
        ]
    if end.routing == "bgp":
        body["bgp"] = {
            "hold_time": end.hold,
            "local_preference": end.local_pref,
            "announce": [str(p) for p in end.local_prefixes],
            "accept": [str(p) for p in end.remote_prefixes],
        }
    return CloudStep(
        "tunnels", cloud_tunnel_name(tunnel.label), body,
        frozenset({f"gateways/{tunnel.cloud}", f"far-ends/{far_end}"}),
    )  # fmt: skip
