"""What packs, templates and rotations are made of, for designs that use all there is."""

from __future__ import annotations

import json
from datetime import date, datetime, timedelta
from pathlib import Path

import pytest

import obrin
from obrin.core.check.tunnels.certificates import certificates
from obrin.core.days import LAST, day_after, time_after
from obrin.core.handover.differences import differences
from obrin.core.handover.ends.proof import Configurations
from obrin.core.handover.pack import PackMaker, gateways_of
from obrin.core.handover.rotation import rotation
from obrin.core.handover.secrets import Secrets
from obrin.core.handover.sheet.context import template_context
from obrin.core.handover.standard.basic import loaded
from obrin.core.handover.standard.keys import CertificateFiles
from obrin.core.pki.read import as_pem, key_as_pem
from obrin.core.settled.model import Settled
from obrin.core.text import clean
from tests.authority import NOW, YEAR, Made
from tests.doubles import settled_of, swap

DEMO = Path(obrin.__file__).parent / "demo"
DEMOS = ["design.yaml", "crossing.yaml", "ledger.yaml"]


def demo(name: str) -> Settled:
    return settled_of((DEMO / name).read_text())


def keys_of(settled: Settled) -> Secrets:
    keys = {tunnel.label: f"secret-of-{tunnel.label}" for tunnel in settled.tunnels()}
    files = {
        name: CertificateFiles("chain", f"secret-of-{name}", "authorities", "lists")
        for name in settled.certified()
    }
    return Secrets(keys, files)


@pytest.mark.parametrize("name", DEMOS)
def test_a_template_is_given_plain_values_and_no_secret_unasked(name: str) -> None:
    settled = demo(name)
    for place in gateways_of(settled):
        open_one = template_context(settled, place, None)
        assert json.loads(json.dumps(open_one)) == open_one
        assert "secret-of-" not in json.dumps(open_one)
        asked = template_context(settled, place, keys_of(settled))
        for tunnel in asked["tunnels"]:
            if tunnel["authentication"] == "pre-shared-key":
                assert tunnel["key"] == f"secret-of-{tunnel['name']}"
            else:
                assert asked["certificate"]["private_key"] == f"secret-of-{place}"
        legs = {leg.label for leg in settled.legs_at(place)}
        named = {t["name"] for t in asked["tunnels"]}
        named |= {f"{c['name']}/circuit" for c in asked["circuits"]}
        assert named == legs
        assert asked["configuration"] == loaded(Configurations(settled).text(place))


@pytest.mark.parametrize("name", DEMOS)
def test_packs_of_every_demo_are_whole_and_hold_no_secret_but_in_their_keys(name: str) -> None:
    settled = demo(name)
    maker, secrets = PackMaker(settled), keys_of(settled)
    for place in gateways_of(settled):
        pack = maker.make(place, secrets)
        assert "secret-of-" not in "".join(pack.open_files().values())
        assert pack.mirror.count("DIFFERENT") == 0
        assert pack.values.startswith("name,part,row,column,value\n")
    assert maker.mirror_faults() == []


def test_keys_are_replaced_where_nothing_is_carried_first() -> None:
    settled = settled_of()
    turns = list(rotation(settled, {t.label for t in settled.tunnels()}))
    assert [turn.tunnel.label for turn in turns] == ["quay-apps/b", "quay-apps/a"]
    assert turns[0].meanwhile == "quay-apps/a carries the traffic"
    spare = settled_of(swap(("instance: 2}", "instance: 2, role: spare}")))
    first, last = rotation(spare, {"quay-apps/a", "quay-apps/b"})
    assert "the spare is down" in first.meanwhile
    assert "stops for about two seconds" in last.meanwhile
    assert list(rotation(settled, ["nothing/else"])) == []


@pytest.mark.parametrize(
    ("meant", "found", "told"),
    [
        ({"a": 1}, {"a": 1}, []),
        ({"a": 1}, {"a": 2}, ["a: 2 instead of 1"]),
        ({"a": 1}, {}, ["a: it is missing"]),
        ({}, {"a": 1}, ["a: the design does not have it"]),
        (
            {"l": [{"name": "x", "v": 1}]},
            {"l": [{"name": "x", "v": 2}]},
            ["l[x]/v: 2 instead of 1"],
        ),
        ({"l": [1, 2]}, {"l": [1]}, ["l[2]: it is missing"]),
        (
            {"l": [{"name": "x"}, {"name": "x"}]},
            {"l": []},
            ["l[1]: it is missing", "l[2]: it is missing"],
        ),
        ({"a": "x" * 100}, {"a": "y"}, [f"a: y instead of {'x' * 57}..."]),
        (1, {"a": 1}, [": {'a': 1} instead of 1"]),
    ],
)
def test_differences_of_data_are_reported_leaf_by_leaf(meant, found, told: list[str]) -> None:
    assert list(differences(meant, found)) == told
    hidden = "".join(differences(meant, found, secret=True))
    assert "instead of" not in hidden


