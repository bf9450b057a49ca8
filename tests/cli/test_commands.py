"""Every command that needs no practice world, driven as the built program on files."""

from __future__ import annotations

import json
import stat
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from importlib import metadata

import pytest

import obrin
from obrin.cli.main import COMMANDS, STAGES
from tests.cli.program import Folder
from tests.doubles import DESIGN, swap


@pytest.fixture
def folder(tmp_path) -> Folder:
    made = Folder(tmp_path)
    made.write("design.yaml", DESIGN)
    return made


def test_help_lists_every_command_by_stage_and_each_has_an_example(folder: Folder) -> None:
    text = folder.obrin("--help").good().out
    for stage in STAGES:
        assert f"{stage}:" in text
    with ThreadPoolExecutor(3) as pool:
        pages = list(pool.map(lambda name: folder.obrin(name, "--help"), COMMANDS))
    for name, page in zip(COMMANDS, pages, strict=True):
        assert f"  {name}" in text
        shown = page.good().out
        assert "Usage" in shown
        assert "Example" in shown or "Commands:" in shown, name
    assert obrin.__version__ in folder.obrin("--version").good().out


def test_settle_fills_writes_and_is_stable(folder: Folder) -> None:
    first = folder.obrin("settle").good()
    assert "the cheapest that fits" in first.out
    settled = (folder.path / "design.settled.yaml").read_bytes()
    again = folder.obrin("settle", "--json").good().json
    assert not any(v["new"] for v in again["values"].values())
    assert again["secrets_made"] == []
    assert (folder.path / "design.settled.yaml").read_bytes() == settled
    keys = folder.path / ".obrin" / "keys-design.json"
    assert stat.S_IMODE(keys.stat().st_mode) == 0o600


def test_dry_run_writes_nothing(folder: Folder) -> None:
    folder.obrin("settle", "--dry-run").good()
    folder.obrin("check").good()
    assert set(folder.files()) == {"design.yaml"}


def test_check_exits_by_the_worst_and_points_into_the_file(folder: Folder) -> None:
    folder.obrin("settle").good()
    assert "one-gateway" in folder.obrin("check").good().out
    folder.write("bad.yaml", swap(("radio, instance: 2", "radio, instance: 1")))
    run = folder.obrin("check", "--design", "bad.yaml").bad(1, "shared-instance", "bad.yaml:20:5")
    assert "end one of them at the other instance" in run.out
    found = folder.obrin("check", "--design", "bad.yaml", "--json").bad(1).json
    assert {"severity", "code", "where", "place", "cause", "consequence", "accepted", "fix"} == set(
        found[0]
    )
    assert "bad.settled.yaml" not in folder.files()


def test_handover_writes_packs_and_keeps_secrets_apart(folder: Folder) -> None:
    folder.obrin("handover").bad(1, "still blank", "obrin settle")
    assert not (folder.path / "packs").exists()
    folder.obrin("settle").good()
    folder.obrin("handover").good()
    secrets = [folder.obrin("keys", "show", f"quay-apps/{t}").good().out.strip() for t in "ab"]
    assert len(secrets[0]) == 48
    assert secrets[0] != secrets[1]
    for name, data in folder.files().items():
        holds = [s for s in secrets if s.encode() in data]
        allowed = name.endswith("/keys.json") or name.startswith(".obrin/keys-")
        assert allowed or not holds, name
    for gateway in ("quay-gw", "apps"):
        mode = (folder.path / "packs" / "design" / gateway / "keys.json").stat().st_mode
        assert stat.S_IMODE(mode) == 0o600


def test_one_key_in_two_designs_is_found_in_either(folder: Folder) -> None:
    other = DESIGN.replace("quay-apps", "quay-stock")
    folder.write("other.yaml", other)
    folder.write("again.yaml", DESIGN)
    for name in ("design.yaml", "other.yaml", "again.yaml"):
        folder.obrin("settle", "--design", name).good()
    key = folder.obrin("keys", "show", "quay-stock/a", "--design", "other.yaml").good().out
    run = folder.obrin("keys", "set", "quay-apps/a", given=key).good()
    assert "quay-apps/a and quay-stock/a of design other have the same" in run.err
    assert key.strip() not in run.err + run.out
    folder.obrin("check").bad(1, "key-shared", "quay-stock/a of design other")
    # A second version of one design may keep its keys.
    key = folder.obrin("keys", "show", "quay-apps/b").good().out
    folder.obrin("keys", "set", "quay-apps/b", "--design", "again.yaml", given=key).good()
    found = folder.obrin("check", "--json").json
    assert [f["place"] for f in found if f["code"] == "key-shared"] == ["links.quay-apps.tunnels.a"]


