"""What is said to be entered at an end, played through; and keys held against each other."""

from __future__ import annotations

import pytest

from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.check.whole import check
from obrin.core.design.reader import read_values
from obrin.core.errors import DesignError
from obrin.core.handover.ends.agreed import agreements, lines
from obrin.core.handover.secrets import Secrets
from obrin.core.ipsec.shared_keys import difference, key_print, print_difference
from tests.core.test_healthy import secrets_of
from tests.doubles import DESIGN, settled_of, swap

NO_PFS = """\
suites:
  bare:
    ike: {encryption: AES-GCM-16-256, prf: PRF-HMAC-SHA2-384, group: 20, lifetime: 8 h}
    esp: {encryption: AES-GCM-16-256, lifetime: 1 h, esn: true}
clouds:
"""


def entered(text: str) -> str:
    return swap(("clouds:\n", NO_PFS), ("    tunnels:\n", f"    entered: {text}\n    tunnels:\n"))


def outcome(text: str, prints: dict[str, str] | None = None) -> dict[str, str]:
    """The first failure of each tunnel; empty where it has none."""
    return {
        a.tunnel.name: next((f"{s.exchange}: {s.notify}" for s in a.steps if not s.good), "")
        for a in agreements(settled_of(entered(text)), prints or {})
    }


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("{site: {suites: [high]}}", ""),
        ("{site: {suites: [common]}}", "IKE_SA_INIT: NO_PROPOSAL_CHOSEN"),
        ("{cloud: {suites: [bare]}}", "first child rekey: NO_PROPOSAL_CHOSEN"),
        ("{site: {suites: [bare]}, cloud: {suites: [bare]}}", ""),
        ("{site: {identity: 10.0.0.1}}", "IKE_AUTH: AUTHENTICATION_FAILED"),
        ("{site: {identity: 10.0.0.1}, cloud: {expects: 10.0.0.1}}", ""),
        ("{cloud: {local: 10.0.0.0/24}, site: {remote: 10.9.0.0/24}}", "first child SA: TS_UNACC"),
        ("{cloud: {local: 10.0.0.0/24}}", ""),
    ],
)
def test_what_follows_from_what_was_entered(text: str, expected: str) -> None:
    found = outcome(text)["a"]
    assert found.startswith(expected)
    assert bool(found) is bool(expected)
    if "identity: 10.0.0.1}, cloud" in text:
        assert outcome(text)["b"] == ""


def test_keys_are_compared_by_their_fingerprints() -> None:
    right = {"quay-apps/a": "1111-1111", "quay-apps/b": "2222-2222"}
    failed = "IKE_AUTH: AUTHENTICATION_FAILED"
    same = outcome("{site: {keys: {a: 1111-1111}}, cloud: {keys: {b: 2222-2222}}}", right)
    assert set(same.values()) == {""}
    one = outcome("{site: {keys: {a: 1111-1112}}}", right)
    assert (one["a"], one["b"]) == (failed, "")
    both = outcome("{site: {keys: {a: 9999-9999}}, cloud: {keys: {a: 9999-9999}}}", right)
    assert set(both.values()) == {""}  # another key than ours, and the same at both ends
    apart = outcome("{site: {keys: {a: 9999-9999}}, cloud: {keys: {a: 9999-9990}}}")
    assert apart["a"] == failed
    settled = settled_of(entered("{site: {keys: {a: 1111-1112}}}"))
    secrets = Secrets(secrets_of(settled).keys, prints=right)
    found = [f for f in check(settled, PRACTICE_CLOUD, secrets) if f.code == "entered-differs"]
    assert len(found) == 1
    assert "the pre-shared keys differ" in found[0].cause
    assert found[0].place == ("links", "quay-apps", "entered")
    unknown = [
        f for f in check(settled, PRACTICE_CLOUD, Secrets()) if f.code == "entered-not-known"
    ]
    assert len(unknown) == 1
    assert "whether the key is the right one (quay-apps/a)" in unknown[0].cause
    assert "obrin keys compare quay-apps/a" in unknown[0].fix


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{site: {suites: [hihg]}}", "Did you mean 'high'"),
        ("{site: {keys: {c: x}}}", "tunnel of"),
        ("{cloud: {passwords: {c: x}}}", "tunnel of"),
    ],
)
def test_names_in_it_must_mean_something(text: str, words: str) -> None:
    with pytest.raises(DesignError) as raised:
        settled_of(entered(text))
    assert words in str(raised.value)


