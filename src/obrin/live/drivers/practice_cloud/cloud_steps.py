"""What is to be there at the practice cloud: steps with their needs, and the bodies it is sent."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from obrin.core.design.arrangement import SHARED
from obrin.core.design.places import NetworkRef
from obrin.core.handover.ends.records import LegEnd, circuit_end, cloud_end
from obrin.core.handover.secrets import Secrets
from obrin.core.handover.standard.ipsec import encode_suite
from obrin.core.handover.standard.keys import BY_KEY, encode_certificate
from obrin.core.json_text import Json
from obrin.core.reach.filters import Rule, filter_of, host_rules
from obrin.core.settled.clouds import SettledCloud
from obrin.core.settled.links import Bundle, SettledCircuit, SettledTunnel
from obrin.core.settled.model import Settled
from obrin.core.settled.shared_secrets import password_label
from obrin.core.settled.telling import summaries_of
from obrin.core.settled.ways import Attachment
from obrin.live.drivers.protocol import CloudStep
from obrin.live.practice.cloud.names import resource_of

RESOURCE_KINDS = (
    "networks",
    "subnets",
    "addresses",
    "gateways",
    "far-ends",
    "attachments",
    "circuits",
    "tunnels",
    "filters",
)


JOINING = ("attachments", "circuits", "tunnels")
"""Kinds that another owner may have to accept."""
ACCESS = (*(f"{kind}/" for kind in JOINING), "filters/")
"""Kinds that let somebody in."""


FAMILY = {32: "ipv4", 128: "ipv6"}


def cloud_steps(settled: Settled, clouds: Collection[str], secrets: Secrets) -> list[CloudStep]:
    """All steps at these clouds."""
    served = _served(settled, clouds, secrets.barred)
    circuits = _circuits(settled, clouds)
    far_ends = {step.name: step for step in (_far_end(settled, tunnel) for tunnel in served)}
    return [
        *_networks(settled, clouds, served),
        *(_circuit(settled, circuit) for circuit in circuits),
        *far_ends.values(),
        *(tunnel_step(settled, tunnel, secrets) for tunnel in served),
    ]


def planned(settled: Settled) -> dict[str, list[str]]:
    """The addresses of a design that its clouds would choose themselves, by the name of the step:
    for a world that is to be as the design has it."""
    found: dict[str, list[str]] = {}
    for name, cloud in settled.clouds.items():
        found[f"gateways/{name}"] = list(map(str, cloud.own_addresses))
        for number, instance in enumerate(cloud.instances, 1):
            found[f"addresses/{name}.{number}"] = list(map(str, instance))
    return found


def _circuits(settled: Settled, clouds: Collection[str]) -> list[SettledCircuit]:
    return [c for c in settled.circuits.values() if c.cloud in clouds]


def _networks(
    settled: Settled, clouds: Collection[str], served: Collection[SettledTunnel]
) -> list[CloudStep]:
    """Return those that somebody comes into, and those that they are joined to by hubs."""
    circuits = _circuits(settled, clouds)
    used = {tunnel.cloud for tunnel in served} | {circuit.cloud for circuit in circuits}
    used |= {m for name in used for m in settled.clouds[name].members}
    used |= {hub for name in used for hub in settled.hubs_of(name)}
    used |= {m for name in used for m in settled.clouds[name].members}
    here = [c for c in settled.clouds.values() if c.name in used and c.name in clouds]
    steps = [step for cloud in here for step in _network(settled, cloud)]
    hubs = {hub.name for hub in here}
    steps += [
        _attachment(settled, way)
        for way in settled.attachments()
        if way.hub in hubs and way.member in clouds
    ]
    return steps


def _served(
    settled: Settled, clouds: Collection[str], barred: Collection[str]
) -> list[SettledTunnel]:
    """Tunnels that are built: those with an end whose certificates are revoked are not, and end
    where they stand."""
    return [
        t
        for t in settled.tunnels()
        if t.cloud in clouds and t.gateway not in barred and t.cloud not in barred
    ]


def wanted_names(settled: Settled, clouds: Collection[str], barred: Collection[str]) -> set[str]:
    """Names of the steps of a design, for which no secret is needed."""
    served = _served(settled, clouds, barred)
    found = {resource_of(tunnel) for tunnel in served}
    found |= {resource_of(circuit) for circuit in _circuits(settled, clouds)}
    found |= {f"far-ends/{far_end_name(tunnel)}" for tunnel in served}
    return found | {step.name for step in _networks(settled, clouds, served)}


def far_end_name(tunnel: SettledTunnel) -> str:
    """An uplink as the cloud knows it, with what is behind it by one link."""
    return f"{tunnel.link}.{tunnel.gateway}.{tunnel.uplink.name}"


def _host_firewall(settled: Settled, network: NetworkRef) -> Json:
    rules = host_rules(settled, network)
    return {} if rules is None else {"hosts_accept": _rules(rules)}


def _network(settled: Settled, cloud: SettledCloud) -> list[CloudStep]:
    name = cloud.name
    spaces = [str(prefix) for prefix in cloud.all_spaces]
    network = CloudStep(
        name=f"networks/{name}",
        body={
            "spaces": spaces,
            "region": cloud.region or "unnamed",
            "tables": [table.name for table in cloud.hub_tables],
            "owner": cloud.owner,
        },
        cloud=name,
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
                **_host_firewall(settled, NetworkRef(name, subnet.name)),
            },
            needs=below,
            cloud=name,
        )
        for subnet in cloud.subnets.values()
    ]
    if not cloud.is_hub:
        subnets.append(filter_step(name, filter_of(settled, name)))
    return [network, *subnets, *_gateway(cloud, below)]


def filter_step(cloud: str, rules: Iterable[Rule]) -> CloudStep:
    """What a cloud's subnets let through."""
    body = {"network": cloud, "rules": _rules(rules)}
    below = frozenset({f"networks/{cloud}"})
    return CloudStep(name=f"filters/{cloud}", body=body, needs=below, cloud=cloud)


