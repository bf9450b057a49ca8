"""BGP sessions with a password in a practice world: up, refused by name, and changed."""

from __future__ import annotations

from dataclasses import replace

import pytest

from obrin.live.practice.cloud.names import cloud_name
from tests.doubles import settled_of, swap
from tests.live.test_seen import A, status_of, told
from tests.live.virtual_world import VirtualWorld, keys_of

SIGNED = swap(("bgp: {hold-time: 6 s}", "bgp: {hold-time: 6 s, password: true}"))
DIFFER = "the TCP signature does not match: the passwords differ"


def world() -> VirtualWorld:
    found = VirtualWorld(settled_of(SIGNED))
    found.run(12.0)
    return found


@pytest.mark.parametrize(
    ("end", "there", "words"),
    [
        ("site", "another-password", DIFFER),
        ("cloud", "another-password", DIFFER),
        ("site", "", "the cloud lost BGP just now: TCP is not signed, and this end has a password"),
        ("cloud", "", "TCP is signed with a password that this end does not have"),
    ],
)
def test_a_password_that_one_end_lacks_is_named_and_forgotten_when_mended(
    end: str, there: str, words: str
) -> None:
    found = world()
    assert status_of(found).right
    if end == "site":
        gateway = found.sites["quay-gw"]
        right = gateway.router.config
        neighbour = right.neighbours[A]
        wrong = replace(neighbour, session=replace(neighbour.session, password=there.encode()))
        gateway.take(replace(right, neighbours=right.neighbours | {A: wrong}), found.now)
        found.run(60.0)
        assert words in told(found), told(found)
        assert not status_of(found).right
        gateway.take(right, found.now)
    else:
        resource = found.store.resources["tunnels", cloud_name(A)]
        body = resource.body
        resource.body = body.model_copy(update={"session_passwords": [there] if there else []})
        found.rebuild()
        found.run(60.0)
        assert words in told(found), told(found)
        assert not status_of(found).right
        resource.body = body
        found.rebuild()
    found.run(60.0)
    assert told(found) == ""
    assert status_of(found).right


def test_a_new_password_at_both_ends_touches_no_other_session() -> None:
    found = world()
    other = found.sites["quay-gw"].router.bgp.sessions["quay-apps/b"]
    keys = keys_of(found.settled) | {f"{A}:bgp": "renewed-password-2468"}
    found.change_to(found.settled, lambda: found.run(2.0), keys)
    found.run(60.0)
    assert status_of(found).right, told(found)
    assert found.sites["quay-gw"].router.bgp.sessions["quay-apps/b"] is other
    sessions = found.sites["quay-gw"].router.bgp.sessions
    assert sessions[A].config.password == b"renewed-password-2468"
    assert "renewed" not in repr(sessions[A].config)