KEY = "qR7mWx2LpV9tKz4NcB8h"


@pytest.mark.parametrize(
    ("typed", "words"),
    [
        (KEY, ""),
        (KEY + " ", "blanks around it"),
        (KEY.swapcase(), "the case of letters only"),
        (KEY[:16], "cut short: 16 of 20"),
        (KEY[:4] + "w" + KEY[5:], "differs in the case"),
        (KEY[:4] + "X" + KEY[5:], "it differs at character 5"),
        (KEY[:4] + KEY[5] + KEY[4] + KEY[6:], "it differs at character 5 and 6"),
        (KEY[::-1], "the same characters in another order"),
        ("another one altogether", "it is another key, of 22 characters"),
        ("the key of the other", "it is the key of link/b"),
    ],
)
def test_how_a_mistyped_key_differs(typed: str, words: str) -> None:
    found = difference(KEY, typed, {"link/b": "the key of the other"})
    assert words in found
    assert bool(found) is bool(words)
    assert KEY not in found
    same = key_print(KEY, b"secret") == key_print(typed, b"secret")
    assert same is (typed == KEY)
    assert key_print(KEY, b"secret") != key_print(KEY, b"other")


@pytest.mark.parametrize(
    ("typed", "words"),
    [
        (KEY, ""),
        (KEY + " ", "blanks around it"),
        (f" {KEY}\t", "blanks around it"),
        (KEY.swapcase(), "the case of letters"),
        (KEY.lower() + " ", "the case of letters"),
        (KEY + "x", "another key"),
        ("the key of the other", "it is the key of link/b"),
    ],
)
def test_a_fingerprint_tells_how_the_key_differs(typed: str, words: str) -> None:
    right, entered = key_print(KEY, b"secret"), key_print(typed, b"secret")
    others = {"link/b": key_print("the key of the other", b"secret")}
    assert words in print_difference(right, entered, others)
    assert bool(print_difference(right, entered, others)) is bool(words)
    assert "not a fingerprint" in print_difference(right, typed, others)


def test_no_fingerprint_looks_like_a_number_in_a_design() -> None:
    """In hexadecimal one in some hundreds would: `123e-4567`."""
    for number in range(20_000):
        shown = key_print(str(number), b"secret")
        assert read_values(shown, "design.yaml") == shown


RIGHT = {"quay-apps/a": "1-1", "quay-apps/b": "2-2", "quay-apps/a:bgp": "3-3"}
DIFFER = "the passwords of the BGP session differ"
ONLY = "the {} has no password for the BGP session, the other end has one"


@pytest.mark.parametrize("signed", [False, True])
@pytest.mark.parametrize(
    ("text", "prints", "bare", "with_password"),
    [
        ("{site: {passwords: {a: 3-3}}}", RIGHT, ONLY.format("cloud"), ""),
        ("{site: {passwords: {a: 3-4}}}", RIGHT, ONLY.format("cloud"), DIFFER),
        ("{cloud: {passwords: {a: none}}}", RIGHT, "", ONLY.format("cloud")),
        ("{cloud: {passwords: {a: none}}, site: {passwords: {a: none}}}", RIGHT, "", ""),
        ("{cloud: {passwords: {a: y9}}, site: {passwords: {a: y9}}}", RIGHT, "", ""),
        ("{cloud: {passwords: {a: y9}}, site: {passwords: {a: y8}}}", {}, DIFFER, DIFFER),
        ("{site: {passwords: {a: 3-4}}}", {}, ONLY.format("cloud"), ""),
        ("{site: {keys: {a: 1-1}}}", RIGHT, "", ""),
        ("{site: {keys: {a: 1-2}, passwords: {a: none}}}", RIGHT, "key", "key"),
    ],
)
def test_passwords_of_sessions_are_played_through(
    text: str, prints: dict[str, str], bare: str, with_password: str, signed: bool
) -> None:
    design = entered(text)
    if signed:
        design = swap(
            ("bgp: {hold-time: 6 s}", "bgp: {hold-time: 6 s, password: true}"), text=design
        )
    settled = settled_of(design)
    one, other = agreements(settled, prints)
    assert other.good
    wanted = with_password if signed else bare
    failed = [step for step in one.steps if not step.good]
    if not wanted or wanted == "key":
        assert all(step.exchange == "IKE_AUTH" for step in failed)
        assert bool(failed) == bool(wanted)
        return
    assert [(step.exchange, step.text) for step in failed] == [("BGP session", wanted)]
    assert [step.exchange for step in one.steps].index("BGP session") == 3
    said = next(line for line in lines(settled, one) if line.what == "Entered: BGP password")
    assert said.follows == "the BGP session does not begin"
    secrets = Secrets(secrets_of(settled).keys, prints=prints)
    (found,) = (f for f in check(settled, PRACTICE_CLOUD, secrets) if f.code == "entered-differs")
    assert wanted in found.cause
    assert "the tunnel comes up, and its BGP session never does" in found.consequence


