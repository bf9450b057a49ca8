"""`--redact` as users meet it: whatever a command prints on either stream, errors as well, no name and
no address of the design is in it."""

from __future__ import annotations

import re

import pytest

from obrin.core.handover.redacted import names_of
from obrin.live.project import Project
from tests.cli.program import Folder, Run
from tests.doubles import DESIGN

TOLD = re.compile(r"\b(site|cloud|gateway|link|uplink|network|subnet|design|tunnel)-\d+\b")


class Secretive:
    """Runs commands with the option, and looks at what they print."""

    def __init__(self, folder: Folder) -> None:
        self.folder = folder
        settled = Project(folder.path / "design.yaml").settled()[1]
        self.names = [name for name in names_of(settled) if len(name) > 1]
        every = [u.address for g in settled.gateways.values() for u in g.uplinks.values()]
        every += [a for c in settled.clouds.values() for a in c.own_addresses]
        every += [
            a for t in settled.tunnels() for a in (t.cloud_address, t.site_inside, t.cloud_inside)
        ]
        every += [
            p.address(0)
            for s in settled.sites.values()
            for n in s.networks.values()
            for p in n.prefix
        ]
        self.addresses = [str(address) for address in every]

    def run(self, *arguments: str, tells: bool = True) -> Run:
        run = self.folder.obrin(*arguments, "--redact")
        both = run.out + run.err
        assert "Traceback" not in both
        plain = TOLD.sub("", both)
        for name in self.names:
            assert not re.search(rf"(?<![a-z]){name}(?![a-z])", plain), (arguments, name, both)
        for address in self.addresses:
            assert not re.search(rf"(?<!\d){re.escape(address)}(?!\d)", both), (arguments, address)
        assert not tells or TOLD.search(both), both
        return run


@pytest.fixture(scope="module")
def secretive(tmp_path_factory) -> Secretive:
    folder = Folder(tmp_path_factory.mktemp("redact"))
    folder.write("design.yaml", DESIGN)
    folder.obrin("settle").good()
    folder.obrin("handover").good()
    return Secretive(folder)


def entered(secretive: Secretive, *changes: tuple[str, str]) -> str:
    text = (secretive.folder.path / "packs/design/quay-gw/values.csv").read_text()
    for old, new in changes:
        assert old in text
        text = text.replace(old, new)
    (secretive.folder.path / "entered.csv").write_text(text)
    return "entered.csv"


def test_compare_names_nothing(secretive: Secretive) -> None:
    wrong = entered(secretive, ("203.0.113", "203.0.112"), ("64512", "64999"))
    for arguments in (
        ("compare", "quay-gw", wrong),
        ("compare", "quay-gw", wrong, "--json"),
        ("compare", "--ends", wrong, "packs/design/apps/values.csv"),
    ):
        secretive.run(*arguments)
    (secretive.folder.path / "entered.csv").write_text(
        "name,value\nquay-apps/a at 192.0.2.10:500,x\n"
    )
    secretive.run("compare", "quay-gw", "entered.csv")


def test_errors_name_nothing_either(secretive: Secretive) -> None:
    for arguments, tells in (
        (("compare", "quay-gx", "entered.csv"), True),
        (("compare", "quay-gw", "no-such-quay-gw.csv"), True),
        (("status",), False),
        (("status", "--metrics"), False),
        (("probe",), False),
    ):
        assert secretive.run(*arguments, tells=tells).code != 0


@pytest.mark.long
def test_a_running_world_is_reported_without_a_name(secretive: Secretive) -> None:
    folder = secretive.folder
    folder.obrin("practice", "start", "--speed", "5000").good()
    try:
        folder.obrin("connect", timeout=120).good()
        for fault in (
            (),
            ("practice", "cut", "tunnel", "quay-apps/b"),
            ("practice", "cut", "uplink", "quay-gw/fibre"),
        ):
            if fault:
                folder.obrin(*fault)
            for arguments in (
                ("status",),
                ("status", "--json"),
                ("status", "--metrics"),
                ("status", "--watch", "--for", "1 s", "--every", "0.5"),
                ("status", "--watch", "--for", "1 s", "--every", "0.5", "--json"),
                ("probe",),
                ("probe", "--json"),
                ("probe", "--sizes"),
            ):
                quiet = {"--watch", "--json"} <= set(arguments)
                secretive.run(*arguments, tells=not quiet)
    finally:
        folder.obrin("practice", "stop")