def test_a_template_that_was_not_filled_in_is_named_by_its_line(folder: Folder) -> None:
    folder.obrin("settle").good()
    text = "name {{ gateway }}\nadmin <insert name here>\n<tag>CHANGEME</tag>\n"
    folder.write("one.j2", text)
    run = folder.obrin("handover", "--template", "one.j2").good()
    assert "one.j2:2:7: '<insert name here>' is a placeholder" in run.err
    assert "one.j2:3:6: 'CHANGEME' is a placeholder" in run.err
    assert run.err.count("placeholder") == 2


def test_a_password_of_each_session_is_made_kept_and_never_told(folder: Folder) -> None:
    text = (folder.path / "design.yaml").read_text()
    folder.write("design.yaml", text.replace("hold-time: 6 s", "hold-time: 6 s, password: true"))
    assert "BGP password of quay-apps/b" in folder.obrin("settle").good().out
    listed = json.loads(folder.obrin("keys", "list", "--json").good().out)
    labels = [entry["tunnel"] for entry in listed]
    assert labels == ["quay-apps/a", "quay-apps/b", "quay-apps/a:bgp", "quay-apps/b:bgp"]
    run = folder.obrin("handover").good()
    told = run.out + run.err
    shown = {label: folder.obrin("keys", "show", label).good().out.strip() for label in labels}
    assert len(set(shown.values())) == 4
    for gateway in ("quay-gw", "apps"):
        pack = folder.path / "packs" / "design" / gateway
        keys = json.loads((pack / "keys.json").read_text())["obrin-keys:keys"]
        assert {(e["neighbor"], e["secret"]) for e in keys["session-password"]} == {
            (label.removesuffix(":bgp"), shown[label]) for label in labels[2:]
        }
        told += "".join(p.read_text() for p in pack.iterdir() if p.name != "keys.json")
        sheet = (pack / "sheet.md").read_text()
        assert sheet.count("TCP-MD5 (RFC 2385), password in `keys.json`") == 2
    assert not any(secret in told for secret in shown.values())
    assert "(sheet, 4), and its password of keys.json" in told
    folder.write(
        "t.j2",
        "{% for t in tunnels %}{{ t.session_signature }} {{ t.sessions[0].password }};{% endfor %}",
    )
    written = "handover", "--template", "t.j2", "--gateway", "quay-gw"
    folder.obrin(*written).bad(2)
    revealed = folder.obrin(*written, "--reveal-keys").good()
    assert all(f"tcp-md5 {shown[label]};" in revealed.out for label in labels[2:])
    folder.obrin("keys", "set", "quay-apps/a:bgp", given="short\n").good()
    folder.obrin("check").bad(1, "key-weak", "the BGP password of quay-apps/a is weak")
    folder.obrin("keys", "set", "quay-apps/a:bgp", given="x" * 81 + "\n").bad(2, "80")
    same = folder.obrin("keys", "compare", "quay-apps/b:bgp", given=shown[labels[1]] + "\n")
    same.bad(1, "Not the BGP password of quay-apps/b", "it is the key of quay-apps/b")
    folder.obrin("keys", "renew", "quay-apps/a:bgp").good()
    folder.obrin("check").good()


def test_keys_list_set_renew_show(folder: Folder) -> None:
    folder.obrin("settle").good()
    assert "good" in folder.obrin("keys", "list").good().out
    run = folder.obrin("keys", "set", "quay-apps/a", given="Summer2026\n").good()
    assert "warning" in run.err
    assert "Summer2026" not in run.out + run.err
    folder.obrin("check").bad(1, "key-weak")
    assert folder.obrin("keys", "show", "quay-apps/a").good().out == "Summer2026\n"
    folder.obrin("keys", "renew", "quay-apps/a").good()
    folder.obrin("check").good()
    folder.obrin("keys", "set", "quay-apps/a", given="\n").bad(2, "1 to 128 printable")
    folder.obrin("keys", "show", "nowhere/x").bad(2, "no key or password is called 'nowhere/x'")


