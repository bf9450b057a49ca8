"""What is to be there at the practice cloud: steps with their needs, and the bodies it is sent."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from obrin.core.design.arrangement import SHARED
from obrin.core.design.places import NetworkRef
from obrin.core.handover.ends import cloud_end
from obrin.core.handover.secrets import BY_KEY, Secrets, certificate_data
from obrin.core.handover.standard.ipsec import encode_suite
from obrin.core.reach.filters import Rule, filter_of, host_rules
from obrin.core.settled.clouds import SettledCloud
from obrin.core.settled.links import OF_SESSION, SettledTunnel
from obrin.core.settled.model import Settled
from obrin.live.drivers.protocol import CloudStep
from obrin.live.practice.beyond import refuse_beyond

Json = dict[str, Any]
RESOURCE_KINDS = (
    "networks",
    "subnets",
    "addresses",
    "gateways",
    "far-ends",
    "tunnels",
    "filters",
)


ACCESS = ("tunnels/", "filters/")
"""Kinds that let somebody in."""


def cloud_tunnel_name(label: str) -> str:
    """`link/tunnel` as a resource's name."""
    return label.replace("/", ".")


def cloud_steps(settled: Settled, clouds: Collection[str], secrets: Secrets) -> list[CloudStep]:
    """All steps at these clouds. Raises ObrinError for what the practice world has not."""
    refuse_beyond(settled)
    served = _served(settled, clouds, secrets.barred)
    used = {t.cloud for t in served}
    steps: list[CloudStep] = []
    for cloud in settled.clouds.values():
        if cloud.name in used:
            steps += _network(settled, cloud)
    far_ends = {step.name: step for step in (_far_end(settled, tunnel) for tunnel in served)}
    return [*steps, *far_ends.values(), *(tunnel_step(settled, t, secrets) for t in served)]


def _served(
    settled: Settled, clouds: Collection[str], barred: Collection[str]
) -> list[SettledTunnel]:
    """Those with an end whose certificates are revoked are not built, and end if they are there."""
    return [
        t
        for t in settled.tunnels()
        if t.cloud in clouds and t.gateway not in barred and t.cloud not in barred
    ]


def wanted_names(settled: Settled, clouds: Collection[str], barred: Collection[str]) -> set[str]:
    """Names of the steps of a design, for which no secret is needed."""
    served = _served(settled, clouds, barred)
    found = {f"tunnels/{cloud_tunnel_name(tunnel.label)}" for tunnel in served}
    found |= {f"far-ends/{far_end_name(tunnel)}" for tunnel in served}
    for name in {tunnel.cloud for tunnel in served}:
        found |= {step.name for step in _network(settled, settled.clouds[name])}
    return found


def far_end_name(tunnel: SettledTunnel) -> str:
    """An uplink as the cloud knows it."""
    return f"{tunnel.gateway}.{tunnel.uplink.name}"


def _host_gate(settled: Settled, network: NetworkRef) -> Json:
    rules = host_rules(settled, network)
    return {} if rules is None else {"hosts_accept": _rules(rules)}


def _network(settled: Settled, cloud: SettledCloud) -> list[CloudStep]:
    name = cloud.name
    spaces = [str(prefix) for prefix in cloud.all_spaces]
    network = CloudStep(
        name=f"networks/{name}",
        body={"spaces": spaces, "region": cloud.region or "unnamed"},
    )
    below = frozenset({network.name})
    subnets = [
        CloudStep(
            name=f"subnets/{name}.{subnet.name}",
            body={
                "network": name,
                "prefixes": [str(prefix) for prefix in subnet.prefix],
                "propagation": subnet.propagation,
                "routes": [
                    {"prefix": str(prefix), "target": target} for prefix, target in subnet.routes
                ],
                **_host_gate(settled, NetworkRef(name, subnet.name)),
            },
            needs=below,
        )
        for subnet in cloud.subnets.values()
    ]
    rules = CloudStep(
        name=f"filters/{name}",
        body={"network": name, "rules": _rules(filter_of(settled, name))},
        needs=below,
    )
    if cloud.gateway is None:
        return [network, *subnets, rules]
    own = CloudStep(
        name=f"subnets/{name}.gateway",
        body={"network": name, "prefixes": list(map(str, cloud.gateway.subnet)), "role": "gateway"},
        needs=below,
    )
    names = [f"{name}.{number}" for number, _ in enumerate(cloud.instances, 1)]
    addresses = [
        CloudStep(name=f"addresses/{reserved}", body={"addresses": list(map(str, instance))})
        for reserved, instance in zip(names, cloud.instances, strict=True)
    ]
    gateway = CloudStep(
        name=f"gateways/{name}",
        body={
            "network": name,
            "capacity_class": cloud.gateway.gateway_class,
            "autonomous_system": cloud.as_number,
            "public_addresses": names,
        },
        needs=frozenset({own.name, *(address.name for address in addresses)}),
    )
    return [network, *subnets, own, *addresses, rules, gateway]