def _gateway(cloud: SettledCloud, below: frozenset[str]) -> list[CloudStep]:
    """Steps for its subnet, addresses and gateway, once the resources `below` are there."""
    if cloud.gateway is None:
        return []
    name = cloud.name
    own = CloudStep(
        name=f"subnets/{name}.gateway",
        body={"network": name, "prefixes": list(map(str, cloud.gateway.subnet)), "role": "gateway"},
        needs=below,
        cloud=name,
    )
    names = [f"{name}.{number}" for number, _ in enumerate(cloud.instances, 1)]
    assigned = cloud.gateway.assigns
    addresses = [
        CloudStep(
            name=f"addresses/{reserved}",
            body={"families": [FAMILY[a.bits] for a in instance]}
            if "addresses" in assigned
            else {"addresses": list(map(str, instance))},
            cloud=name,
        )
        for reserved, instance in zip(names, cloud.instances, strict=True)
    ]
    chosen = {} if "peers" in assigned else {"peer_addresses": list(map(str, cloud.own_addresses))}
    gateway = CloudStep(
        name=f"gateways/{name}",
        body={
            "network": name,
            "capacity_class": cloud.gateway.gateway_class,
            "autonomous_system": cloud.as_number,
            "public_addresses": names,
            **chosen,
        },
        needs=frozenset({own.name, *(address.name for address in addresses)}),
        assigns=frozenset({name}) if assigned else frozenset(),
        cloud=name,
    )
    return [own, *addresses, gateway]


def _joined(settled: Settled, hub: str, name: str) -> Json:
    """The tables of a hub that a member, link or circuit uses and fills; empty at no hub."""
    cloud = settled.clouds[hub]
    uses = cloud.table_of(name)
    if uses is None:
        return {}
    fills = [table.name for table in cloud.hub_tables if name in table.learns]
    return {"joined": {"uses": uses.name, "fills": fills}}


def _attachment(settled: Settled, way: Attachment) -> CloudStep:
    return CloudStep(
        name=resource_of(way),
        body={"hub": way.hub, "network": way.member, **_joined(settled, way.hub, way.member)},
        needs=frozenset({f"networks/{way.hub}", f"networks/{way.member}"}),
        cloud=way.hub,
    )