BEYOND = swap(
    (
        "        uplinks:\n          fibre",
        "        loopback: 10.250.0.1\n        uplinks:\n          fibre",
    ),
    (
        "bgp: {hold-time: 6 s}",
        "bgp: {hold-time: 6 s, site-end: loopback, cloud-end: gateway-subnet}",
    ),
)


@pytest.mark.parametrize(
    ("said", "inside", "beyond"),
    [
        ("{}", "", ""),
        (
            "{source: 10.250.0.1}",
            "the site speaks from 10.250.0.1, and the cloud speaks to {site}",
            "",
        ),
        ("{source: 192.0.2.10}", "speaks from 192.0.2.10", "speaks from 192.0.2.10"),
        (
            "{peer: 10.99.0.1}",
            "the cloud speaks from {cloud}, and the site speaks to 10.99.0.1",
            "speaks to 10.99.0.1",
        ),
        ("{multihop: false}", "", "the site takes only a peer on the link"),
        ("{multihop: true, host-route: true}", "", ""),
        ("{host-route: false}", "", "has no static route to {cloud}, and waits for one"),
    ],
)
def test_how_a_session_is_entered_is_played_through(said: str, inside: str, beyond: str) -> None:
    for base, wanted in ((DESIGN, inside), (BEYOND, beyond)):
        text = swap(
            (
                "    tunnels:\n",
                f"    entered: {{site: {{sessions: {{a: {said}}}}}}}\n    tunnels:\n",
            ),
            text=base,
        )
        settled = settled_of(text)
        tunnel = next(settled.tunnels())
        wanted = wanted.format(site=tunnel.peers[0], cloud=tunnel.peers[1])
        one, other = agreements(settled, {})
        assert other.good
        assert one.good is not bool(wanted)
        assert wanted in "".join(step.text for step in one.steps if not step.good)
        found = [
            f
            for f in check(settled, PRACTICE_CLOUD, secrets_of(settled))
            if f.code == "entered-differs"
        ]
        assert len(found) == bool(wanted)


def test_sessions_are_said_of_links_that_have_them() -> None:
    text = swap(
        (
            "    bgp: {hold-time: 6 s}\n",
            "    routing: static\n    entered: {site: {sessions: {a: {multihop: true}}}}\n",
        )
    )
    with pytest.raises(DesignError, match="has no BGP sessions"):
        settled_of(text)


@pytest.mark.parametrize(
    ("said", "prints", "verdict"),
    [
        ("{site: {keys: {a: 1111-1111}}}", {}, None),
        ("{cloud: {keys: {a: 1111-1111}}}", {}, None),
        ("{site: {keys: {a: 1111-1111}}}", {"quay-apps/a": "1111-1111"}, True),
        ("{site: {keys: {a: 1111-1111}}}", {"quay-apps/a": "1111-1112"}, False),
        ("{site: {keys: {a: 1-1}}, cloud: {keys: {a: 1-1}}}", {}, True),
        ("{site: {keys: {a: 1-1}}, cloud: {keys: {a: 1-2}}}", {}, False),
        ("{site: {identity: 192.0.2.10}}", {}, True),
    ],
)
def test_what_cannot_be_compared_is_not_known(said: str, prints: dict, verdict) -> None:
    settled = settled_of(entered(said))
    found = next(a for a in agreements(settled, prints) if a.tunnel.name == "a")
    assert found.verdict is verdict
    assert bool(found.unknown) == (verdict is None)
    if verdict is None:
        assert "obrin keys compare quay-apps/a" in found.unknown[0]
        line = next(line for line in lines(settled, found) if line.what == "Entered: key")
        assert line.follows == "not known"
