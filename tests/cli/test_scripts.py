"""What scripts rely on: --json in one stable shape everywhere, --dry-run that changes nothing."""

from __future__ import annotations

from collections.abc import Iterator

import click
import pytest

from obrin.cli.main import obrin
from obrin.cli.outputs.forms import DEED
from obrin.cli.outputs.page import OUTPUTS, output_page
from tests.cli.program import Folder
from tests.doubles import DESIGN
from tests.outputs import valid
from tests.test_docs import PAGE

DEMOS = ("design", "draft", "crossing", "ledger")
PRINTS_ONLY_JSON = {"schema"}
PRINTS_WHAT_IT_RUNS = {"practice run"}
ANSWERS = {
    "settle",
    "check",
    "classes",
    "agree",
    "overhead",
    "reach",
    "calendar",
    "routes",
    "routes --sessions",
    "drill",
    "space",
    "space free",
    "space use",
    "space overlaps",
    "space announce",
    "space remedies",
    "keys list",
    "certificates list",
    "handover",
}


def commands(group: click.Command = obrin, path: str = "") -> Iterator[tuple[str, click.Command]]:
    if not isinstance(group, click.Group):
        yield path, group
        return
    context = click.Context(group)
    if group.invoke_without_command:
        yield path, group
    for name in group.list_commands(context):
        found = group.get_command(context, name)
        assert found is not None
        yield from commands(found, f"{path} {name}".strip())


@pytest.fixture(scope="module")
def demos(tmp_path_factory) -> Folder:
    folder = Folder(tmp_path_factory.mktemp("demos"))
    for file in PAGE.parents[1].joinpath("src/obrin/demo").iterdir():
        folder.write(file.name, file.read_text(encoding="utf-8"))
    for name in DEMOS:
        folder.obrin("settle", "--design", f"{name}.yaml").good()
    return folder


@pytest.fixture
def folder(tmp_path) -> Folder:
    made = Folder(tmp_path)
    made.write("design.yaml", DESIGN)
    made.obrin("settle").good()
    return made


def test_every_command_prints_json_in_a_shape_of_its_own_and_what_acts_can_be_tried() -> None:
    known = dict(commands())
    with_json = {name for name, c in known.items() if "--json" in options(c)}
    assert known.keys() - with_json == PRINTS_ONLY_JSON | PRINTS_WHAT_IT_RUNS
    assert {name.partition(" --")[0] for name in OUTPUTS} == with_json
    acting = {
        name for name, shape in OUTPUTS.items() if shape["description"] == DEED["description"]
    }
    for name in acting:
        assert "--dry-run" in options(known[name.partition(" --")[0]]), name


def options(command: click.Command) -> set[str]:
    return {option for parameter in command.params for option in parameter.opts}


def test_the_page_of_json_is_made_from_the_shapes() -> None:
    assert (PAGE.parent / "json.md").read_text(encoding="utf-8") == output_page()


@pytest.mark.parametrize("design", DEMOS)
def test_answers_have_their_shapes(demos: Folder, design: str) -> None:
    for name in sorted(ANSWERS):
        run = demos.obrin(*name.split(), "--json", "--design", f"{design}.yaml")
        assert run.code in (0, 1), (name, run.err)
        valid(name, run.json)


@pytest.mark.parametrize(
    ("name", "rest"),
    [
        ("settle --explain", "clouds.timetable.space"),
        ("settle --explain", "links.harbour-timetable.suite"),
        ("space who", "10.20.0.5 198.51.100.0/24 10.64.0.0/12"),
        ("space clash", "10.20.0.0/16 10.64.0.0/12 10.64.1.0/24"),
        ("space fit", "--pool 10.64.0.0/10 --add x=9 --years 3"),
        ("space renumber", "harbour-house/offices"),
        ("space free", "/24"),
        ("gather", "partners.csv --dry-run"),
        ("profiles", ""),
        ("algorithms", ""),
        ("routes --changes", "--without tunnel:harbour-timetable/north"),
        ("routes --against", "crossing.yaml"),
        ("drill --availability", ""),
        ("trace", "harbour-house/offices timetable/sailings icmp"),
        ("trace", "harbour-house/guests timetable/sailings icmp"),
        ("keys show", "harbour-timetable/north"),
        ("demo --dry-run", "--folder other"),
    ],
)
def test_questions_have_their_shapes(demos: Folder, name: str, rest: str) -> None:
    words = [*name.split(), *rest.split()]
    run = demos.obrin(*words, "--json")
    assert run.code in (0, 1), run.err
    valid(name, run.json)


