"""Odd corners: each ends in a line or two and an exit code, never in a traceback."""

from __future__ import annotations

import contextlib
import json
import os
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

import click
import pytest

from obrin.cli import main
from obrin.core.text import MOST, clean
from tests.cli.program import PROGRAM, Folder, too_early
from tests.doubles import DESIGN, swap

KEY = "S3cr3t-of-the-tunnel-0123456789"


@pytest.fixture
def folder(tmp_path) -> Folder:
    made = Folder(tmp_path)
    made.write("design.yaml", DESIGN)
    made.obrin("settle").good()
    return made


def short(run, *codes: int) -> None:
    """An exit code of ours, and a few readable lines."""
    assert run.code in codes, (run.code, run.err)
    assert "Traceback" not in run.err
    assert run.err.strip()
    assert len(run.err.splitlines()) <= 6, run.err
    assert all(len(line) <= MOST + 100 for line in run.err.splitlines())
    assert not re.search(r"[\x00-\x08\x0b-\x1f\x7f\u202e]", run.err)


def leaves(group: click.Group, words: tuple[str, ...] = ()):
    context = click.Context(group)
    for name in group.list_commands(context):
        command = group.get_command(context, name)
        if isinstance(command, click.Group):
            yield from leaves(command, (*words, name))
        else:
            yield (*words, name), command


@pytest.mark.parametrize(
    "error", [RuntimeError, KeyError, RecursionError, MemoryError, AssertionError]
)
def test_whatever_escapes_any_command_is_one_line_and_a_report(error, monkeypatch, capsys) -> None:
    """Every command is made to raise with a secret in its hands; the report does not have it."""
    for words, command in leaves(main.obrin):

        def boom(**_given: object) -> None:
            key = KEY
            raise error(f"with {key}")

        monkeypatch.setattr(command, "callback", boom)
        monkeypatch.setattr(command, "params", [])
        monkeypatch.setattr(sys, "argv", ["obrin", *words])
        monkeypatch.setattr(main, "_abandon", lambda *_streams: None)
        monkeypatch.setattr(main, "_prepare_streams", lambda: None)
        assert main.run() == 70, words
        said = capsys.readouterr()
        (line,) = said.err.splitlines()
        path = re.search(r"is in (\S+);", line)[1]
        report = Path(path).read_text()
        os.unlink(path)
        assert KEY not in line + report
        assert error.__name__ in line
        assert "in boom" in report
        assert f"'obrin {' '.join(words)}'" in report


def test_no_option_takes_what_is_no_number() -> None:
    found = 0
    for _, command in leaves(main.obrin):
        for option in command.params:
            if not isinstance(option.type, click.types.FloatParamType | click.types.IntParamType):
                continue
            found += 1
            for text in ("nan", "inf", "-1"):
                with pytest.raises(click.BadParameter, match=r"number|range|integer"):
                    option.type_cast_value(click.Context(command), text)
    assert found >= 10


