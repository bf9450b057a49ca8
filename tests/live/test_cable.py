"""Cables: what comes in a burst is all received, strangers are not, and a far side may be away."""

from __future__ import annotations

import asyncio
import socket

from obrin.live.practice.cable import PLUG, Cable, Port, cable_token, unwrap

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