@pytest.mark.long
def test_what_acts_tells_what_it_did_and_a_trial_changes_nothing(folder: Folder) -> None:
    acts = [
        ("new", "--yes --to other.yaml", ""),
        ("new", "--yes --force", ""),
        ("keys set", "quay-apps/a", "Ahh4-long-enough-2-be-taken\n"),
        ("keys renew", "quay-apps/a", ""),
        ("keys export", "--to out.keys", "passphrase\n"),
        ("keys import", "in.csv", ""),
        ("keys seal", "", ""),
        ("keys unseal", "", ""),
        ("handover --template", "t.j2", ""),
        ("draw space", "--to s.svg", ""),
        ("draw drill", "--to d.svg", ""),
        ("draw reach", "--to r.svg", ""),
        ("draw outages", "--to o.svg", ""),
        ("classes --write", "offer.yaml", ""),
        ("calendar --to", "days.ics", ""),
        ("routes --to-mrt", "r.mrt quay-gw", ""),
    ]
    folder.write("design.yaml", DESIGN)
    tunnel = folder.obrin("keys", "list", "--json").json[0]["tunnel"]
    folder.write("in.csv", f"tunnel,key\n{tunnel},Some-long-key-4-this-tunnel\n")
    folder.write("t.j2", "{{ gateway }}\n")
    sealed = {"OBRIN_PASSPHRASE": "open up"}
    for name, rest, given in acts:
        words = [*name.split(), *rest.replace("quay-apps/a", tunnel).split()]
        before = folder.files()
        tried = folder.obrin(*words, "--dry-run", "--json", given=given, **sealed).good()
        assert folder.files() == before, name
        told = valid(name, tried.json)
        assert not told["done"]
        if name == "new" and "--force" in rest:
            continue
        shown = folder.obrin(*words, "--dry-run", given=given, **sealed).good().out
        assert name == "new" or ": would be " in shown, name
        done = valid(name, folder.obrin(*words, "--json", given=given, **sealed).good().json)
        assert done == told | {"done": True}, name
        assert folder.files() != before or name in ("keys unseal",), name
    compared = folder.obrin("keys", "compare", tunnel, "--json", given="x\n", **sealed)
    assert not valid("keys compare", compared.json)["same"]


def test_certificates_act_by_script(tmp_path) -> None:
    folder = Folder(tmp_path)
    folder.write("design.yaml", (PAGE.parents[1] / "src/obrin/demo/ledger.yaml").read_text())
    folder.obrin("settle").good()
    name = next(
        c for c in folder.obrin("certificates", "list", "--json").json if c["what"] == "gateway"
    )
    gateway = name["name"]
    for words in (
        ("certificates export", gateway, "--to", "chain.pem"),
        ("certificates export", "root", "--to", "root.pem"),
        ("certificates renew", gateway),
        ("certificates renew", "issuing"),
        ("certificates retire",),
        ("certificates revoke", gateway),
    ):
        command = [*words[0].split(), *words[1:], "--json"]
        before = folder.files()
        told = valid(words[0], folder.obrin(*command, "--dry-run").good().json)
        assert folder.files() == before, words
        assert valid(words[0], folder.obrin(*command).good().json) == told | {"done": True}
    found = folder.obrin("certificates", "check", "chain.pem", "--json")
    valid("certificates check", found.json)
    chosen = [c["name"] for c in folder.obrin("certificates", "list", "--json").json]
    assert gateway in chosen
