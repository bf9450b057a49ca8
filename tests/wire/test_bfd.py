"""BFD: the state machine, its timers, and hostile packets."""

from __future__ import annotations

import random

import pytest

from obrin.core.address.prefix import parse_prefix
from obrin.core.ipsec.liveness import Bfd
from obrin.device.config import InsideEnds, RouterWay
from obrin.device.tunnels.bfd_sessions import BfdSessions
from obrin.wire.bfd import SLOW, BfdError, BfdSession, BfdState, Control, Diagnostic, decode_control
from obrin.wire.packet import decode_udp
from tests.doubles import seeded


class Line:
    """Two sessions and a line between them in virtual time."""

    def __init__(self, one: float = 0.3, two: float = 0.3, multiplier: int = 3) -> None:
        self.ends = (
            BfdSession(11, one, multiplier, seeded(1)),
            BfdSession(22, two, multiplier, seeded(2)),
        )
        self.now, self.cut = 0.0, False
        self.sent = [0, 0]
        self.events: list[list[tuple[float, BfdState]]] = [[], []]
        for end in self.ends:
            end.start(0.0)

    def run(self, seconds: float) -> None:
        until = self.now + seconds
        while True:
            moved = True
            while moved:
                moved = False
                for index, end in enumerate(self.ends):
                    for data in end.packets():
                        moved = True
                        self.sent[index] += 1
                        if not self.cut:
                            self.ends[1 - index].receive(data, self.now)
            for index, end in enumerate(self.ends):
                self.events[index] += [(self.now, state) for state in end.events()]
            due = min(end.next_timer() for end in self.ends)
            if due > until:
                break
            self.now = max(self.now, due)
            for end in self.ends:
                end.handle_timer(self.now)
        self.now = until


def test_it_comes_up_and_then_runs_at_the_agreed_pace() -> None:
    line = Line()
    line.run(5.0)
    assert [end.state for end in line.ends] == [BfdState.UP] * 2
    before = list(line.sent)
    line.run(30.0)
    for one, other in zip(line.sent, before, strict=True):
        assert 100 <= one - other <= 134  # every 225 to 300 ms


def test_the_slower_end_sets_the_pace() -> None:
    line = Line(0.1, 1.0)
    line.run(5.0)
    before = list(line.sent)
    line.run(60.0)
    assert 60 <= line.sent[0] - before[0] <= 80


@pytest.mark.parametrize("moment", [0.0, 0.1, 0.17, 0.29])
def test_a_dead_line_is_noticed_within_the_detection_time(moment: float) -> None:
    line = Line()
    line.run(10.0 + moment)
    line.cut, died = True, line.now
    line.run(5.0)
    for end, events in zip(line.ends, line.events, strict=True):
        at, state = events[-1]
        assert state is BfdState.DOWN
        assert 2 * 0.3 - 0.01 <= at - died <= 3 * 0.3 + 0.01
        assert end.diagnostic is Diagnostic.TIME_EXPIRED
    line.cut = False
    line.run(4 * SLOW)
    assert [end.state for end in line.ends] == [BfdState.UP] * 2


def test_a_peer_that_stops_says_so() -> None:
    line = Line()
    line.run(5.0)
    line.ends[0].stop(line.now)
    line.run(0.01)
    assert line.ends[1].state is BfdState.DOWN
    assert line.ends[1].diagnostic is Diagnostic.NEIGHBOR_DOWN
    line.run(3.0)
    assert line.ends[0].state is BfdState.ADMIN_DOWN


def test_a_peer_that_goes_down_takes_this_end_with_it_and_stopping_twice_is_once() -> None:
    line = Line()
    line.run(5.0)
    one, _ = line.ends
    down = Control(BfdState.DOWN, 1, False, False, 3, 22, 11, 300_000, 300_000)
    one.receive(down.encode(), line.now)
    assert (one.state, one.diagnostic) == (BfdState.DOWN, Diagnostic.NEIGHBOR_DOWN)
    one.receive(down._replace(state=BfdState.ADMIN_DOWN).encode(), line.now)
    assert one.state is BfdState.DOWN
    for _ in range(2):
        one.stop(line.now)
        assert one.state is BfdState.ADMIN_DOWN


