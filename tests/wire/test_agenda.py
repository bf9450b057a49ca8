"""The agenda of many engines against a list that is walked."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from obrin.wire.agenda import Agenda

NAMES = st.sampled_from("abcdefgh")
TIMES = st.sampled_from([1.0, 2.0, 3.0, 5.0, 8.0, float("inf")])
DEEDS = st.one_of(
    st.tuples(st.just("wake"), NAMES, TIMES),
    st.tuples(st.just("stir"), NAMES, st.just(0.0)),
    st.tuples(st.just("forget"), NAMES, st.just(0.0)),
    st.tuples(st.just("due"), st.just(""), TIMES.filter(lambda t: t < 9)),
)


@given(st.lists(DEEDS, max_size=60))
def test_it_says_what_a_walk_would(deeds: list[tuple[str, str, float]]) -> None:
    at: dict[str, float] = {}
    stirred: dict[str, None] = {}
    asked: list[str] = []

    def timer(name: str) -> float | None:
        asked.append(name)
        return at.get(name)

    agenda = Agenda(timer)
    for deed, name, time in deeds:
        if deed == "wake":
            at[name] = time
            agenda.stir(name)
            stirred[name] = None
        elif deed == "stir":
            agenda.stir(name)
            stirred[name] = None
        elif deed == "forget":
            agenda.forget(name)
            at.pop(name, None)
            stirred.pop(name, None)
        else:
            found = agenda.due(time)
            assert sorted(found) == sorted(n for n, t in at.items() if t <= time)
            times = [at.pop(name) for name in found]
            assert times == sorted(times)
            stirred.update(dict.fromkeys(found))
        assert agenda.next() == min(at.values(), default=float("inf"))
        assert asked == list(stirred)  # of nobody else
        stirred.clear()
        asked.clear()