def test_a_key_file_that_others_can_read_is_refused(folder: Folder) -> None:
    folder.obrin("settle").good()
    path = folder.path / ".obrin" / "keys-design.json"
    path.chmod(0o644)
    folder.obrin("keys", "list").bad(2, "can be read by others")
    path.chmod(0o600)
    path.write_text("{broken")
    folder.obrin("keys", "list").bad(2, "is damaged")


def test_new_writes_a_design_that_settles_and_checks(tmp_path) -> None:
    folder = Folder(tmp_path)
    arguments = [
        "new",
        "clinic",
        "--site",
        "ward",
        "--network",
        "beds=10.30.0.0/22",
        "--uplink",
        "cable=192.0.2.20",
        "--uplink",
        "mobile=198.51.100.30",
        "--cloud",
        "records",
    ]
    folder.obrin(*arguments).good()
    folder.obrin("settle").good()
    folder.obrin("check").good()
    folder.obrin(*arguments).bad(2, "design.yaml exists")
    folder.obrin(*arguments, "--force").good()
    folder.obrin(*arguments[:-1], "Not A Name", "--to", "x.yaml").bad(2, "is not a name")
    assert "x.yaml" not in folder.files()
    answers = "\n".join(["net", "home", "10.40.0.0/24", "192.0.2.40", "store", ""])
    folder.obrin("new", "--to", "asked.yaml", given=answers).good()
    assert "home-store" in (folder.path / "asked.yaml").read_text()


def test_schema_and_reference(folder: Folder) -> None:
    assert folder.obrin("schema").good().json["title"] == "Design"
    assert "| `tunnels` |" in folder.obrin("schema", "--reference").good().out


BAD_INPUT = [
    (("check", "--design", "none.yaml"), 2, "there is no such file"),
    (("check", "--design", "empty.yaml"), 2, "the file is empty"),
    (("check", "--design", "binary.yaml"), 2, "not UTF-8 text (byte 0)"),
    (("check", "--design", "syntax.yaml"), 2, "syntax.yaml:2:1"),
    (("settle", "--design", "syntax.yaml"), 2, "syntax.yaml:2:1"),
    (("settle", "--design", "full.yaml"), 1, "no free /"),
    (("handover", "--design", "none.yaml"), 2, "there is no such file"),
    (("connect",), 2, "no practice world runs here"),
    (("status",), 2, "no practice world runs here"),
    (("probe", "--json"), 2, "no practice world runs here"),
    (("practice", "status"), 2, "no practice world runs here"),
    (("practice", "heal"), 2, "no practice world runs here"),
    (("practice", "cut", "tunnel", "x"), 2, "no practice world runs here"),
    (("practice", "cut", "boat", "x"), 2, "boat"),
    (("practice", "start", "--capture", "no/such/folder/x.pcap"), 2, "does not exist"),
    (("practice", "start", "--speed", "0"), 2, "0"),
    (("reshape", "--from", "none.yaml"), 2, "there is no such file. Check the path"),
    (("routes", "--against", "none.yaml"), 2, "there is no such file. Check the path"),
    (("nonsense",), 2, "nonsense"),
    (("check", "--nonsense"), 2, "--nonsense"),
    (("new", "x", "--network", "10.0.0.0/8"), 2, "NAME=PREFIX"),
    (("new", "x", "--to", "y.yaml"), 2, "nobody answers, so give --site"),
    (("demo", "--folder", "."), 2, "is there already"),
]


def test_bad_input_gets_one_clear_message(folder: Folder) -> None:
    folder.obrin("settle").good()
    folder.write("empty.yaml", "")
    folder.write("syntax.yaml", "a: [1, 2\n")
    folder.write(
        "full.yaml",
        swap(
            (
                "obrin: 1",
                "obrin: 1\nelsewhere: {a: 10.0.0.0/8, b: 172.16.0.0/12, c: 192.168.0.0/16}",
            )
        ),
    )
    (folder.path / "binary.yaml").write_bytes(b"\xff\xfe\x00")
    folder.all_bad(BAD_INPUT)


def test_a_damaged_settled_file_is_named_and_kept(folder: Folder) -> None:
    path = folder.write("design.settled.yaml", "settled: 7\n")
    folder.obrin("settle").bad(2, "design.settled.yaml", "not a settled file")
    assert path.read_text() == "settled: 7\n"


