"""Standard data: whatever is written is read back as it was, and fits its modules."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from obrin.core.address.dual import Dual
from obrin.core.address.prefix import Address, Prefix
from obrin.core.address.translation import Exposure
from obrin.core.handover.configured import device_config
from obrin.core.handover.ends.proof import Configurations, unmirrored, written_ends
from obrin.core.handover.standard.bgp import Neighbour, Speaker
from obrin.core.handover.standard.circuits import Circuit
from obrin.core.handover.standard.device import DeviceConfig, decode, encode, parts
from obrin.core.handover.standard.filters import Filter
from obrin.core.handover.standard.hosts import HostFirewall
from obrin.core.handover.standard.interfaces import CIRCUIT, NETWORK, TUNNEL, UPLINK, Interface
from obrin.core.handover.standard.ipsec import Tunnel
from obrin.core.handover.standard.routes import Hop, StaticRoute
from obrin.core.handover.standard.translation import Translation
from obrin.core.ipsec.liveness import Bfd, Liveness
from obrin.core.ipsec.suite import SHIPPED, make_suite
from obrin.core.reach.filters import Rule, beginning
from obrin.core.routing.packet import ICMP, ICMPV6, TCP, UDP
from obrin.live.standard_modules import validate
from obrin.wire.tcp_protection import SIGNATURES
from tests.doubles import settled_of

OLD = make_suite(
    "old",
    encryption="AES-CBC-128",
    integrity="HMAC-SHA1-96",
    prf="PRF-HMAC-SHA1",
    group="MODP-1024",
    esp_encryption="AES-CBC-128",
    esp_integrity="HMAC-SHA1-96",
    esn=False,
    ike_version=1,
)
names = st.text("abcdefgh-", min_size=1, max_size=8)
addresses4 = st.builds(Address, st.just(32), st.integers(1, 0xFFFFFFFE))
addresses6 = st.builds(Address, st.just(128), st.integers(1, (1 << 128) - 2))
addresses = addresses4 | addresses6


def of_family(bits: int) -> st.SearchStrategy[Prefix]:
    values, lengths = st.integers(0, (1 << bits) - 1), st.integers(0, bits)
    return st.builds(lambda v, n: Prefix(bits, v, bits).widened(n), values, lengths)


FAMILIES = (32, 128)
prefixes = st.one_of(*map(of_family, FAMILIES))
lists = st.lists(prefixes, max_size=3, unique=True).map(tuple)
thousandths = st.integers(1, 100_000).map(lambda n: n / 1000)
bfds = st.none() | st.builds(Bfd, thousandths, st.integers(1, 255))
ports = st.tuples(st.integers(0, 65535), st.integers(0, 65535)).map(lambda p: (min(p), max(p)))


def rules_of(bits: int) -> st.SearchStrategy[Rule]:
    ends = {"name": names, "source": of_family(bits), "destination": of_family(bits)}
    icmp = {32: (ICMP, (0, 8, None)), 128: (ICMPV6, (1, 128, None))}[bits]
    return st.one_of(
        st.builds(Rule, **ends),
        st.builds(
            Rule,
            **ends,
            protocol=st.sampled_from((TCP, UDP)),
            source_ports=ports,
            destination_ports=ports,
        ),
        st.builds(
            Rule,
            **ends,
            protocol=st.just(icmp[0]),
            icmp_type=st.sampled_from(icmp[1]),
        ),
        st.builds(Rule, **ends, protocol=st.sampled_from((47, 89))),
    )


rules = st.one_of(*map(rules_of, FAMILIES))
suites = st.sampled_from((*SHIPPED.values(), OLD))


def tunnels(interface: str) -> st.SearchStrategy[Tunnel]:
    return st.builds(
        Tunnel,
        name=st.just(interface),
        interface=st.just(interface),
        uplink=st.just("line"),
        initiator=st.booleans(),
        local_address=addresses,
        remote_address=addresses,
        local_identity=names,
        remote_identity=names,
        authentication=st.sampled_from(("pre-shared-key", "certificate")),
        role=st.sampled_from(("active", "shared", "standby", "spare")),
        selection=st.sampled_from(("interface", "policy")),
        suite=suites,
        renewal=st.sampled_from(("rekey", "reauthenticate")),
        local_selectors=lists.filter(bool),
        remote_selectors=lists.filter(bool),
        always_encapsulate=st.booleans(),
        liveness=st.builds(Liveness, thousandths, thousandths, st.integers(1, 20)),
        bfd=bfds,
        stands_in_for=st.lists(names, max_size=2, unique=True).map(tuple),
        bfd_endpoints=st.none() | st.tuples(addresses, addresses),
    ).map(lambda made: made if made.bfd else replace(made, bfd_endpoints=None))


def neighbours(name: str) -> st.SearchStrategy[Neighbour]:
    return st.builds(
        Neighbour,
        name=st.just(name),
        local_address=addresses,
        remote_address=addresses,
        remote_as=st.integers(1, 2**32 - 1),
        hold=st.sampled_from((0, 3, 90, 65535)),
        passive=st.booleans(),
        local_pref=st.none() | st.integers(0, 2**32 - 1),
        next_hops=st.builds(Dual, st.none() | addresses4, st.none() | addresses6),
        announce=lists,
        accept=lists,
        prepend=st.integers(0, 9),
        communities=st.sampled_from(((), ("no-export",), ("no-export", "no-advertise"))),
        med=st.none() | st.integers(0, 2**32 - 1),
        limit=st.none() | st.integers(1, 10**6),
        multihop=st.booleans(),
        internal=st.booleans(),
        signature=st.none() | st.sampled_from(SIGNATURES),
        ways=st.sampled_from(((), (name, "another"), ("another", "third"))),
    )


@st.composite
def configs(draw: Callable[..., object]) -> DeviceConfig:
    count = draw(st.integers(0, 3))
    through = [f"tunnel-{number}" for number in range(count)]
    line = draw(st.booleans())
    interfaces = [
        draw(interface("line", UPLINK)),
        draw(interface("desks", NETWORK)),
        *(draw(interface(name, TUNNEL)) for name in through),
        *([draw(interface("circuit-x", CIRCUIT))] if line else []),
    ]
    speaker = st.builds(
        Speaker,
        asn=st.integers(1, 2**32 - 1),
        identifier=addresses4,
        neighbours=st.just(tuple(draw(neighbours(name)) for name in through)),
    )
    in_family = {32: addresses4, 128: addresses6}
    ways = [*through, *(["circuit-x"] if line else [])]
    routes = [
        StaticRoute(
            prefix=prefix,
            hops=(Hop(interface=ways[0], address=draw(in_family[prefix.bits])),)
            if len(ways) == 1
            else tuple(
                Hop(interface=name, address=draw(in_family[prefix.bits]), order=order)
                for order, name in enumerate(ways, 1)
            ),
        )
        for prefix in sorted(draw(lists) if ways else (), key=lambda p: p.bits)
    ]
    halves = st.integers(0, 255).map(lambda n: Prefix(32, n << 24, 24))
    return DeviceConfig(
        interfaces=tuple(interfaces),
        filter=Filter(
            rules=tuple(
                sorted(
                    draw(st.lists(rules, max_size=4, unique_by=lambda rule: rule.name)),
                    key=lambda rule: rule.source.bits,
                )
            ),
            interfaces=tuple(ways),
        ),
        tunnels=tuple(draw(tunnels(name)) for name in through),
        circuits=(
            Circuit(
                name="x", interface="circuit-x", remote_address=draw(addresses), bfd=draw(bfds)
            ),
        )
        if line
        else (),
        speaker=draw(st.none() | speaker),
        routes=tuple(routes),
        translations=tuple(
            Translation(
                number=number,
                interface=name,
                parts=(Exposure("", draw(halves), draw(halves)),),
            )
            for number, name in enumerate(through, 1)
        ),
        host_firewalls=tuple(
            draw(st.lists(gates, max_size=2, unique_by=lambda gate: gate.network))
        ),
    )


gates = st.builds(
    HostFirewall,
    network=names,
    rules=st.lists(
        st.builds(
            beginning,
            names,
            prefixes,
            prefixes,
            st.none() | st.sampled_from((TCP, UDP, 47)),
            st.sampled_from(((0, 65535), (443, 443), (80, 90))),
        ).filter(lambda rule: rule.source.bits == rule.destination.bits),
        max_size=3,
        unique_by=lambda rule: rule.name,
    ).map(tuple),
)


def interface(name: str, role: str) -> st.SearchStrategy[Interface]:
    leg = name if role in (TUNNEL, CIRCUIT) else ""
    sizes = st.none() | st.integers(1280, 9000)
    four, six = (
        st.tuples(addresses4, st.integers(1, 32)),
        st.tuples(addresses6, st.integers(1, 128)),
    )
    return st.builds(
        Interface,
        name=st.just(name),
        role=st.just(role),
        addresses=st.one_of(st.tuples(four), st.tuples(six), st.tuples(four, six)),
        leg=st.just(leg),
        mtu=sizes,
    )


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(configs())
def test_what_is_written_is_read_back(config: DeviceConfig) -> None:
    data = json.loads(json.dumps(encode(config)))
    assert decode(data) == config
    again = [decode(encode(part)) for part in parts(config, 2)]
    assert [t for part in again for t in part.tunnels] == list(config.tunnels)
    assert [r for part in again for r in part.filter.rules] == list(config.filter.rules)


@settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(configs())
def test_what_is_written_fits_its_modules(config: DeviceConfig) -> None:
    validate(encode(config))


def test_the_proof_sees_what_was_written_and_not_what_was_meant() -> None:
    settled = settled_of()
    data = Configurations(settled)
    tunnel = next(settled.tunnels())
    assert not list(data.faults(tunnel))
    written = json.loads(data.text(tunnel.gateway))
    written["obrin-ipsec:ipsec"]["suite"][0]["ike-sa"]["lifetime"] = 60
    mistaken = written_ends(decode(written), {})[tunnel.label]
    assert list(unmirrored(mistaken, data.ends(tunnel.cloud)[tunnel.label])) == ["suite differs"]


def test_a_value_that_the_modules_cannot_hold_is_noticed(monkeypatch: pytest.MonkeyPatch) -> None:
    """28800.9 s would stand on the sheet, and 28800 in the standard data."""
    settled = settled_of()
    link = settled.links["quay-apps"]
    odd = make_suite(
        "odd",
        encryption="AES-GCM-16-256",
        prf="PRF-HMAC-SHA2-256",
        group="MODP-2048",
        ike_lifetime=28800.9,
    )
    monkeypatch.setattr(
        "obrin.core.handover.ends.proof.device_config",
        lambda settled, place: with_suite(device_config(settled, place), odd),
    )
    with pytest.raises(ValueError, match="does not say what it should"):
        Configurations(settled).text(link.tunnels[0].gateway)


def with_suite(config: DeviceConfig, suite: object) -> DeviceConfig:
    import dataclasses

    tunnels = tuple(dataclasses.replace(t, suite=suite) for t in config.tunnels)
    return dataclasses.replace(config, tunnels=tunnels)