def test_packets_survive_the_wire_and_bad_ones_raise_bfd_errors_only() -> None:
    packet = Control(BfdState.UP, 1, True, False, 3, 7, 9, 300000, 300000)
    data = packet.encode()
    assert decode_control(data) == packet
    good = Line()
    rng = random.Random(3)
    for _ in range(3000):
        spoiled = bytearray(data)
        for _ in range(rng.randint(1, 4)):
            spoiled[rng.randrange(len(spoiled))] = rng.randrange(256)
        cut = bytes(spoiled[: rng.randrange(30)]) if rng.random() < 0.3 else bytes(spoiled)
        try:
            decode_control(cut)
            good.ends[0].receive(cut, 1.0)
        except BfdError:
            continue
    for wrong in (
        b"",
        b"\x40" + data[1:],
        data[:2] + b"\0" + data[3:],
        data[:3] + b"\x99" + data[4:],
        data[:1] + b"\xc4" + data[2:],
        data[:4] + bytes(4) + data[8:],
        data[:8] + bytes(4) + data[12:],
    ):
        with pytest.raises(BfdError):
            decode_control(wrong)
    with pytest.raises(BfdError, match="another session"):
        good.ends[1].receive(data, 1.0)


def test_a_peer_that_requires_nothing_gets_nothing_but_answers_to_polls() -> None:
    """Section 6.8.7; and it is heard again once it wants to be."""
    line = Line()
    line.run(5.0)
    one, _ = line.ends
    quiet = Control(BfdState.UP, 0, False, False, 3, 22, 11, 300_000, 0)
    one.receive(quiet.encode(), line.now)
    one.packets()
    for step in range(20):
        one.handle_timer(line.now + 0.1 * step)
        assert one.packets() == []
        one.receive(quiet.encode(), line.now + 0.1 * step)
    one.receive(quiet._replace(poll=True).encode(), line.now + 2)
    (final,) = map(decode_control, one.packets())
    assert final.final
    one.receive(quiet._replace(required_rx=300_000).encode(), line.now + 2.1)
    one.handle_timer(line.now + 2.1)
    assert len(one.packets()) == 1
    one.handle_timer(line.now + 2.5)
    assert len(one.packets()) == 1


def test_each_session_sends_from_a_port_of_its_own() -> None:
    """RFC 5881 section 4: of the dynamic range, the same for all packets of a session."""
    block = parse_prefix("169.254.0.0/30")
    ends = InsideEnds(block, *block.ends())
    ways = {f"t{n}": RouterWay(inside=(ends,), bfd=Bfd(0.3, 3)) for n in range(5)}
    sessions = BfdSessions(ways, seeded(1))

    def ports(names, now: float) -> dict[str, set[int]]:
        found: dict[str, set[int]] = {name: set() for name in names}
        for name in names:
            sessions.tunnel_up(name, now)
        for step in range(12):
            sessions.handle_timer(now + step / 2)
            for name, packet in sessions.packets():
                found[name].add(decode_udp(packet).source_port)
        return found

    first = ports(ways, 0.0)
    assert all(len(held) == 1 for held in first.values())
    assert len(set.union(*first.values())) == 5
    assert all(49152 <= port <= 65535 for held in first.values() for port in held)
    del ways["t1"]
    sessions.take(ways, ways, 10.0)
    ways["t9"] = RouterWay(inside=(ends,), bfd=Bfd(0.3, 3))
    sessions.take(ways, ways, 20.0)
    later = ports(ways, 20.0)
    assert {n: held for n, held in later.items() if n != "t9"} == {
        n: first[n] for n in ways if n != "t9"
    }
    assert len(set.union(*later.values())) == 5