CERTIFIED = swap(
    ("    bgp: {hold-time: 6 s}", "    bgp: {hold-time: 6 s}\n    authentication: certificate")
)


def with_certificates(changed: str = "", **changes: object) -> tuple[Settled, Secrets]:
    """All gateways certified; at `changed` some parts are others."""
    settled, made, files = settled_of(CERTIFIED), Made(), {}
    authorities = as_pem([made.root])
    for name, identities in settled.certified().items():
        leaf, key = made.gateway(*identities)
        parts = {
            "chain": as_pem([leaf, made.issuing]),
            "key": key_as_pem(key),
            "authorities": authorities,
        }
        files[name] = CertificateFiles(**(parts | (changes if name == changed else {})))
    return settled, Secrets({}, files)


OTHER = Made()
STRANGE_LEAF, STRANGE_KEY = OTHER.gateway("192.0.2.10")


@pytest.mark.parametrize(
    ("changes", "code", "words"),
    [
        ({}, None, ""),
        ({"key": None}, None, ""),
        ({"key": key_as_pem(STRANGE_KEY)}, "certificate-refused", "private key belongs to another"),
        ({"key": "nothing"}, "certificate-refused", "the private key"),
        ({"chain": "nothing"}, "certificate-refused", "the chain"),
        ({"chain": as_pem([STRANGE_LEAF, OTHER.issuing]), "key": None}, "certificate-refused", ""),
        ({"authorities": as_pem([OTHER.root])}, "certificate-refused", ""),
    ],
)
def test_certificates_are_judged_as_the_other_end_will(
    changes: dict[str, object], code: str | None, words: str
) -> None:
    settled, secrets = with_certificates("quay-gw", **changes)
    found = list(certificates(settled, secrets, NOW))
    assert {finding.code for finding in found} == ({code} if code else set())
    assert all(words in finding.cause for finding in found)


def test_certificates_that_are_missing_revoked_or_about_to_end() -> None:
    settled, secrets = with_certificates()
    assert {f.code for f in certificates(settled, Secrets(), NOW)} == {"certificate-missing"}
    barred = Secrets({}, secrets.certificates, frozenset({"quay-gw"}))
    assert [f.code for f in certificates(settled, barred, NOW)] == ["certificate-revoked"]
    late = NOW + YEAR - timedelta(days=5)
    assert "certificate-ends" in {f.code for f in certificates(settled, secrets, late)}


def test_a_life_that_the_issuer_cuts_is_named() -> None:
    """In the design, where no certificate can live so long, and at each that was cut."""
    long = settled_of(CERTIFIED + "\nauthority: {gateway: 2000 d, root: 1000 d}\n")
    causes = [f.cause for f in certificates(long, Secrets(), NOW) if f.code == "certificate-cut"]
    assert causes == [
        "certificates of issuing authorities are to live 1825 d, and the root lives 1000 d",
        "certificates of gateways are to live 2000 d, and their issuing authority lives 1825 d",
    ]
    settled, made = settled_of(CERTIFIED), Made()
    late = NOW + 5 * YEAR - timedelta(days=100)
    leaf, key = made.gateway(*settled.certified()["quay-gw"], now=late)
    files = CertificateFiles(as_pem([leaf, made.issuing]), key_as_pem(key), as_pem([made.root]))
    found = certificates(settled, Secrets({}, {"quay-gw": files}), late)
    (cut,) = (finding for finding in found if finding.code == "certificate-cut")
    assert "with its issuer, after 100 d instead of 365 d" in cut.cause
    assert cut.fix == "'obrin certificates rotate --below issuing'"


def test_days_end_where_the_calendar_does() -> None:
    assert day_after(date(2026, 1, 1), timedelta(days=1)) == date(2026, 1, 2)
    assert day_after(date.max, timedelta(days=1)) == date.max
    assert time_after(datetime(9999, 1, 1, tzinfo=LAST.tzinfo), timedelta(days=400)) == LAST
    assert time_after(LAST - timedelta(days=2), timedelta(days=1)) < LAST


@pytest.mark.parametrize(
    ("given", "shown"),
    [
        ("plain", "plain"),
        ("two\nlines\tand a tab", "two\nlines\tand a tab"),
        ("\x1b[2J", "\\x1b[2J"),
        ("\u202eleft", "\\u202eleft"),
        ("\U000e0001", "\\U000e0001"),
        ("x" * 30, "xxxxx[20 characters left out]xxxxx"),
    ],
)
def test_text_from_outside_does_nothing_to_a_terminal(given: str, shown: str) -> None:
    assert clean(given, 10 if given.startswith("xxx") else 2000) == shown
