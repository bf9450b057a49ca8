"""The practice world: what a packet through a gateway costs, and what a tunnel costs among many.

python -m benchmarks.worlds
"""

from __future__ import annotations

import gc
import hashlib
import random
import socket
import time
from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, datetime
from itertools import chain
from typing import TypeVar

from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from benchmarks.measure import Row, interleaved, print_rows
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.design.document import load_design
from obrin.core.design.places import NetworkRef
from obrin.core.handover.secrets import Secrets
from obrin.core.settle.settle import settle
from obrin.core.settled.building import build_settled
from obrin.core.settled.model import Settled, host_of
from obrin.live.practice.internet.cable import TOKEN_SIZE
from obrin.live.practice.internet.offload import LARGEST, join, receive, send_all
from obrin.live.rehearse.virtual import VirtualWorld
from obrin.wire.packet import Packet

HEAD = """obrin: 1
name: bench
clouds:
  apps: {subnets: {web: {hosts: 100}}, gateway: {class: liner}}
"""
T = TypeVar("T")
PACKETS, SIZE, ROUNDS = 500, 1000, 21


def design(sites: int) -> Settled:
    """So many sites with four tunnels each."""
    lines = [HEAD, "sites:\n"]
    for number in range(sites):
        high, low = divmod(number, 200)
        uplinks = ", ".join(
            f"l{k}: {{address: 198.{18 + k}.{high}.{low + 30}, provider: p{k}}}" for k in (0, 1)
        )
        lines.append(
            f"  s{number}: {{networks: {{lan: {{hosts: 20}}}}, "
            f"gateways: {{g{number}: {{uplinks: {{{uplinks}}}}}}}}}\n"
        )
    lines.append("links:\n")
    for number in range(sites):
        tunnels = ", ".join(
            f"t{k}: {{gateway: g{number}, uplink: l{k % 2}, instance: {1 + k // 2}}}"
            for k in range(4)
        )
        lines.append(f"  k{number}: {{site: s{number}, cloud: apps, tunnels: {{{tunnels}}}}}\n")
    lines.append("expectations:\n  - {from: s0/lan, to: apps/web, flow: icmp, must: work}\n")
    found = load_design("".join(lines), "bench.yaml").design
    return build_settled(found, settle(found, {}, PRACTICE_CLOUD))


def one_site_with(networks: int) -> Settled:
    """One tunnel, and so many networks behind it."""
    held = ", ".join(
        f"n{k}: 10.{k >> 14}.{(k >> 6) & 255}.{(k & 63) * 4}/30" for k in range(networks)
    )
    text = (
        f"{HEAD}sites:\n  s0: {{networks: {{{held}}}, gateways: "
        "{g0: {uplinks: {l0: {address: 198.18.0.30, provider: p0}}}}}\n"
        "links:\n  k0: {site: s0, cloud: apps, "
        "tunnels: {t0: {gateway: g0, uplink: l0, instance: 1}}}\nexpectations: []\n"
    )
    found = load_design(text, "bench.yaml").design
    return build_settled(found, settle(found, {}, PRACTICE_CLOUD))


def world_of(settled: Settled) -> VirtualWorld:
    keys = {s.label: f"key-of-{s.label}-1234567890" for s in settled.shared_secrets()}
    return VirtualWorld(settled, Secrets(keys), start=datetime(2026, 11, 23, tzinfo=UTC))


def forwarding() -> Iterator[Row]:
    """From a host of a site into a tunnel, and out of it at the cloud; the baseline seals the same
    bytes with a bare AES-256-GCM call."""
    world = world_of(design(1))
    world.run(20.0)
    settled = world.settled
    ends = [
        host_of(settled.families_at(NetworkRef.of(name)).first) for name in ("s0/lan", "apps/web")
    ]
    data = Packet(*ends, 1, b"\x08\0\0\0\0\1\0\1" + bytes(SIZE)).encode()
    router, cipher, sent = world.routers["g0"], AESGCM(bytes(32)), list[bytes]()

    def out() -> None:
        for _ in range(PACKETS):
            router.receive_local(data, world.now)
        sent.extend(router.underlay())

    def into() -> None:
        for _ in range(PACKETS):
            world.cloud.receive(sent.pop(0), world.now)

    def bare() -> None:
        for _ in range(PACKETS):
            cipher.encrypt(b"\0" * 12, data, b"\0" * 8)

    mine, floor, ratio = interleaved(out, bare, rounds=ROUNDS)
    words = f"{ratio:.3f} of it (target 25,000 a second)"
    yield _packet_row("a packet of 1,028 bytes into a tunnel", mine, floor, words)
    while len(sent) < (ROUNDS + 2) * PACKETS:
        out()
    mine, floor, ratio = interleaved(into, bare, rounds=ROUNDS)
    what = "out of a tunnel at the cloud, to a host that answers"
    yield _packet_row(what, mine, floor, f"{ratio:.3f} of it")


def _packet_row(what: str, mine: float, floor: float, words: str) -> Row:
    ours = f"{mine / PACKETS * 1e6:.1f} us ({PACKETS / mine:,.0f} a second)"
    return what, "bare AES-256-GCM call", ours, f"{floor / PACKETS * 1e6:.2f} us", words


