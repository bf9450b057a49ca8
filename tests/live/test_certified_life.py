"""Certificates through any sequence of commands: who is not revoked stays up, the revoked stay out,
and every state has a way on.

The commands themselves run, against a practice world in virtual time. An echo request crosses every
link ten times a second all the while.
"""

from __future__ import annotations

import random
from datetime import timedelta
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import Encoding
from cryptography.x509.oid import NameOID

from obrin.core.design.places import NetworkRef
from obrin.core.errors import ObrinError
from obrin.core.pki.read import as_pem, key_as_pem
from obrin.core.settled.model import Settled, host_of
from obrin.live.project import Project
from obrin.live.rehearse.virtual import VirtualWorld
from tests.authority import NOW, Made, new_key
from tests.live.virtual_ends import TICK, Killed, VirtualEnds, run

HEAD = """obrin: 1
name: life
clouds: {apps: {subnets: {web: {hosts: 20}}}}
"""
SITES = {
    name: (
        f"  {name}: {{networks: {{desks: 10.{n}.0.0/24}}, gateways: {{{name}-gw: {{uplinks: "
        f"{{one: {{address: 192.0.2.{n}}}, two: {{address: 198.51.100.{n}}}}}}}}}}}\n"
    )
    for n, name in enumerate(("ash", "birch", "cedar"), 11)
}
LINKS = {
    name: (
        f"  {name}-apps: {{site: {name}, cloud: apps, routing: bgp, bgp: {{hold-time: 6 s}}, "
        f"authentication: certificate, tunnels: {{a: {{gateway: {name}-gw, uplink: one, instance: "
        f"1}}, b: {{gateway: {name}-gw, uplink: two, instance: 2}}}}}}\n"
    )
    for name in SITES
}
WITHIN = 20.0
"""Seconds after a connect within which what was lost is back."""


WISHES = {n: f"  - {{from: {n}/desks, to: apps/web, flow: icmp, must: work}}\n" for n in SITES}


def design(links) -> str:
    parts = {"sites": SITES.values(), "links": [LINKS[n] for n in links]}
    parts["expectations"] = [WISHES[n] for n in links]
    return HEAD + "".join(f"{key}:\n{''.join(held)}" for key, held in parts.items())


