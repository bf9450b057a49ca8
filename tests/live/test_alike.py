"""Much standard data validated by its shape: what is found is what validating each alone finds."""

from __future__ import annotations

import copy
import json
import random
from collections.abc import Callable, Iterator
from typing import Any

import pytest

from obrin.core.handover.configured import device_config
from obrin.core.handover.pack import gateways_of
from obrin.core.handover.standard.device import encode
from obrin.live.standard_modules import StandardDataError, validate
from obrin.live.standard_shapes import Alike
from tests.doubles import settled_of
from tests.live.buildable import Drawn

Json = dict[str, Any]
WORDS = ("", "x", "10.0.0.0/8", "10.0.0.1", "2001:db8::/32", "2001:db8::1", "ipv4", "a b", "\t")
NUMBERS = (-1, 0, 1, 255, 65536, 4294967295, 4294967296, 1.5, True, None)


def data_of(seed: int) -> list[Json]:
    settled = settled_of(Drawn(seed).text)
    return [encode(device_config(settled, name)) for name in gateways_of(settled)]


def spots(data: Any) -> Iterator[tuple[Any, Any]]:
    """Every member and entry: what holds it, and its key there."""
    for key, value in data.items() if isinstance(data, dict) else enumerate(data):
        yield data, key
        if isinstance(value, dict | list):
            yield from spots(value)


def another(value: Any, rng: random.Random, all_values: list[Any]) -> Any:
    choice = rng.random()
    if choice < 0.4:
        return rng.choice(all_values)  # one that is somewhere else: twice the same key, and so on
    if choice < 0.6 and isinstance(value, str):
        return rng.choice((value + "9", value[:-1], value.upper()))
    return rng.choice((*WORDS, *NUMBERS, [], {}, [value], {"a": value}))


def everywhere(data: Any, old: str, new: str) -> Any:
    """With a text that is another one wherever it stands: the shape stays."""
    if isinstance(data, dict):
        return {key: everywhere(value, old, new) for key, value in data.items()}
    if isinstance(data, list):
        return [everywhere(value, old, new) for value in data]
    return new if data == old and isinstance(data, str) else data


def reworded(data: Json, rng: random.Random) -> Json:
    texts = [h[k] for h, k in spots(data) if isinstance(h[k], str)]
    for _ in range(rng.choice((1, 2))):
        old = rng.choice(texts)
        head, slash, length = old.partition("/")
        heads = [t.partition("/")[0] for t in texts]
        odd = ("", " ", "x" * 300, "999.0.0.1", "10.0.0.0", "2001:db8::9", ":::", "é", "a\tb")
        head = rng.choice((head + "9", head[:-1], head.upper(), rng.choice(heads), *odd))
        data = everywhere(data, old, head + slash + length)
    return data


def changed(data: Json, rng: random.Random) -> Json:
    """With one thing, or two, another way."""
    if rng.random() < 0.5:
        return reworded(data, rng)
    made = copy.deepcopy(data)
    for _ in range(rng.choice((1, 1, 2))):
        found = list(spots(made))
        leaves = [h[k] for h, k in found if not isinstance(h[k], dict | list)]
        holder, key = rng.choice(found)
        what = rng.random()
        if what < 0.6:
            inside = [(h, k) for h, k in found if not isinstance(h[k], dict | list)]
            holder, key = rng.choice(inside)
            holder[key] = another(holder[key], rng, leaves)
        elif what < 0.75:
            del holder[key]
        elif what < 0.9 and isinstance(holder, list):
            holder.append(copy.deepcopy(holder[key]))
        elif isinstance(holder, dict):
            holder[rng.choice((f"{key}x", "obrin-nothing:x", "name"))] = rng.choice(leaves)
    return made


def verdict(judge: Callable[[Json], None], data: Json) -> bool:
    try:
        judge(data)
    except StandardDataError:
        return False
    return True


def renamed(data: Json, number: int) -> Json:
    """The same for another place: other names, other addresses."""
    text = json.dumps(data).replace("site-0", f"site-{number}").replace("10.20.", f"10.{number}.")
    found: Json = json.loads(text)
    return found


def disagreements(seed: int, rounds: int) -> list[Json]:
    rng, alike, found = random.Random(seed), Alike(), []
    for data in data_of(seed):
        alike.validate(data)
        for _ in range(rounds):
            other = changed(renamed(data, rng.randrange(20, 99)), rng)
            if verdict(alike.validate, other) is not verdict(validate, other):
                found.append(other)
    return found


@pytest.mark.parametrize("seed", range(8))
def test_whatever_is_changed_is_judged_as_it_would_be_alone(seed: int) -> None:
    assert disagreements(seed, 12) == []


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(100, 400))
def test_whatever_is_changed_in_many_is_judged_as_it_would_be_alone(seed: int) -> None:
    assert disagreements(seed, 60) == []


def test_true_is_no_number_though_it_is_equal_to_one() -> None:
    def speaker(number: object) -> Json:
        told = {"autonomous-system": number, "bgp-identifier": "192.0.2.1"}
        return {"obrin-bgp:bgp": told}

    alike = Alike()
    assert verdict(alike.validate, speaker(1)) is verdict(validate, speaker(1)) is True
    assert verdict(alike.validate, speaker(True)) is verdict(validate, speaker(True)) is False


def test_what_is_alike_is_looked_at_once() -> None:
    looked: list[Json] = []
    alike = Alike(looked.append)
    first = data_of(0)[0]
    for number in range(20, 40):
        alike.validate(renamed(first, number))
    assert len(looked) == 1