@pytest.mark.parametrize(
    ("words", "offered"),
    [
        ("obrin pr", ["profiles", "practice", "probe"]),
        ("obrin keys show ", ["quay-apps/a", "quay-apps/b"]),
        ("obrin practice cut tunnel quay-apps/b", ["quay-apps/b"]),
        ("obrin practice cut uplink ", ["quay-gw/fibre", "quay-gw/radio"]),
        ("obrin practice fault large ", ["quay-gw/fibre", "quay-gw/radio"]),
        ("obrin practice fault b", ["block", "behind"]),
        ("obrin practice fault restart ", ["quay-gw"]),
        ("obrin practice fault throttle ", ["cloud"]),
        ("obrin keys show --design none.yaml ", []),
    ],
)
def test_the_shell_completes_commands_and_names_of_the_design(folder, words, offered) -> None:
    count = len(words.split()) - (0 if words.endswith(" ") else 1)
    run = folder.obrin(_OBRIN_COMPLETE="bash_complete", COMP_WORDS=words, COMP_CWORD=str(count))
    assert [line.partition(",")[2] for line in run.out.splitlines() if line] == offered


def test_who_only_names_commands_waits_for_none_of_them(folder: Folder) -> None:
    code = (
        "import sys, click\nfrom obrin.cli.main import COMMANDS, obrin\n"
        "found = obrin.shell_complete(click.Context(obrin), '')\n"
        "assert [item.value for item in found] == list(COMMANDS)\n"
        "assert all(item.help for item in found)\n"
        "print([name for name in sys.modules if name.startswith(('obrin.live', 'pydantic'))])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout == "[]\n"
    assert folder.obrin("--version").out == f"obrin, version {metadata.version('obrin')}\n"


def test_several_mistakes_are_all_told(folder: Folder) -> None:
    folder.write(
        "design.yaml", swap(("hold-time: 6 s", "hold-time: 6"), ("flow: icmp", "flow: pong"))
    )
    run = folder.obrin("check").bad(2, "2 mistakes.")
    assert run.err.count("design.yaml:") == 2


def test_output_without_colour_or_terminal_is_plain(folder: Folder) -> None:
    for env in ({}, {"NO_COLOR": "1"}, {"COLUMNS": "60"}):
        assert "\x1b" not in folder.obrin("settle", **env).good().out


@pytest.mark.parametrize("count", [200, pytest.param(2000, marks=pytest.mark.long)])
def test_many_sites_load_and_check_in_seconds(tmp_path, count: int) -> None:
    from benchmarks.designs import many_sites

    folder = Folder(tmp_path)
    folder.write("design.yaml", many_sites(count))
    folder.obrin("settle", "--json", timeout=60).good()
    found = json.loads(folder.obrin("check", "--json", timeout=60).out)
    assert sum(f["code"] == "one-gateway" for f in found) == count


def test_an_answer_is_judged_where_it_is_given_and_asked_again(folder: Folder) -> None:
    """Wrong answers, each told why; the right ones go into the design."""
    answers = "\n".join(
        [
            "two words",
            "clinic-net",
            "a: b",
            "clinic",
            "10.30.0.1/22",
            "ten",
            "10.30.0.0/22",
            "192.0.2.300",
            "null",
            "192.0.2.20",
            "x/y",
            "records",
        ]
    )
    run = folder.obrin("new", "--to", "asked.yaml", given=answers + "\n").good()
    assert run.err.count("will not do") == 7
    assert "asked.yaml:" not in run.err
    assert "10.30.0.0/22" in run.err
    text = (folder.path / "asked.yaml").read_text()
    for word in ("clinic-net", "clinic:", "10.30.0.0/22", "192.0.2.20", "records"):
        assert word in text
    folder.obrin("check", "--design", "asked.yaml").good()


BAD_FACTS = [
    (("--site", "a b"), "--site"),
    (("--site", "1"), "--site"),
    (("--cloud", "x: {y"), "--cloud"),
    (("--network", "lan=10.0.0.0/33"), "--network"),
    (("--network", "lan=10.0.0.1/8"), "10.0.0.0/8"),
    (("--network", "a#b=10.0.0.0/8"), "--network"),
    (("--uplink", "x=999.1.1.1"), "--uplink"),
    (("--network", "a=10.0.0.0/8", "--network", "a=10.1.0.0/16"), "--network"),
    (("--uplink", "x=192.0.2.1\n"), "--uplink"),
    (("--site", "\x1b[31m"), "\\x1b"),
]


def test_a_fact_given_by_option_is_judged_before_anything_is_asked(folder: Folder) -> None:
    for options, words in BAD_FACTS:
        run = folder.obrin("new", "n", *options, "--to", "never.yaml", given="")
        run.bad(2, "will not do", words)
        assert "never.yaml:" not in run.err
        assert "nobody answers" not in run.err or options[0] != "--site"
        assert not (folder.path / "never.yaml").exists()


def test_a_key_as_it_was_entered_is_held_against_the_right_one(folder: Folder) -> None:
    folder.obrin("settle").good()
    key = folder.obrin("keys", "show", "quay-apps/a").good().out.strip()
    run = folder.obrin("keys", "compare", "quay-apps/a", given=f"{key} \n").bad(
        1, "blanks around it"
    )
    assert key not in run.out + run.err
    wrong = run.out.strip().rsplit(" ", 1)[1]
    run = folder.obrin("keys", "compare", "quay-apps/a", given=f"{key}\n").good()
    right = run.out.strip().rsplit(" ", 1)[1]
    assert "It is the key" in run.out
    assert wrong != right
    other = folder.obrin("keys", "show", "quay-apps/b").good().out
    folder.obrin("keys", "compare", "quay-apps/a", given=other).bad(
        1, "it is the key of quay-apps/b"
    )
    text = "    tunnels:\n"
    for entered, code in ((right, 0), (wrong, 1)):
        said = f"    entered: {{cloud: {{keys: {{a: {entered}}}}}}}\n"
        folder.write("design.yaml", DESIGN.replace(text, said + text))
        assert folder.obrin("agree").code == code
        assert folder.obrin("check").code == code
    folder.obrin("agree", "quay-apps").bad(
        1, "Entered: key", "AUTHENTICATION_FAILED", "what the sheets"
    )


def test_packs_can_be_made_without_writing_and_told_to_programs(folder: Folder) -> None:
    folder.obrin("settle").good()
    dry = folder.obrin("handover", "--dry-run").good().out
    assert "2 packs can be made: quay-gw, apps. Nothing was written" in dry
    told = folder.obrin("handover", "--dry-run", "--json").good().json
    assert [(g["gateway"], g["kind"]) for g in told] == [
        ("quay-gw", "site gateway"),
        ("apps", "cloud gateway"),
    ]
    assert not (folder.path / "packs").exists()
    written = folder.obrin("handover", "--json").good().json
    assert all((folder.path / path).exists() for g in written for path in g["files"])
    assert [len(g["files"]) for g in written] == [9, 7], (
        "a site's has the sheet for the people around"
    )
    keys = folder.obrin("keys", "list", "--json").good().json
    assert [(k["tunnel"], k["characters"], k["weak"]) for k in keys] == [
        ("quay-apps/a", 48, []),
        ("quay-apps/b", 48, []),
    ]
    (folder.path / ".obrin" / "keys-design.json").unlink()
    assert [k["bits"] for k in folder.obrin("keys", "list", "--json").good().json] == [None, None]
    folder.write("t.j2", "x")
    one = ("handover", "--template", "t.j2", "--gateway", "apps")
    folder.obrin(*one, "--json").bad(2, "--gateway goes to standard output")
    folder.obrin("handover", "--dry-run").bad(1, "not there yet: key of quay-apps/a")


def test_files_of_before_are_rewritten_in_place(folder: Folder) -> None:
    before = f"# kept: hold\n{DESIGN.replace('hold-time:', 'hold:')}"
    path = folder.write("old.yaml", before)
    path.chmod(0o640)
    folder.obrin("check", "--design", "old.yaml").bad(2, "called 'hold-time' now", "obrin migrate")
    assert "old.yaml" in folder.obrin("migrate", "old.yaml", "--dry-run").good().out
    assert path.read_text() == before
    folder.write("broken.yaml", "links: {a: {bgp: {hold: 1 s, hold-time: 1 s}}}")
    folder.obrin("migrate", "old.yaml", "broken.yaml").bad(2, "broken.yaml:1:19", "both")
    assert path.read_text() == before
    made = folder.obrin("migrate", "old.yaml", "--json").good().json
    assert (made["done"], made["files"]) == (True, ["old.yaml"])
    assert path.read_text() == f"# kept: hold\n{DESIGN}"
    assert path.stat().st_mode & 0o777 == 0o640
    assert "left as it is" in folder.obrin("migrate", "old.yaml").good().out
