"""Reading designs: the core schema, positions, every mistake reported, hostile files."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obrin.core.design.document import load_design
from obrin.core.design.positions import Locator
from obrin.core.design.reader import read_values
from obrin.core.design.reference import design_schema, reference_text
from obrin.core.design.starting import StartingFacts, starting_design
from obrin.core.design.values import Flow, parse_duration, parse_flow
from obrin.core.errors import DesignError
from obrin.core.settle.choices import Choice, format_choices, parse_choices
from tests.doubles import DESIGN, design_of, swap


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("a: no", "no"),
        ("a: 010", 10),
        ("a: 0x1F", 31),
        ("a: 0o17", 15),
        ("a: 1_000", "1_000"),
        ("a: 12:30:45", "12:30:45"),
        ("a: 1.5e3", 1500.0),
        ("a: .inf", float("inf")),
        ("a:", None),
        ("a: ~", None),
        ("a: 'null'", "null"),
        ("a: True", True),
        ("a: yes", "yes"),
        ("a: 2026-01-01", "2026-01-01"),
        ("a: [1, {b: 2}]", [1, {"b": 2}]),
        ("x: &n [1]\na: *n", [1]),
        ("a: !!str 5", "5"),
        ("a: +7", 7),
        ("a: '5'", "5"),
    ],
)
def test_scalars_are_those_of_yaml_1_2(text: str, value: object) -> None:
    assert read_values(text, "f")["a"] == value


@pytest.mark.parametrize(
    ("text", "where", "words"),
    [
        ("a: 1\nb: 2\na: 3\n", "f:3:1", "stands twice"),
        ("a: [1, 2\n", "f:2:1", "not valid YAML"),
        ("a:\n\t- 1\n", "f:2:1", "tab"),
        ("a: 1\n---\nb: 2\n", "f:2:1", "second document"),
        ("a: *missing\n", "f:1:4", "anchor"),
        ("? [1]\n: 2\n", "f:1:", "must be one word"),
        ("a: !!python/object:os.system x\n", "f:1:4", "tag"),
        ("[" * 40 + "]" * 40, "f:1:33", "nested deeper"),
    ],
)
def test_yaml_mistakes_have_a_place(text: str, where: str, words: str) -> None:
    with pytest.raises(DesignError) as error:
        read_values(text, "f")
    (problem,) = error.value.problems
    assert problem.where.startswith(where)
    assert words in problem.what


def test_an_alias_bomb_is_refused() -> None:
    levels = "\n".join(f"l{n}: &l{n} [{', '.join([f'*l{n - 1}'] * 10)}]" for n in range(1, 12))
    with pytest.raises(DesignError, match="more than"):
        read_values(f"l0: &l0 [x]\n{levels}\n", "f")


@given(st.text(max_size=200) | st.binary(max_size=200).map(lambda b: b.decode("latin-1")))
def test_any_text_raises_only_design_errors(text: str) -> None:
    for prefix in ("", DESIGN):
        try:
            load_design(prefix + text, "f")
        except DesignError as error:
            assert all(p.what and p.fix for p in error.problems)


@given(st.integers(0, len(DESIGN) - 1), st.text(max_size=8), st.integers(0, 12))
def test_damaged_designs_raise_only_design_errors(at: int, insert: str, cut: int) -> None:
    try:
        load_design(DESIGN[:at] + insert + DESIGN[at + cut :], "f")
    except DesignError as error:
        assert all(p.where.startswith("f") for p in error.problems)


MISTAKES = [
    (("name: test", "name: Test Site"), "name: T", "is not a name"),
    (
        ("networks: {desks: 10.20.0.0/22", "networks: {desks: 10.20.0.1/22"),
        "desks: 10",
        "beyond its",
    ),
    (("networks: {desks", "netwroks: {desks"), "netwroks", "Did you mean 'networks'"),
    (("address: 192.0.2.10", "address: 192.0.2"), "address: 192.0.2,", "four numbers"),
    (("address: 192.0.2.10", "adress: 192.0.2.10"), "adress", "Did you mean 'address'"),
    (("hold-time: 6 s", "hold-time: 6"), "hold-time", "has no unit"),
    (("hold-time: 6 s", "hold-time: 2 s"), "hold-time", "at least 3 s"),
    (("hold-time: 6 s", "hold-time: 6 weeks"), "hold-time", "not a time"),
    (("site: quay\n", "site: quai\n"), "site: quai", "Did you mean 'quay'"),
    (("cloud: apps", "cloud: app"), "cloud: app\n", "Did you mean 'apps'"),
    (("networks: [desks]", "networks: [desk]"), "desk]", "Did you mean 'desks'"),
    (("uplink: radio", "uplink: radius"), "uplink: radius", "Did you mean 'radio'"),
    (
        ("gateway: quay-gw, uplink: fibre", "gateway: gw, uplink: fibre"),
        "gateway: gw",
        "no gateway",
    ),
    (("uplink: radio, instance: 2", "uplink: fibre, instance: 1"), "b: {gateway", "same two ends"),
    (("flow: icmp", "flow: icpm"), "flow: icpm", "is not a flow"),
    (("flow: icmp", "flow: tcp/70000"), "flow: tcp/70000", "exceed 65535"),
    (("must: not", "must: nt"), "must: nt", "'work' or 'not'"),
    (("from: quay/guests", "from: quay/guest"), "from: quay/guest,", "Did you mean 'quay/guests'"),
    (("subnets: {web: {hosts: 100}}", "subnets: {web: {hosts: 0}}"), "hosts: 0", "Use at least 1"),
    (
        ("    cloud: apps\n", "    cloud: apps\n    suite: strong\n"),
        "suite: strong",
        "no suite 'strong'",
    ),
    (("obrin: 1", "obrin: 2"), "obrin: 2", "Write 1"),
    (("subnets: {web: {hosts: 100}}", "subnets:"), "subnets:", "is blank"),
    (("  apps:\n", "  quay:\n"), "quay:", "a site and a cloud"),
]


# (what is changed, where the message must point, what it must say)
@pytest.mark.parametrize(("change", "place", "words"), MISTAKES, ids=lambda v: str(v)[:40])
def test_every_mistake_has_place_cause_and_cure(change, place: str, words: str) -> None:
    text = swap(change)
    before = text[: text.index(place)]
    where = f"d.yaml:{before.count(chr(10)) + 1}:{len(before) - before.rfind(chr(10))}"
    with pytest.raises(DesignError) as error:
        load_design(text, "d.yaml")
    assert words in str(error.value)
    assert where in {p.where for p in error.value.problems}


def test_several_mistakes_are_reported_in_one_run() -> None:
    text = swap(
        ("hold-time: 6 s", "hold-time: 6"), ("name: test", "name: T"), ("flow: icmp", "flow: x")
    )
    with pytest.raises(DesignError) as error:
        load_design(text, "d")
    assert len(error.value.problems) == 3


def test_mistakes_of_every_kind_are_reported_together_and_none_twice() -> None:
    """A key twice, a bad value, a name that means nothing; and no echo of what was left out."""
    text = swap(
        ("hold-time: 6 s", "hold-time: 6"),
        ("uplink: radio", "uplink: radius"),
        ("name: test", "name: test\nname: b"),
        ("guests: 10.20.8.0/24", "guests: 10.20.8.1/24"),
    )
    with pytest.raises(DesignError) as error:
        load_design(text, "d")
    texts = [p.what for p in error.value.problems]
    assert len(texts) == 4, texts
    for words in (
        "'name' stands twice",
        "has no unit",
        "no uplink of quay-gw 'radius'",
        "beyond its",
    ):
        assert any(words in text for text in texts)


@pytest.mark.parametrize("text", ["", "# only a comment\n", "just text", "- 1\n- 2\n", "null"])
def test_files_that_are_no_design(text: str) -> None:
    with pytest.raises(DesignError, match="obrin new"):
        load_design(text, "d")


def test_locations_follow_anchors_lists_and_missing_steps() -> None:
    locator = Locator("a:\n  - x: 1\n  - y:\n      z: 2\n", "f")
    assert locator.where(("a", 1, "y", "z")) == "f:4:7"
    assert locator.where(("a", 1, "missing")) == "f:3:5"
    assert locator.where(("nothing",)) == "f:1:1"
    assert locator.where(("a", 9)) == "f:1:1"


@pytest.mark.parametrize(
    ("text", "seconds"),
    [("6 s", 6), ("1.5 h", 5400), ("60min", 3600), ("250 ms", 0.25), ("1 d", 86400)],
)
def test_durations(text: str, seconds: float) -> None:
    assert parse_duration(text) == seconds


@pytest.mark.parametrize("text", ["any", "icmp", "tcp/443", "udp/5000-5010", "tcp/0-65535"])
def test_flows_come_back(text: str) -> None:
    assert str(parse_flow(text)) == text
    assert parse_flow(parse_flow(text)) == parse_flow(text)


def test_flow_values() -> None:
    assert parse_flow("udp/5000-5010") == Flow(17, 5000, 5010)


def test_settled_file_comes_back_and_damage_is_named() -> None:
    choices = {
        "a.b": Choice("10.0.0.0/8", 'why: "quoted"\nnew line'),
        "c": Choice(64512, ""),
        "d": Choice(["x", "y"], "z"),
    }
    assert parse_choices(format_choices(choices), "s") == choices
    assert parse_choices(format_choices({}), "s") == {}
    for text in (
        "settled: 2\n",
        "",
        "settled: 1\nvalues:\n  a: 5\n",
        "settled: 1\nvalues: {a: {value: true}}",
    ):
        with pytest.raises(DesignError, match="version control"):
            parse_choices(text, "s")


def test_the_schema_accepts_the_design_and_refuses_unknown_keys() -> None:
    import jsonschema

    validator = jsonschema.Draft202012Validator(design_schema())
    validator.validate(read_values(DESIGN, "f"))
    broken = read_values(swap(("hold-time: 6 s", "hld: 6 s")), "f")
    assert not validator.is_valid(broken)


def test_the_reference_names_every_key_of_the_schema() -> None:
    text = reference_text()
    for entity in design_schema()["$defs"].values():
        for key in entity.get("properties", {}):
            assert f"| `{key}` |" in text


@pytest.mark.parametrize("uplinks", [1, 2, 3])
def test_a_starting_design_is_a_good_design(uplinks: int) -> None:
    facts = StartingFacts(
        name="clinic",
        site="ward",
        networks=(("beds", "10.30.0.0/22"),),
        uplinks=tuple((f"line{n}", f"192.0.2.{n + 1}") for n in range(uplinks)),
        cloud="records",
        hosts=50,
    )
    design = design_of(starting_design(facts))
    assert len(design.links["ward-records"].tunnels) == max(uplinks, 2)


@pytest.mark.parametrize(
    ("life", "words"),
    [("28800.9 s", "write '28801 s'"), ("0.5 min", ""), ("100.0004 s", "finer than a millisecond")],
)
def test_lifetimes_are_whole_seconds_and_say_so(life: str, words: str) -> None:
    suite = (
        "suites:\n  mine:\n    ike: {encryption: AES-GCM-16-256, prf: PRF-HMAC-SHA2-256, "
        f"group: CURVE25519, lifetime: {life}}}\n    esp: {{encryption: AES-GCM-16-256}}\n"
    )
    text = DESIGN.replace("name: test\n", "name: test\n" + suite)
    if not words:
        load_design(text, "x.yaml")
        return
    with pytest.raises(DesignError, match="(?i)" + words):
        load_design(text, "x.yaml")


@pytest.mark.parametrize(
    ("place", "text", "message"),
    [
        (
            "    bgp: {hold-time: 6 s}\n",
            "    bfd: 5\n",
            "20:5: 'bfd' is 5. It must be a mapping of keys",
        ),
        (
            "    bgp: {hold-time: 6 s}\n",
            "    bfd: {interval: 10 ms}\n",
            "20:11: 'interval' is 0.01. Use",
        ),
        ("    bgp: {hold-time: 6 s}\n", "    bfd: {intervall: 1 s}\n", "Did you mean 'interval'?"),
        (
            "  quay:\n",
            "    internet: true\n",
            "'internet' is true. It must be a mapping of keys, or",
        ),
        (
            "  quay:\n",
            "    internet: {networks: []}\n",
            "5:16: 'networks' is empty. Give at least 1",
        ),
    ],
)
def test_what_may_be_one_of_two_things_has_one_message(place, text, message) -> None:
    with pytest.raises(DesignError) as raised:
        load_design(swap((place, place + text)), "test.yaml")
    assert len(raised.value.problems) == 1
    assert message in str(raised.value)
    assert "literal" not in str(raised.value)
