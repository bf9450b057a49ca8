"""The practice cloud's rules: order, conflicts, quotas, preconditions, removal, secrets."""

from __future__ import annotations

import pytest

from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.handover.standard.ipsec import encode_suite
from obrin.core.ipsec.suite import SHIPPED
from obrin.live.practice.cloud.description import openapi
from obrin.live.practice.cloud.store import Store
from obrin.live.practice.cloud.troubles import Throttle
from obrin.live.practice.service import Problem

TUNNEL = {
    "gateway": "g",
    "instance": 1,
    "far_end": "f",
    "suite": encode_suite(SHIPPED["modern"]),
    "inside": ["169.254.1.0/30"],
    "inside_addresses": ["169.254.1.1"],
    "liveness": {"delay": 10, "first_wait": 1, "tries": 4},
    "pre_shared_key": "sh-secret",
}


class Cloud:
    def __init__(self, agreed=None) -> None:
        self.store = Store(PRACTICE_CLOUD, 60.0, lambda: None, b"key", agreed)
        self.now = 0.0

    def put(self, kind: str, name: str, body, *, match: str | None = None, wait: bool = True):
        answer = self.store.put(kind, name, body, match, self.now)
        if wait:
            self.wait()
        return answer

    def wait(self) -> None:
        while self.store.next_timer() != float("inf"):
            self.now = self.store.next_timer()
            self.store.handle_timer(self.now)

    def whole(self) -> Cloud:
        self.put("networks", "n", {"spaces": ["10.64.0.0/20"]})
        self.put("subnets", "gs", {"network": "n", "prefixes": ["10.64.0.0/28"], "role": "gateway"})
        self.put("addresses", "a", {"addresses": ["203.0.113.1"]})
        self.put(
            "gateways",
            "g",
            {
                "network": "n",
                "capacity_class": "cutter",
                "autonomous_system": 64512,
                "public_addresses": ["a"],
            },
        )
        self.put("far-ends", "f", {"address": "192.0.2.10", "autonomous_system": 1, "prefixes": []})
        return self


class Refused:
    def __init__(self, status: int) -> None:
        self.status = status

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind, value, trace) -> bool:
        assert kind is Problem, f"expected {self.status}, got {kind}"
        assert value.status == self.status, value.detail
        assert value.detail
        return True


def test_building_takes_its_time_on_the_scaled_clock() -> None:
    cloud = Cloud().whole()
    body = {"network": "n", "autonomous_system": 1, "public_addresses": ["a"]}
    cloud.put("subnets", "g2", {"network": "n", "prefixes": ["10.64.1.0/26"]})
    _, operation = cloud.put("gateways", "h", body | {"capacity_class": "cutter"}, wait=False)
    assert operation.ends - operation.begun == pytest.approx(20.0)  # 20 minutes at 60 times
    half = operation.shown(operation.begun + 10)
    assert (half["percent"], half["status"], half["seconds_left"]) == (50, "running", 10.0)
    cloud.wait()
    assert cloud.store.get("gateways", "h").state == "ready"


def test_the_cloud_gives_addresses_of_its_own_and_keeps_to_them() -> None:
    cloud = Cloud().whole()
    for name in ("b", "c"):
        cloud.put("addresses", name, {"families": ["ipv4", "ipv6"]})
    given = [cloud.store.get("addresses", name).addresses for name in "abc"]
    assert len({text for addresses in given for text in addresses}) == 5
    shown = cloud.store.get("addresses", "b").shown()
    assert tuple(shown["given"]) == given[1]
    peers = cloud.store.get("gateways", "g").addresses
    assert peers == ("10.64.0.14",)
    cloud.put("addresses", "b", {"families": ["ipv4", "ipv6"]})
    assert cloud.store.get("addresses", "b").addresses == given[1]
    with Refused(422):
        cloud.put("addresses", "d", {"families": ["ipv4"], "addresses": ["203.0.113.9"]})
    with Refused(422):
        cloud.put("addresses", "d", {})


def test_the_same_body_again_changes_nothing() -> None:
    cloud = Cloud().whole()
    count = len(cloud.store.operations)
    _, operation = cloud.put("networks", "n", {"spaces": ["10.64.0.0/20"]})
    assert operation is None
    assert len(cloud.store.operations) == count