def _circuit(settled: Settled, circuit: SettledCircuit) -> CloudStep:
    end = circuit_end(settled, circuit, circuit.cloud)
    body = _way(settled, circuit, circuit, end)
    body |= {"autonomous_system": end.remote_as, "owner": circuit.owner}
    if end.routing == "static":
        body["prefixes"] = [str(p) for p in end.remote_prefixes]
    return CloudStep(
        name=resource_of(circuit),
        body=body,
        needs=frozenset({f"gateways/{circuit.cloud}"}),
        legs=frozenset({circuit.label}),
        cloud=circuit.cloud,
    )


def _way(
    settled: Settled, leg: SettledTunnel | SettledCircuit, bundle: Bundle, end: LegEnd
) -> Json:
    """What tunnels and circuits have alike."""
    body: Json = {
        "gateway": leg.cloud,
        "inside": list(map(str, end.inside)),
        "inside_addresses": list(map(str, end.local_insides)),
        "inner_mtu": end.mtu,
        "metric": end.preference,
        **_joined(settled, leg.cloud, bundle.name),
    }
    if end.initiator:
        body["initiate"] = True
    if end.bfd is not None:
        body["bfd"] = {
            "interval": end.bfd.interval,
            "multiplier": end.bfd.multiplier,
            "multihop": end.bfd_endpoints is not None,
        }
    if end.routing == "bgp":
        # A hub passes on what its table has; of its own it has the summaries at most.
        own = summaries_of(bundle)[1] if "joined" in body else end.local_prefixes
        body["bgp"] = {
            "hold_time": end.hold,
            "local_preference": end.local_pref,
            "announce": [str(p) for p in own],
            "accept": [str(p) for p in end.remote_prefixes],
            "one_each": len(end.sessions) > 1,
        }
        local, peer = end.sessions[0].peers
        if end.sessions[0].beyond:
            body["bgp"] |= {"local_address": str(local), "peer_address": str(peer)}
    return body


def _rules(rules: Iterable[Rule]) -> list[Json]:
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
        legs=frozenset(
            t.label
            for t in settled.links[tunnel.link].tunnels
            if far_end_name(t) == far_end_name(tunnel)
        ),
        cloud=tunnel.cloud,
    )


def tunnel_step(settled: Settled, tunnel: SettledTunnel, secrets: Secrets) -> CloudStep:
    """A tunnel at the cloud, its secret included."""
    end = cloud_end(settled, tunnel)
    body = _way(settled, tunnel, settled.links[tunnel.link], end)
    body |= {
        "instance": tunnel.instance,
        "far_end": far_end_name(tunnel),
        "suite": encode_suite(end.suite),
        "liveness": {
            "delay": end.liveness.delay,
            "first_wait": end.liveness.wait,
            "tries": end.liveness.tries,
        },
        "always_encapsulate": end.always_encapsulate,
        "fragments": end.fragments,
        "each_pair": end.each_pair,
    }
    if end.authentication == BY_KEY:
        body["pre_shared_key"] = secrets.keys[tunnel.label]
    else:
        files = encode_certificate(secrets.certificates[tunnel.cloud])
        body["certificate"] = {name.replace("-", "_"): text for name, text in files.items()}
    if end.role == SHARED:
        body["shared"] = True
    if end.selection == "policy":
        body["local_selectors"] = [str(p) for p in end.local_selectors]
        body["remote_selectors"] = [str(p) for p in end.remote_selectors]
    if end.translations:
        body["translation"] = [
            {"real": str(part.real), "seen": str(part.seen)} for part in end.translations
        ]
    if end.routing == "bgp":
        body["bgp"]["signature"] = end.signature
        if end.med is not None:
            body["bgp"]["discriminator"] = end.med
    if end.password:
        body["session_passwords"] = [secrets.keys[password_label(s.label)] for s in end.sessions]
    return CloudStep(
        name=resource_of(tunnel),
        body=body,
        needs=frozenset({f"gateways/{tunnel.cloud}", f"far-ends/{far_end_name(tunnel)}"}),
        tunnel=tunnel.label,
        legs=frozenset({tunnel.label}),
        cloud=tunnel.cloud,
    )