def floods() -> Iterator[Row]:
    """What a forged first message costs a gateway that asks for a cookie, packets included; the
    baseline is the least that any answer needs: a keyed hash of nonce, address and SPI."""
    from obrin.core.ipsec.offers import ike_offers
    from obrin.core.ipsec.suite import SHIPPED
    from obrin.device.tunnels.outside import in_udp
    from obrin.wire.ike.codec.message import encode_plain
    from obrin.wire.ike.codec.numbers import FLAG_INITIATOR, Exchange
    from obrin.wire.ike.codec.payloads import Ke, Nonce
    from obrin.wire.ike.codec.sa_payload import Sa

    world = world_of(design(1))
    world.run(20.0)
    site, rng = world.sites["g0"], random.Random(1).randbytes
    config = next(iter(site.router.ike.tunnels.values())).config
    ends = (config.remote_address, 500), (config.local_address, 500)

    def forged() -> bytes:
        payloads = [Sa(ike_offers((SHIPPED["modern"],))), Ke(31, rng(32)), Nonce(rng(32))]
        spi = rng(8)
        return in_udp(
            *ends, encode_plain(spi, bytes(8), Exchange.IKE_SA_INIT, FLAG_INITIATOR, 0, payloads)
        )

    packets = [forged() for _ in range(PACKETS)]

    def flood() -> None:
        for packet in packets:
            site.receive(packet, world.now)
        site.router.underlay()

    def bare() -> None:
        for packet in packets:
            hashlib.blake2s(packet[:80], key=b"k" * 32, digest_size=16).digest()

    flood()  # the few that are answered without a cookie
    world.run(0.1)
    mine, floor, ratio = interleaved(flood, bare, rounds=ROUNDS)
    words = f"{ratio:.3f} of it (target 40 us)"
    what = "a forged IKE_SA_INIT, packets included"
    ours = f"{mine / PACKETS * 1e6:.1f} us ({PACKETS / mine:,.0f} a second)"
    yield what, "a keyed hash", ours, f"{floor / PACKETS * 1e6:.2f} us", words


def cables() -> Iterator[Row]:
    """Datagrams over loopback, sent and taken in, many in one call and one by one."""
    near, far = (socket.socket(socket.AF_INET, socket.SOCK_DGRAM) for _ in range(2))
    for sock in (near, far):
        sock.setblocking(False)
        sock.bind(("127.0.0.1", 0))
    plain, to = far.getsockname(), near.getsockname()
    join(near)
    datagrams = [(bytes(1_400 + TOKEN_SIZE), to) for _ in range(32)]

    def ours() -> None:
        send_all(far, datagrams)
        if sum(1 for _ in _taken(lambda: receive(near))) != len(datagrams):
            raise RuntimeError("a datagram was lost")

    def one_by_one() -> None:
        for data, _ in datagrams:
            near.sendto(data, plain)
        if sum(1 for _ in _taken(lambda: [far.recvfrom(LARGEST)])) != len(datagrams):
            raise RuntimeError("a datagram was lost")

    mine, theirs, ratio = interleaved(ours, one_by_one, rounds=41, repeat=20)
    each = [f"{seconds / len(datagrams) * 1e6:.2f} us" for seconds in (mine, theirs)]
    words = f"{ratio:.1f} times as fast (target 1.3)"
    yield "a datagram of 1,416 bytes over a cable, of 32", "one by one", *each, words


def _taken(take: Callable[[], Iterable[T]]) -> Iterator[T]:
    while True:
        try:
            yield from take()
        except BlockingIOError:
            return


def coming_up() -> Iterator[Row]:
    """Until every BGP session stands, all in one process: one tunnel of 800 beside one of 80."""
    each = {}
    for sites in (20, 200):
        world = world_of(design(sites))
        begun = time.process_time()
        while True:
            world.run(1.0)
            speakers = [i.router.bgp.speaker for i in world.cloud.instances.values()]
            up = sum(n.session.established for s in speakers for n in s.neighbours.values())
            if up == 4 * sites:
                break
        each[sites] = (time.process_time() - begun) / (4 * sites)
    times = [f"{each[sites] * 1000:.1f} ms" for sites in (200, 20)]
    words = f"{each[200] / each[20]:.2f} times the time (flat: 1)"
    yield "a tunnel up, among 800", "among 80", *times, words


def routes() -> Iterator[Row]:
    """A site that tells ever more networks, until they stand in the cloud's table."""
    each = {}
    for count in (5_000, 10_000):
        world = world_of(one_site_with(count))
        gc.collect()
        gc.disable()  # how the time grows is asked, not when Python looks for cycles
        begun = time.process_time()
        while sum(1 for _ in world.cloud.tables().tables["apps"].items()) < count:
            world.run(0.5)
        each[count] = time.process_time() - begun
        gc.enable()
    times = [f"{each[count]:.2f} s" for count in (10_000, 5_000)]
    words = f"{each[10_000] / each[5_000]:.2f} times the time (linear: 2)"
    yield "10,000 routes from a site into the cloud's table", "5,000", *times, words


if __name__ == "__main__":
    print_rows(chain(forwarding(), floods(), cables(), coming_up(), routes()))