def test_a_change_needs_the_etag_that_was_read() -> None:
    cloud = Cloud().whole()
    etag = cloud.store.etag(cloud.store.get("networks", "n"))
    with Refused(428):
        cloud.put("networks", "n", {"spaces": ["10.64.0.0/19"]})
    with Refused(412):
        cloud.put("networks", "n", {"spaces": ["10.64.0.0/19"]}, match='"old"')
    cloud.put("networks", "n", {"spaces": ["10.64.0.0/19"]}, match=etag)
    assert cloud.store.etag(cloud.store.get("networks", "n")) != etag
    with Refused(412):
        cloud.put("networks", "none", {"spaces": ["10.64.0.0/19"]}, match=etag)


REFUSALS = [
    (404, "boats", "x", {}),
    (422, "networks", "x", {}),
    (422, "networks", "x", {"spaces": ["10.0.0.0/8"]}),
    (422, "networks", "x", {"spaces": ["10.64.0.1/20"]}),
    (422, "networks", "x", {"spaces": ["10.64.0.0/20"], "colour": 1}),
    (409, "subnets", "x", {"network": "none", "prefixes": ["10.64.1.0/24"]}),
    (422, "subnets", "x", {"network": "n", "prefixes": ["10.99.1.0/24"]}),
    (422, "subnets", "x", {"network": "n", "prefixes": ["10.64.1.0/30"]}),
    (409, "subnets", "x", {"network": "n", "prefixes": ["10.64.0.0/27"]}),
    (
        422,
        "gateways",
        "x",
        {
            "network": "n",
            "capacity_class": "raft",
            "autonomous_system": 1,
            "public_addresses": ["a"],
        },
    ),
    (
        422,
        "gateways",
        "x",
        {
            "network": "n",
            "capacity_class": "liner",
            "autonomous_system": 1,
            "public_addresses": ["a"],
        },
    ),
    (
        422,
        "gateways",
        "x",
        {
            "network": "n",
            "capacity_class": "punt",
            "autonomous_system": 1,
            "public_addresses": ["a", "a"],
        },
    ),
    (
        409,
        "gateways",
        "x",
        {
            "network": "n",
            "capacity_class": "punt",
            "autonomous_system": 1,
            "public_addresses": ["zz"],
        },
    ),
    (422, "tunnels", "x", TUNNEL | {"instance": 2}),
    (
        422,
        "tunnels",
        "x",
        TUNNEL | {"inside": ["169.254.169.0/30"], "inside_addresses": ["169.254.169.1"]},
    ),
    (422, "tunnels", "x", TUNNEL | {"suite": {"name": "x"}}),
    (409, "tunnels", "x", TUNNEL | {"far_end": "none"}),
]


@pytest.mark.parametrize(("status", "kind", "name", "body"), REFUSALS)
def test_what_the_cloud_refuses(status: int, kind: str, name: str, body) -> None:
    cloud = Cloud().whole()
    with Refused(status):
        cloud.put(kind, name, body)
    assert (kind, name) not in cloud.store.resources


def test_needs_must_be_ready_and_quotas_hold() -> None:
    cloud = Cloud()
    cloud.put("networks", "n", {"spaces": ["10.64.0.0/20"]}, wait=False)
    with Refused(409):
        cloud.put("subnets", "s", {"network": "n", "prefixes": ["10.64.0.0/24"]})
    cloud.wait()
    for number in range(9):
        cloud.put("networks", f"n{number}", {"spaces": [f"10.{number}.0.0/16"]})
    with Refused(403):
        cloud.put("networks", "one-more", {"spaces": ["10.99.0.0/16"]})


def test_tunnels_do_not_share_a_block_and_never_show_their_key() -> None:
    cloud = Cloud().whole()
    cloud.put("tunnels", "t", TUNNEL)
    with Refused(409):
        cloud.put("tunnels", "u", TUNNEL)
    shown = str(cloud.store.get("tunnels", "t").shown())
    assert "sh-secret" not in shown
    with pytest.raises(Problem) as error:
        cloud.put("tunnels", "v", TUNNEL | {"metric": "sh-secret"})
    assert "sh-secret" not in error.value.detail


