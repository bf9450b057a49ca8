"""Which key is to be at the ends of a tunnel, and which one they have."""

from __future__ import annotations

import random
from datetime import date

import pytest

from obrin.live.secrets.file import SecretFile
from obrin.live.secrets.store import KeyStore

DAY = date(2026, 11, 30)
LABELS = ("a/1", "a/2", "b/1")


@pytest.mark.parametrize("seed", range(30))
def test_what_the_ends_have_is_known_whatever_is_done_to_keys(tmp_path, seed: int) -> None:
    draw = random.Random(seed)
    store = KeyStore(SecretFile(tmp_path / "keys-x.json", lambda: ""))
    wanted, there = dict[str, str](), dict[str, str]()
    for _ in range(40):
        label, key = draw.choice(LABELS), draw.choice("pqrs") * 20
        deed = draw.choice(["put", "put", "rotate", "connect", "lay by", "begin"])
        if deed == "put":
            store.put({label: key}, DAY)
            wanted[label] = key
            there.setdefault(label, key)
        elif deed == "rotate":
            store.put({label: key}, DAY, at_ends=True)
            wanted[label] = there[label] = key
        elif deed == "connect":
            store.all_entered()
            there = dict(wanted)
        elif deed == "lay by":
            store.lay_by(label, key)
        else:
            store.begin_turns([label])
        assert store.read() == wanted
        assert wanted | store.entered() == there
        assert all(wanted[name] != key for name, key in store.entered().items())