def _rules(rules: tuple[Rule, ...]) -> list[Json]:
    """The cloud lets replies through by itself, so the rules for replies stay out."""
    found = []
    for rule in rules:
        if rule.reply:
            continue
        found.append(
            {
                "name": rule.name,
                "source": str(rule.source),
                "destination": str(rule.destination),
                "flow": str(rule.flow),
            }
        )
    return found


def _far_end(settled: Settled, tunnel: SettledTunnel) -> CloudStep:
    end = cloud_end(settled, tunnel)
    return CloudStep(
        name=f"far-ends/{far_end_name(tunnel)}",
        body={
            "address": str(end.remote_address),
            "identity": end.remote_identity,
            "autonomous_system": end.remote_as,
            "prefixes": [str(p) for p in end.remote_prefixes],
        },
    )


def tunnel_step(settled: Settled, tunnel: SettledTunnel, secrets: Secrets) -> CloudStep:
    """A tunnel at the cloud, its secret included."""
    end = cloud_end(settled, tunnel)
    body: Json = {
        "gateway": tunnel.cloud,
        "instance": tunnel.instance,
        "far_end": far_end_name(tunnel),
        "suite": encode_suite(end.suite),
        "inside": list(map(str, end.inside)),
        "inside_addresses": list(map(str, end.local_insides)),
        "liveness": {
            "delay": end.liveness.delay,
            "first_wait": end.liveness.wait,
            "tries": end.liveness.tries,
        },
        "inner_mtu": end.mtu,
        "always_encapsulate": end.always_encapsulate,
        "fragments": end.fragments,
        "each_pair": end.each_pair,
        "metric": end.preference,
    }
    if end.authentication == BY_KEY:
        body["pre_shared_key"] = secrets.keys[tunnel.label]
    else:
        files = certificate_data(secrets.certificates[tunnel.cloud])
        body["certificate"] = {name.replace("-", "_"): text for name, text in files.items()}
    if end.initiator:
        body["initiate"] = True
    if end.role == SHARED:
        body["shared"] = True
    if end.selection == "policy":
        body["local_selectors"] = [str(p) for p in end.local_selectors]
        body["remote_selectors"] = [str(p) for p in end.remote_selectors]
    if end.bfd is not None:
        body["bfd"] = {
            "interval": end.bfd.interval,
            "multiplier": end.bfd.multiplier,
            "multihop": end.watched is not None,
        }
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
            "one_each": len(end.sessions) > 1,
            "signature": end.signature,
        }
        if end.discriminator is not None:
            body["bgp"]["discriminator"] = end.discriminator
        local, peer = end.sessions[0].peers
        if end.sessions[0].beyond:
            body["bgp"] |= {"local_address": str(local), "peer_address": str(peer)}
    if end.password:
        body["session_passwords"] = [secrets.keys[s.label + OF_SESSION] for s in end.sessions]
    return CloudStep(
        name=f"tunnels/{cloud_tunnel_name(tunnel.label)}",
        body=body,
        needs=frozenset({f"gateways/{tunnel.cloud}", f"far-ends/{far_end_name(tunnel)}"}),
        tunnel=tunnel.label,
    )