def test_an_etag_tells_nothing_of_the_key() -> None:
    """The same body has another tag in another cloud, so that guesses cannot be tried offline."""
    clouds = [Cloud().whole(), Cloud().whole(), Cloud().whole()]
    clouds[1].store._etag_key = b"another"
    tags = []
    for cloud in clouds:
        cloud.put("tunnels", "t", TUNNEL)
        tags.append(cloud.store.etag(cloud.store.get("tunnels", "t")))
    assert tags[0] == tags[2] != tags[1]


def test_removal_is_as_careful_as_making() -> None:
    cloud = Cloud().whole()
    with Refused(409):
        cloud.store.delete("networks", "n", cloud.now)
    with Refused(404):
        cloud.store.delete("networks", "none", cloud.now)
    first = cloud.store.delete("gateways", "g", cloud.now)
    assert cloud.store.delete("gateways", "g", cloud.now) is first
    with Refused(409):
        cloud.put("gateways", "g", cloud.store.get("gateways", "g").body.model_dump(mode="json"))
    cloud.wait()
    assert ("gateways", "g") not in cloud.store.resources


def test_the_description_covers_every_kind() -> None:
    described = openapi()
    assert {p.split("/")[2] for p in described["paths"]} >= {"networks", "tunnels", "operations"}
    assert "pre_shared_key" in str(described["components"])


HUB = {"spaces": ["10.65.0.0/20"], "tables": ["all"]}


def joined(agreed=None) -> Cloud:
    """A hub, and a network of somebody else that joins it."""
    cloud = Cloud(agreed)
    cloud.put("networks", "hub", HUB)
    cloud.put("networks", "n", {"spaces": ["10.64.0.0/20"], "owner": "the accounts office"})
    return cloud


ATTACHED = {"hub": "hub", "network": "n", "joined": {"uses": "all", "fills": ["all"]}}


def test_what_joins_somebody_elses_network_waits_until_they_accept() -> None:
    cloud = joined(agreed=())
    _, operation = cloud.put("attachments", "hub.n", ATTACHED)
    assert operation is not None
    assert operation.status == "waiting"
    shown = cloud.store.get("attachments", "hub.n").shown()
    assert (shown["state"], shown["waits_for"]) == ("waiting", "the accounts office")
    again, nothing = cloud.put("attachments", "hub.n", ATTACHED)
    assert (again.state, nothing) == ("waiting", None)
    cloud.store.accept("attachments", "hub.n")
    assert operation.status == "succeeded"
    assert "waits_for" not in cloud.store.get("attachments", "hub.n").shown()
    with Refused(409):
        cloud.store.accept("attachments", "hub.n")
    with Refused(404):
        cloud.store.accept("attachments", "hub.x")
    for agreed in (None, ["attachments/hub.n"]):
        told = joined(agreed)
        told.put("attachments", "hub.n", ATTACHED)
        assert told.store.get("attachments", "hub.n").state == "ready"


def test_what_fails_halfway_is_built_again() -> None:
    cloud = joined()
    cloud.store.failing.add("attachments")
    _, operation = cloud.put("attachments", "hub.n", ATTACHED)
    assert operation is not None
    assert operation.status == cloud.store.get("attachments", "hub.n").state == "failed"
    cloud.put("attachments", "hub.n", ATTACHED)
    assert cloud.store.get("attachments", "hub.n").state == "ready"


@pytest.mark.parametrize(
    ("hub", "table"), [("n", "all"), ("hub", "other")], ids=["no hub", "no such table"]
)
def test_tables_that_are_not_there_are_refused(hub: str, table: str) -> None:
    body = {"hub": hub, "network": "n", "joined": {"uses": table, "fills": []}}
    with Refused(422):
        joined().put("attachments", "x", body)


def test_a_throttle_lets_so_many_through() -> None:
    throttle = Throttle()
    assert throttle.wait(0.0) == 0.0
    throttle.set(2.0, 0.0)
    waits = [throttle.wait(n * 0.1) for n in range(21)]
    assert 4 <= waits.count(0.0) <= 6
    assert all(0.0 <= wait <= 0.5 for wait in waits)
    with pytest.raises(ValueError, match="0\\.1 and 1000"):
        throttle.set(0.0, 3.0)
    throttle.set(None, 3.0)
    assert throttle.wait(3.0) == throttle.wait(3.0) == 0.0