def test_an_interrupt_while_it_loads_ends_with_130() -> None:
    """Sent at many moments of the start; whoever is too early meets Python itself, not us."""
    for wait in (0.15, 0.3, 0.5):
        process = subprocess.Popen(
            [PROGRAM, "check", "--help"], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
        )
        time.sleep(wait)
        process.send_signal(signal.SIGINT)
        _, words = process.communicate(timeout=20)
        assert too_early(words) or process.returncode in (0, 130, -signal.SIGINT), words
        if process.returncode == 130:
            assert words.strip() == "interrupted"
    code = (
        "import sys; sys.argv=['obrin','check']; import obrin.cli.entry as e, obrin.cli.main as m\n"
        "def run(): raise KeyboardInterrupt\nm.run=run\ne.run()"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert (done.returncode, done.stderr) == (130, "interrupted\n")


@contextlib.contextmanager
def something_else(path):
    os.mkfifo(path)
    yield
    os.unlink(path)


def test_designs_that_are_no_ordinary_files(folder) -> None:
    with something_else(folder.path / "pipe.yaml"):
        for command in ("check", "settle", "handover", "space"):
            short(folder.obrin(command, "--design", "pipe.yaml", timeout=20), 2)
        short(folder.obrin("gather", "pipe.yaml"), 2)
        short(folder.obrin("routes", "quay-gw", "--seen", "pipe.yaml"), 2)
        short(folder.obrin("certificates", "check", "pipe.yaml"), 2)
    for given in (
        "/dev/zero",
        "/dev/null",
        "/proc/self/mem",
        "x" * 5000,
        "a/" * 2500,
        "de\nsign",
        "\x1b[31mred",
        "/",
        "design.yaml/x",
    ):
        short(folder.obrin("check", "--design", given, timeout=20), 2, 3)
    done = folder.obrin("check", "--design", "../" * 3000 + "design.yaml")
    short(done, 2, 3)


TEXTS = {
    "NUL in the offering": swap(("name: test", 'name: test\noffering: "a\\0b"')),
    "escape in a name": swap(("quay-apps:", '"quay\\e[31m":')),
    "right to left": swap(("provider: one", 'provider: "\\u202eone"')),
    "a number of 5000 digits": swap(("hosts: 100", f"hosts: {'9' * 5000}")),
    "ports of 5000 digits": swap(("flow: tcp/443", f"flow: tcp/{'9' * 5000}")),
    "a time of 5000 digits": swap(("hold-time: 6 s", f"hold-time: {'9' * 5000} s")),
    "an address of 5000 digits": swap(("192.0.2.10", f"192.0.2.0{'1' * 5000}")),
    "an AS of 5000 digits": swap(("quay-gw:\n", f"quay-gw:\n        as: {'9' * 5000}\n")),
    "a group of 5000 digits": swap(
        ("routing: bgp", "routing: bgp"),
        (
            "    bgp: {hold-time: 6 s}",
            f"    bgp: {{hold-time: 6 s}}\n    suite: {{encryption: AES-GCM-16-256, prf: PRF-HMAC-SHA2-256, group: '{'9' * 5000}'}}",
        ),
    )
    if "routing: bgp" in DESIGN
    else swap(
        (
            "    bgp: {hold-time: 6 s}",
            f"    bgp: {{hold-time: 6 s}}\n    suite: {{encryption: AES-GCM-16-256, prf: PRF-HMAC-SHA2-256, group: '{'9' * 5000}'}}",
        )
    ),
    "growth without end": swap(("hosts: 100", f"hosts: 100, growth: {'9' * 500} %")),
    "a rate without end": swap(("provider: one", f"provider: one, rate: {'9' * 400} Mbit/s")),
    "a name of a megabyte": swap(("name: test", f"name: {'x' * 1_000_000}")),
}


@pytest.mark.parametrize("what", TEXTS)
def test_texts_that_nobody_would_write(folder, what: str) -> None:
    folder.write("design.yaml", TEXTS[what])
    for command in ("check", "settle"):
        run = folder.obrin(command)
        if run.code == 0:
            assert not re.search(r"[\x1b\x00\u202e]", run.out)
        else:
            short(run, 1, 2)


@pytest.mark.parametrize("today", ["9999-12-31", "9999-01-01", "0001-01-01", "2026-02-30", "x"])
def test_days_at_the_ends_of_the_calendar(folder, today: str) -> None:
    far = swap(
        ("must: work}\n", "must: work, until: 9999-12-31}\n")
        if False
        else ("flow: icmp, must: work}", "flow: icmp, must: work, until: 9999-12-31}"),
        ("name: test", "name: test\npolicy: {key-life: 36000 d}"),
    )
    folder.write("design.yaml", far)
    for command in (
        ("check",),
        ("calendar",),
        ("calendar", "--to", "x.ics"),
        ("settle",),
        ("handover",),
    ):
        run = folder.obrin(*command, OBRIN_TODAY=today)
        assert run.code in (0, 1, 2), run.err
        assert "Obrin's own" not in run.err, run.err


def test_certificates_at_the_ends_of_the_calendar(folder) -> None:
    folder.write(
        "design.yaml",
        swap(
            (
                "    bgp: {hold-time: 6 s}",
                "    bgp: {hold-time: 6 s}\n    authentication: certificate",
            )
        ),
    )
    for today in ("9999-12-31", "9990-06-01"):
        run = folder.obrin("settle", OBRIN_TODAY=today)
        assert "Obrin's own" not in run.err, run.err
        for command in (
            ("check",),
            ("certificates", "list"),
            ("calendar",),
            ("certificates", "renew", "quay-gw"),
        ):
            run = folder.obrin(*command, OBRIN_TODAY=today)
            assert "Obrin's own" not in run.err, (command, run.err)


def test_what_obrin_keeps_may_be_anything(folder) -> None:
    """Garbled, deep, of another kind, or something else altogether: one message, nothing lost."""
    keys = folder.path / ".obrin" / "keys-design.json"
    whole = keys.read_bytes()
    deep = "[" * 100_000
    for text in (
        "",
        "{",
        deep,
        '{"keys": 3}',
        '{"keys": {"a": ["b"]}, "turns": 7}',
        "[]",
        "null",
        '{"sealed": ' + deep,
        "\x00",
        '"x"',
    ):
        keys.write_text(text)
        for command in (
            ("keys", "list"),
            ("check",),
            ("handover",),
            ("keys", "rotate"),
            ("keys", "seal"),
        ):
            run = folder.obrin(*command, OBRIN_PASSPHRASE="x")
            assert "Obrin's own" not in run.err, (text[:20], command, run.err)
            assert "Traceback" not in run.err
    keys.unlink()
    os.mkfifo(keys)
    short(folder.obrin("keys", "list", timeout=20), 2)
    keys.unlink()
    (folder.path / "elsewhere").write_bytes(whole)
    keys.symlink_to(folder.path / "elsewhere")
    short(folder.obrin("keys", "list"), 2)
    keys.unlink()
    keys.mkdir()
    short(folder.obrin("settle"), 2, 3)


def test_a_pack_that_is_no_ordinary_file_is_written_anew(folder) -> None:
    folder.obrin("settle").good()
    folder.obrin("handover").good()
    config = folder.path / "packs" / "design" / "quay-gw" / "config.json"
    whole = config.read_bytes()
    config.unlink()
    os.mkfifo(config)
    folder.obrin("handover", timeout=20).good()
    assert config.is_file()
    assert config.read_bytes() == whole


def test_records_of_a_practice_world_may_be_anything(folder) -> None:
    practice = folder.path / ".obrin" / "practice"
    practice.mkdir()
    good = {
        "token": "t",
        "speed": 1.0,
        "state": "running",
        "processes": ["internet"],
        "ports": {"internet": 1, "cloud": 2},
        "gateways": {},
    }
    odd = [
        {"ports": {"internet": -1, "cloud": 99999}},
        {"ports": "x"},
        {"token": 3},
        {"ports": {}},
        {"gateways": {"x": "http://192.0.2.1/"}},
        {"processes": 7},
        {"starter": "x"},
        {"starter": 10**30, "state": "starting", "begun": time.time()},
        {"starter": -1, "state": "starting", "begun": 1e308},
    ]
    texts = [json.dumps(good | change) for change in ({}, *odd)]
    for text in (*texts, "", "[" * 100_000, "{}", "null", "\x00"):
        (practice / "world.json").write_text(text)
        for command in (
            ("practice", "status"),
            ("status",),
            ("probe",),
            ("connect",),
            ("practice", "heal"),
        ):
            short(folder.obrin(*command, timeout=30), 1, 2, 3)
        folder.obrin("practice", "stop").good()


@pytest.mark.long
def test_places_where_nothing_can_be_written(tmp_path) -> None:
    folder = Folder(tmp_path)
    folder.write("design.yaml", DESIGN)
    folder.write(".obrin", "a file, not a folder")
    for command in ("settle", "handover", "connect"):
        short(folder.obrin(command), 1, 2, 3)
    (tmp_path / ".obrin").unlink()
    (tmp_path / "private").mkdir()
    (tmp_path / ".obrin").symlink_to(tmp_path / "private")
    short(folder.obrin("settle"), 3)
    assert not list((tmp_path / "private").iterdir())
    (tmp_path / ".obrin").unlink()
    folder.obrin("settle").good()
    (tmp_path / "packs").symlink_to(tmp_path / "private")
    short(folder.obrin("handover"), 3)
    assert not list((tmp_path / "private").iterdir())
    for command, option in (("calendar", "--to"), ("keys export", "--to"), ("draw reach", "--to")):
        short(folder.obrin(*command.split(), option, "no/such/folder/x.png", given="pass\n"), 2, 3)


@pytest.mark.long
def test_outputs_that_are_full_closed_or_gone(folder) -> None:
    def run(command: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            command,
            shell=True,
            cwd=folder.path,
            capture_output=True,
            text=True,
            env={**os.environ, "PROGRAM": PROGRAM},
            check=False,
        )

    for command in ("check", "check --json", "routes quay-gw", "--help", "routes --csv quay-gw"):
        done = run(f'"$PROGRAM" {command} > /dev/full')
        assert (done.returncode, "No space left" in done.stderr) == (3, True), (command, done)
        assert "Traceback" not in done.stderr
    for command in ("check", "routes --csv quay-gw"):
        assert run(f'"$PROGRAM" {command} >&-').returncode == 0
        assert run(f'"$PROGRAM" {command} | true').stderr == ""
        done = run(f'"$PROGRAM" {command} 2>&- >/dev/null')
        assert done.returncode == 0
    done = run('mkdir gone && cd gone && rmdir ../gone && "$PROGRAM" check')
    assert done.returncode in (2, 3)
    assert "Traceback" not in done.stderr
    done = run('"$PROGRAM" keys set quay-apps/a <&-')
    assert done.returncode in (1, 2)
    assert "Traceback" not in done.stderr


def test_texts_are_shown_without_acting() -> None:
    assert clean("plain ä 漢") == "plain ä 漢"
    assert clean("a\x1b[2Jb\x00\x9bc") == "a\\x1b[2Jb\\x00\\x9bc"
    assert clean("a\u202eb\ud800") == "a\\u202eb\\ud800"
    assert clean("two\nlines\t.") == "two\nlines\t."
    long = clean("x" * 100_000)
    assert len(long) < MOST + 60
    assert "characters left out" in long