class Life:
    """A project, its running world, and what somebody does with its certificates."""

    def __init__(self, folder: Path, monkeypatch, seed: int) -> None:
        self.rng = random.Random(f"life:{seed}")
        self.folder, self.path = folder, folder / "design.yaml"
        self.links = list(SITES)
        self.told: list[str] = []
        self.day = NOW
        self.write()
        self.obrin("settle")
        project = Project(self.path)
        self.whole: Settled = project.settled()[1]
        self.world = VirtualWorld(self.whole, project.secrets(self.whole), start=NOW)
        self.ends = VirtualEnds(self.world, self.tick)
        self.ends.patch(monkeypatch)
        self.last: dict[str, float] = {}
        self.gap: dict[str, float] = {}
        self.revoked: set[str] = set()
        self.obrin("connect", "--yes")
        self.stands("at first")

    def write(self) -> None:
        self.path.write_text(design(self.links))

    def today(self) -> str:
        return f"{self.day:%Y-%m-%d}"

    def obrin(self, *arguments: str, may_refuse: bool = False, kill: int = 0) -> bool:
        """Whether it was done; a refusal in words is one."""
        self.told.append(" ".join(arguments) + (f" (killed at {kill})" if kill else ""))
        if kill:
            self.ends.acted, self.ends.kill_at = 0, kill
        try:
            found = run(*arguments, today=self.today(), design=str(self.path))
        except Killed:
            return False
        finally:
            if kill:
                self.ends.kill_at = 0
        if found.exception is None or found.exit_code == 0:
            return True
        if may_refuse and isinstance(found.exception, ObrinError):
            self.told.append(f"  refused: {found.exception}")
            return False
        if isinstance(found.exception, Killed):
            return False
        if isinstance(found.exception, SystemExit):
            self.told.append(f"  exit {found.exit_code}: {found.output[-900:]}")
            assert may_refuse, self.story()
            return False
        raise AssertionError(
            f"{self.story()}{found.output[-1500:]}{found.exception!r}"
        ) from found.exception

    def seen(self, *arguments: str) -> str:
        """What a command says that only looks."""
        found = run(*arguments, today=self.today(), design=str(self.path))
        assert found.exception is None or isinstance(found.exception, SystemExit), found.exception
        return found.output

    def story(self) -> str:
        return "\n".join(self.told) + "\n"

    # The world

    def tick(self, seconds: float) -> None:
        """Echo requests from each site's host, and how long none was answered."""
        until = self.world.now + seconds
        while self.world.now < until:
            asked = {name: self._ask(name) for name in SITES}
            self.world.run(min(TICK, until - self.world.now))
            for name, (host, query) in asked.items():
                if host is not None:
                    host.forget(query)
                if query is not None and query.answered_at is not None:
                    self.last[name] = self.world.now
                gap = self.world.now - self.last.setdefault(name, self.world.now)
                self.gap[name] = max(self.gap.get(name, 0.0), gap)

    def _ask(self, name: str):
        source, web = (host_of(self.whole.network(NetworkRef.of(f"{name}/desks"))), self.web)
        host = self.world.host_at(name, source)
        if host is None:  # the site's gateway has no pack
            return None, None
        query = host.ask(1, web, 0, self.world.now)
        self.world.move()
        return host, query

    @property
    def web(self):
        return host_of(self.whole.network(NetworkRef.of("apps/web")))

    def settle_down(self) -> None:
        self.tick(WITHIN)
        self.gap.clear()
        self.last.clear()
        self.tick(1.0)

    def wanted(self) -> set[str]:
        """Sites whose link is in the design and whose certificates are good."""
        cut = "apps" in self.revoked
        return {n for n in self.links if f"{n}-gw" not in self.revoked and not cut}

    def stands(self, what: str) -> None:
        """After a connect: those that are wanted work, and nobody else."""
        self.settle_down()
        for name in SITES:
            works = self.gap[name] < 3 * TICK
            assert works is (name in self.wanted()), f"{self.story()}{what}: {name} {works}"

    def unbroken(self, names: set[str]) -> None:
        for name in names:
            assert self.gap.get(name, 0.0) < 3 * TICK, f"{self.story()}{name} lost {self.gap[name]}"

    # What somebody does

    def connect(self) -> None:
        self.brought_again()
        for command in (("settle",), ("handover",), ("connect", "--yes")):
            self.obrin(*command)

    def rotate(self) -> None:
        gateways = [f"{n}-gw" for n in self.links] + ["apps"]
        names = self.rng.choice(
            [(), (self.rng.choice(gateways),), ("--below", "root"), ("--below", "issuing")]
        )
        kill = self.rng.choice((0, 0, self.rng.randint(1, 25)))
        command = ("certificates", "rotate", *names, "--timeout", "20")
        if not self.obrin(*command, may_refuse=True, kill=kill):
            self.obrin("certificates", "rotate", "--timeout", "20", may_refuse=True)

    def renew(self) -> None:
        name = self.rng.choice(["root", "issuing", *(f"{n}-gw" for n in self.links), "apps"])
        if self.obrin("certificates", "renew", name, may_refuse=True):
            self.revoked.discard(name)

    def revoke(self) -> None:
        name = self.rng.choice([*(f"{n}-gw" for n in self.links)] * 3 + ["apps"])
        if self.obrin("certificates", "revoke", name, may_refuse=True):
            self.revoked.add(name)

    def retire(self) -> None:
        self.obrin("certificates", "retire", may_refuse=True)

    def sign(self) -> None:
        name, key = f"{self.rng.choice(self.links)}-gw", new_key()
        subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
        request = x509.CertificateSigningRequestBuilder().subject_name(subject).sign(key, SHA256())
        (self.folder / "d.csr").write_bytes(request.public_bytes(Encoding.PEM))
        to = str(self.folder / "d.pem")
        command = (
            "certificates",
            "sign",
            str(self.folder / "d.csr"),
            "--gateway",
            name,
            "--to",
            to,
        )
        if self.obrin(*command, may_refuse=True):
            self.ends.device_keys[name] = key
            self.revoked.discard(name)

    def bring(self) -> None:
        name = f"{self.rng.choice(self.links)}-gw"
        other = Made(name=self.rng.choice(("Elsewhere", "life")))
        identities = self.whole.certified()[name]
        leaf, key = other.gateway(*identities, now=self.day)
        for file, text in (
            ("chain", as_pem([leaf, other.issuing])),
            ("root", as_pem([other.root])),
            ("key", key_as_pem(key)),
        ):
            (self.folder / f"{file}.pem").write_text(text)
        files = [str(self.folder / f"{file}.pem") for file in ("chain", "key", "root")]
        command = ("certificates", "bring", name, *files[:2], "--authority", files[2])
        if self.obrin(*command, may_refuse=True):
            self.revoked.discard(name)

    def take_out(self) -> None:
        if len(self.links) > 1:
            self.links.remove(self.rng.choice(self.links))
        else:
            self.links = list(SITES)
        self.told.append(f"links: {self.links}")
        self.write()
        self.obrin("settle")

    def later(self) -> None:
        days = self.rng.choice((1, 40, 200, 400))
        self.told.append(f"{days} days later")
        self.day += timedelta(days=days)
        self.world._start += timedelta(days=days)

    ACTIONS = (connect, rotate, rotate, renew, revoke, retire, sign, bring, take_out, later)

    def ends_well(self) -> None:
        """The way on from wherever it stands, for those that have another certificate to show."""
        for name in [f"{n}-gw" for n in self.links] + ["apps"]:
            if self.rng.random() < 0.5 and name in self.revoked:
                self.obrin("certificates", "renew", name, "--new-key")
                self.ends.device_keys.pop(name, None)
                self.revoked.discard(name)
        self.connect()
        self.stands("in the end")

    def brought_again(self) -> None:
        """What came from elsewhere and has ended, only its issuer can renew."""
        authority = Project(self.path).authority.read("life")
        for name in [f"{n}-gw" for n in self.links]:
            held = authority.current(name)
            ended = held is not None and held.certificate.not_valid_after_utc <= self.day
            if ended and authority.from_elsewhere(name):
                self.obrin("certificates", "renew", name, "--new-key")
                self.ends.device_keys.pop(name, None)


