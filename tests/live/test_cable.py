"""Cables: what comes in a burst is all received, strangers are not, and a far side may be away."""

from __future__ import annotations

import asyncio
import random
import socket

import pytest

from obrin.live.practice.internet import offload
from obrin.live.practice.internet.cable import PLUG, Cable, Port, cable_token, unwrap

TOKEN = cable_token("secret", "one")
BURST = 3000


def test_a_burst_while_others_are_busy_is_received_whole_and_in_order() -> None:
    async def run() -> tuple[list[bytes], int]:
        got: list[bytes] = []
        turns = 0

        def after() -> None:
            nonlocal turns
            turns += 1

        far = Port(lambda data, sender: got.append(data), after)
        near = Cable(far.number, TOKEN, lambda packet: None)
        for number in range(BURST):
            near.send(number.to_bytes(2, "big"))
            if number % 100 == 99:
                await asyncio.sleep(0)
        for _ in range(1000):
            if len(got) > BURST:
                break
            await asyncio.sleep(0.001)
        return got, turns

    got, turns = asyncio.run(run())
    packets = [unwrap(TOKEN, data) for data in got]
    assert packets == [PLUG, *(number.to_bytes(2, "big") for number in range(BURST))]
    assert turns < BURST / 4  # many were handed on in one turn


def test_only_who_has_the_token_is_heard_and_nobody_need_be_there() -> None:
    async def run() -> list[bytes]:
        heard: list[bytes] = []
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as gone:
            gone.bind(("127.0.0.1", 0))
            port = gone.getsockname()[1]
        lonely = Cable(port, TOKEN, heard.append)
        for _ in range(5):
            lonely.send(b"anybody?")
            await asyncio.sleep(0.01)
        peers = []
        far = Port(lambda data, sender: peers.append(sender))
        near = Cable(far.number, TOKEN, heard.append)
        await asyncio.sleep(0.05)
        far.send(TOKEN + b"yes", peers[0])
        far.send(b"x" * 16 + b"no", peers[0])
        await asyncio.sleep(0.05)
        assert near is not None
        return heard

    assert asyncio.run(run()) == [b"yes"]


def drawn(seed: int) -> list[tuple[bytes, int]]:
    """Datagrams of sizes that often repeat, each to one of two places."""
    rng = random.Random(seed)
    sizes = [rng.choice((1, 20, 300, 600)) for _ in range(3)]
    found, place = list[tuple[bytes, int]](), 0
    for number in range(rng.randrange(1, 90)):
        place = place if rng.random() < 0.9 else 1 - place
        found.append((number.to_bytes(2, "big") * rng.choice(sizes), place))
    return found


@pytest.mark.parametrize("whole", [True, False])
@pytest.mark.parametrize("seed", range(12))
def test_whatever_leaves_together_arrives_one_by_one(
    seed: int, whole: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    """With the kernel's help, and where it refuses it."""
    sent = drawn(seed)
    if not whole:
        monkeypatch.setattr(offload, "_SEGMENT", 9999)

    async def run() -> list[list[bytes]]:
        got: list[list[bytes]] = [[], []]
        far = [Port(lambda data, sender, k=k: got[k].append(data)) for k in (0, 1)]
        near = Port(lambda data, sender: None)
        for data, place in sent:
            near.send(data, ("127.0.0.1", far[place].number))
        for _ in range(500):
            if sum(map(len, got)) == len(sent):
                break
            await asyncio.sleep(0.001)
        for port in (near, *far):
            port.close()
        return got

    assert asyncio.run(run()) == [[data for data, place in sent if place == k] for k in (0, 1)]


@pytest.mark.parametrize("seed", range(50))
def test_a_batch_is_what_one_call_can_send(seed: int) -> None:
    sent = [(data, ("127.0.0.1", place)) for data, place in drawn(seed)]
    found = list(offload.batches(sent))
    assert [datagram for batch in found for datagram in batch] == sent
    for batch in found:
        sizes = [len(data) for data, _ in batch]
        assert len({to for _, to in batch}) == 1
        assert set(sizes[:-1]) <= {sizes[0]}
        assert sizes[-1] <= sizes[0]
        assert len(batch) == 1 or (sum(sizes) <= offload.MOST_BYTES and len(batch) <= offload.MOST)
