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
    st.tuples(st.just("stirred"), st.just(""), st.just(0.0)),
)


@given(st.lists(DEEDS, max_size=60))
def test_it_says_what_a_walk_would(deeds: list[tuple[str, str, float]]) -> None:
    agenda: Agenda[str] = Agenda()
    at: dict[str, float] = {}
    stirred: dict[str, None] = {}
    for deed, name, time in deeds:
        if deed == "wake":
            agenda.wake(name, time)
            at[name] = time
        elif deed == "stir":
            agenda.stir(name)
            stirred[name] = None
        elif deed == "forget":
            agenda.forget(name)
            at.pop(name, None)
            stirred.pop(name, None)
        elif deed == "due":
            found = agenda.due(time)
            assert sorted(found) == sorted(n for n, t in at.items() if t <= time)
            times = [at.pop(name) for name in found]
            assert times == sorted(times)
        else:
            assert agenda.stirred() == list(stirred)
            stirred.clear()
        assert agenda.next() == min(at.values(), default=float("inf"))