def lived(folder: Path, monkeypatch, seed: int, actions: int) -> Life:
    life = Life(folder, monkeypatch, seed)
    good, timely, action = life.wanted(), True, Life.connect
    for _ in range(actions):
        action = life.rng.choice([other for other in life.ACTIONS if other is not action])
        life.gap.clear()
        action(life)
        life.tick(0.5)
        timely = timely and action is not Life.later
        good &= life.wanted()
        if timely:
            life.unbroken(good)
        if action is Life.connect:
            life.connect()
            life.stands("connected")
            good, timely = life.wanted(), True
    life.ends_well()
    return life


@pytest.fixture
def life(tmp_path, monkeypatch) -> Life:
    return Life(tmp_path, monkeypatch, 0)


def test_two_authorities_of_one_month_cut_nobody_off(life: Life) -> None:
    """They have one name; the lists of what each revoked are told apart by their keys."""
    life.obrin("certificates", "rotate", "--below", "root")
    life.obrin("certificates", "revoke", "ash-gw")
    life.revoked.add("ash-gw")
    life.links.remove("ash")
    life.write()
    life.gap.clear()
    life.connect()
    life.unbroken({"birch", "cedar"})
    life.stands("connected")
    life.obrin("certificates", "rotate")
    life.unbroken({"birch", "cedar"})


@pytest.mark.parametrize(
    "names",
    [
        ("--below", "root"),
        *(
            pytest.param(n, marks=pytest.mark.long)
            for n in ((), ("--below", "issuing"), ("birch-gw",))
        ),
    ],
)
def test_who_is_revoked_has_no_turn_and_keeps_nobody_from_theirs(life: Life, names) -> None:
    life.obrin("certificates", "revoke", "ash-gw")
    life.revoked.add("ash-gw")
    life.obrin("certificates", "rotate", *names)
    life.unbroken({"birch", "cedar"})
    begun = life.world.now
    life.connect()
    assert life.world.now - begun < 30.0  # nothing is waited for that cannot come
    assert "ash-apps/a: the certificate of ash-gw was revoked on 2026-11-23" in life.seen("status")
    life.stands("connected")
    life.obrin("certificates", "renew", "ash-gw")
    life.revoked.clear()
    life.connect()
    life.stands("renewed")


def test_a_link_that_is_down_can_be_rotated(life: Life) -> None:
    """Nothing is cut by that; a tunnel that is down has its turn before the one that is up."""
    config, keys = life.ends.packs["ash-gw"]
    held = keys["obrin-keys:keys"]
    stranger = {**held["certificate"], "authorities": as_pem([Made(name="Stranger").root])}
    life.world._hand("ash-gw", config, {"obrin-keys:keys": {**held, "certificate": stranger}})
    life.tick(5.0)
    assert "2 of 6 tunnels DOWN: ash-apps/a, ash-apps/b" in life.seen("status")
    life.obrin("certificates", "rotate")
    life.stands("rotated")


@pytest.mark.long
def test_lists_and_authorities_are_renewed_before_they_end(life: Life) -> None:
    life.obrin("certificates", "revoke", "ash-gw")
    life.revoked.add("ash-gw")
    for _ in range(12):  # eleven years: lists, gateways, the issuing authority and the root all end
        life.day += timedelta(days=340)
        life.world._start += timedelta(days=340)
        life.connect()
    life.stands("years later")


@pytest.mark.parametrize(
    "seed", [1, 3, *(pytest.param(n, marks=pytest.mark.long) for n in range(4, 16))]
)
def test_any_sequence_leaves_up_who_is_not_revoked(tmp_path, monkeypatch, seed: int) -> None:
    lived(tmp_path, monkeypatch, seed, 8)


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(100, 200))
def test_any_longer_sequence_does(tmp_path, monkeypatch, seed: int) -> None:
    lived(tmp_path, monkeypatch, seed, 14)
