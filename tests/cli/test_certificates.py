"""`certificates` and `keys` as users meet them: the built program on files."""

from __future__ import annotations

import gzip
import json
import re
import shutil
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import Encoding
from cryptography.x509.oid import NameOID

import obrin
from obrin.core.pki.read import as_pem, fits, key_as_pem, read_bundle
from tests.authority import Made, new_key
from tests.cli.program import Folder

LEDGER = Path(obrin.__file__).parent / "demo" / "ledger.yaml"
IDENTITIES = ("192.0.2.30", "198.51.100.30")


@pytest.fixture
def folder(tmp_path) -> Folder:
    shutil.copy(LEDGER, tmp_path / "design.yaml")
    made = Folder(tmp_path)
    made.obrin("settle").good()
    return made


def keys_of(folder: Folder, gateway: str) -> dict:
    text = (folder.path / "packs" / "design" / gateway / "keys.json").read_text()
    return json.loads(text)["obrin-keys:keys"]


def states(folder: Folder) -> list[tuple[str, str]]:
    rows = json.loads(folder.obrin("certificates", "list", "--json").good().out)
    return [(row["name"], row["state"]) for row in rows if row["what"] == "gateway"]


def test_certificates_are_issued_revoked_and_renewed(folder: Folder) -> None:
    folder.obrin("settle").good()
    assert states(folder) == [("hh-west", "in use"), ("ledger", "in use")]
    folder.obrin("handover").good()
    first = keys_of(folder, "hh-west")["certificate"]
    assert "PRIVATE KEY" in first["private-key"]
    assert "certificate" not in keys_of(folder, "sw-box")
    folder.obrin("certificates", "revoke", "hh-west").good()
    folder.obrin("settle").good()  # issues nothing for it
    assert "certificate-revoked" in folder.obrin("check").out
    told = folder.obrin("handover").good().out
    assert "none: its certificate is revoked" in told
    assert "BEGIN X509 CRL" in keys_of(folder, "ledger")["certificate"]["revocations"]
    folder.obrin("certificates", "renew", "hh-west").good()
    assert states(folder)[:2] == [("hh-west", "revoked"), ("hh-west", "in use")]
    folder.obrin("certificates", "renew", "root").good()
    folder.obrin("handover").good()
    second = keys_of(folder, "hh-west")["certificate"]
    assert second["chain"] != first["chain"]
    assert second["authorities"].count("BEGIN CERTIFICATE") == 2  # both roots are believed


def test_revoking_bars_all_that_a_gateway_ever_got(folder: Folder) -> None:
    """Renewed before it was revoked: the older certificate must not come back."""
    folder.obrin("certificates", "renew", "hh-west").good()
    folder.obrin("handover").good()
    keys = folder.path / "packs" / "design" / "hh-west" / "keys.json"
    assert keys.exists()
    told = folder.obrin("certificates", "revoke", "hh-west").good()
    assert "all 2 certificates of hh-west: revoked" in told.out
    assert [s for n, s in states(folder) if n == "hh-west"] == ["revoked", "revoked"]
    assert "certificate-revoked" in folder.obrin("check").out
    folder.obrin("settle").good()
    assert [s for n, s in states(folder) if n == "hh-west"] == ["revoked", "revoked"]
    run = folder.obrin("handover").good()
    assert "none: its certificate is revoked" in run.out
    assert not keys.exists()
    lists = keys_of(folder, "ledger")["certificate"]["revocations"]
    (found,) = (x509.load_pem_x509_crl(lists.encode()),)
    assert len(list(found)) == 2
    folder.obrin("certificates", "revoke", "hh-west").bad(2, "not revoked")
    folder.obrin("certificates", "renew", "hh-west").good()
    assert "certificate-revoked" not in folder.obrin("check").out


def signed_request(folder: Folder, key) -> None:
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "hh-west")])
    request = x509.CertificateSigningRequestBuilder().subject_name(name).sign(key, SHA256())
    (folder.path / "device.csr").write_bytes(request.public_bytes(Encoding.PEM))
    folder.obrin(
        "certificates", "sign", "device.csr", "--gateway", "hh-west", "--to", "d.pem"
    ).good()


@pytest.mark.long
def test_a_devices_own_key_is_never_replaced_unasked(folder: Folder) -> None:
    key = new_key()
    signed_request(folder, key)

    def current() -> x509.Certificate:
        folder.obrin("handover").good()
        chain = keys_of(folder, "hh-west")["certificate"]["chain"]
        return read_bundle(chain.encode(), None, "x").certificates[0]

    first = current()
    assert fits(first, key)
    run = folder.obrin("certificates", "renew", "hh-west").good()
    assert "for the key that the device made itself" in run.out
    assert fits(current(), key)
    assert current().serial_number != first.serial_number
    folder.obrin("settle", OBRIN_TODAY="2031-01-01").good()  # it has ended: issued again by itself
    folder.obrin("handover", OBRIN_TODAY="2031-01-01").good()
    chain = keys_of(folder, "hh-west")["certificate"]["chain"]
    assert fits(read_bundle(chain.encode(), None, "x").certificates[0], key)
    folder.obrin("certificates", "renew", "hh-west", "--new-key").good()
    assert not fits(current(), key)


def test_what_came_from_elsewhere_is_not_replaced_unasked(folder: Folder) -> None:
    elsewhere = Made(name="Elsewhere")
    leaf, own = elsewhere.gateway(*IDENTITIES)
    (folder.path / "chain.pem").write_text(as_pem([leaf, elsewhere.issuing]))
    (folder.path / "root.pem").write_text(as_pem([elsewhere.root]))
    (folder.path / "key.pem").write_text(key_as_pem(own))
    folder.obrin(
        "certificates", "bring", "hh-west", "chain.pem", "key.pem", "--authority", "root.pem"
    ).good()
    before = states(folder)
    folder.obrin("certificates", "renew", "hh-west").bad(2, "came from elsewhere")
    folder.obrin("settle", OBRIN_TODAY="2040-01-01").good()
    assert [s for s in states(folder) if s[0] == "hh-west"] == [
        s for s in before if s[0] == "hh-west"
    ]
    assert "certificate-refused" in folder.obrin("check", OBRIN_TODAY="2040-01-01").out
    folder.obrin("certificates", "renew", "hh-west", "--new-key").good()
    assert states(folder)[: len(before)] != before


def test_a_kind_of_key_that_a_device_cannot_do_is_refused_at_once(folder: Folder) -> None:
    """The profile at hand and the one at the far end are asked, before anything is kept."""
    design = folder.path / "design.yaml"
    design.write_text(
        design.read_text()
        .replace("profile: modern-router        # ships with Obrin", "profile: rsa-only")
        .replace("profiles:\n", "profiles:\n  rsa-only: {authentication: [pre-shared-key, rsa]}\n")
    )
    folder.obrin("settle").good()
    before = states(folder)
    elsewhere = Made(name="Elsewhere")
    leaf, own = elsewhere.gateway(*IDENTITIES, kind="ecdsa")
    (folder.path / "chain.pem").write_text(as_pem([leaf, elsewhere.issuing]))
    (folder.path / "root.pem").write_text(as_pem([elsewhere.root]))
    (folder.path / "key.pem").write_text(key_as_pem(own))
    for gateway in ("hh-west", "ledger"):
        run = folder.obrin(
            "certificates", "bring", gateway, "chain.pem", "key.pem", "--authority", "root.pem"
        )
        run.bad(2, "its key is ecdsa, and hh-west (rsa-only) does rsa certificates")
    assert states(folder) == before


def test_requests_exports_and_chains_from_elsewhere(folder: Folder) -> None:
    path, key = folder.path, new_key()
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "hh-west")])
    wanted = x509.SubjectAlternativeName([x509.DNSName("not.asked")])
    request = (
        x509.CertificateSigningRequestBuilder()
        .subject_name(name)
        .add_extension(wanted, critical=False)
        .sign(key, SHA256())
    )
    (path / "device.csr").write_bytes(request.public_bytes(Encoding.PEM))
    told = folder.obrin(
        "certificates", "sign", "device.csr", "--gateway", "hh-west", "--to", "device.pem"
    ).good()
    assert "not.asked; left out" in told.err
    chain = read_bundle((path / "device.pem").read_bytes(), None, "x").certificates
    assert fits(chain[0], key)
    folder.obrin("certificates", "export", "hh-west", "--to", "x.p12", given="a\n").bad(
        2, "never left its device"
    )
    folder.obrin("certificates", "export", "ledger", "--to", "l.p12", given="sesame\n").good()
    assert read_bundle((path / "l.p12").read_bytes(), "sesame", "x").key is not None
    elsewhere = Made(name="Elsewhere")
    leaf, own = elsewhere.gateway(*IDENTITIES)
    (path / "chain.pem").write_text(as_pem([leaf, elsewhere.issuing]))
    (path / "short.pem").write_text(as_pem([leaf]))
    (path / "root.pem").write_text(as_pem([elsewhere.root]))
    (path / "key.pem").write_text(key_as_pem(own, "sesame"))
    bring = ("certificates", "bring", "hh-west")
    folder.obrin(*bring, "chain.pem", "key.pem", "--authority", "root.pem").bad(2, "is encrypted")
    sealed = (*bring, "short.pem", "key.pem", "--authority", "root.pem", "--sealed")
    folder.obrin(*sealed, given="sesame\n").bad(2, "is missing")
    folder.obrin(*bring, "chain.pem", "key.pem", "--sealed", given="sesame\n").bad(2, "is missing")
    whole = (*bring, "chain.pem", "key.pem", "--authority", "root.pem", "--sealed")
    folder.obrin(*whole, given="sesame\n").good()
    folder.obrin("handover").good()
    handed = keys_of(folder, "ledger")["certificate"]["authorities"]
    assert handed.count("BEGIN CERTIFICATE") == 2
    check = ("certificates", "check", "short.pem", "--identity", "192.0.2.31")
    told = folder.obrin(*check, "--json").bad(1, "")
    assert {fault["code"] for fault in json.loads(told.out)} == {"name", "incomplete"}
    folder.obrin(
        "certificates", "check", "chain.pem", "--authority", "root.pem", "--identity", IDENTITIES[0]
    ).good()


def test_bad_input_gets_one_message(folder: Folder) -> None:
    (folder.path / "text.pem").write_text("-----BEGIN CERTIFICATE-----\nnothing\n")
    folder.all_bad(
        [
            (("certificates", "renew", "sw-box"), 2, "needs no certificate"),
            (("certificates", "check", "none.pem"), 2, "cannot be read"),
            (("certificates", "check", "text.pem"), 2, "no certificate that can be read"),
            (
                ("certificates", "sign", "text.pem", "--gateway", "hh-west"),
                2,
                "no certificate request",
            ),
        ]
    )


NORTH = "slipway-ledger/day"


def test_keys_go_out_sealed_and_come_in(folder: Folder, tmp_path_factory) -> None:
    key = folder.obrin("keys", "show", NORTH).good().out
    folder.obrin("keys", "export", "--to", "x.keys", given="sesame\n").good()
    assert key.strip() not in (folder.path / "x.keys").read_text()
    folder.obrin("keys", "renew", NORTH).good()
    folder.obrin("keys", "import", "x.keys", given="wrong\n").bad(2, "does not fit")
    folder.obrin("keys", "import", "x.keys", given="sesame\n").good()
    assert folder.obrin("keys", "show", NORTH).good().out == key
    (folder.path / "k.csv").write_text(f"tunnel,key\n{NORTH},simple\n")
    folder.obrin("keys", "import", "k.csv").bad(2, "k.csv:2:1", "does not accept")
    (folder.path / "k.csv").write_text(f"tunnel,key\n{NORTH},{'aB3' * 8}\n")
    assert "warning" in folder.obrin("keys", "import", "k.csv").good().err
    assert folder.obrin("keys", "show", NORTH).good().out.strip() == "aB3" * 8


@pytest.mark.long
def test_the_passphrase_can_live_in_the_systems_keyring(folder: Folder) -> None:
    root = str(Path(__file__).parents[2])
    ring = {
        "PYTHON_KEYRING_BACKEND": "tests.file_keyring.FileKeyring",
        "PYTHONPATH": root,
        "FILE_KEYRING": str(folder.path.parent / f"{folder.path.name}.ring"),
    }
    shown = folder.obrin("keys", "show", NORTH).good().out
    folder.obrin("keys", "seal", "--keyring", **ring).good()
    sealed = (folder.path / ".obrin" / "keys-design.json").read_text()
    assert shown.strip() not in sealed
    assert "sealed" in (folder.path / ".obrin" / "certificates-design.json").read_text()
    assert folder.obrin("keys", "show", NORTH, **ring).good().out == shown
    none = {"PYTHON_KEYRING_BACKEND": "keyring.backends.fail.Keyring"}
    folder.obrin("keys", "show", NORTH, **none).bad(2, "keyring cannot be used")
    folder.obrin("keys", "unseal", **ring).good()
    assert folder.obrin("keys", "show", NORTH).good().out == shown


def test_no_output_and_no_open_file_holds_a_secret(folder: Folder) -> None:
    runs = [
        folder.obrin(*words)
        for words in (
            ("settle", "--json"),
            ("handover",),
            ("check",),
            ("agree", "harbour-ledger"),
            ("certificates", "list"),
            ("certificates", "list", "--json"),
            ("keys", "list"),
            ("calendar",),
            ("certificates", "revoke", "hh-west"),
            ("handover",),
            ("certificates", "renew", "nowhere"),
            ("keys", "rotate", "--dry-run"),
        )
    ]
    secrets = set(
        json.loads((folder.path / ".obrin/keys-design.json").read_text())["keys"].values()
    )
    authority = (folder.path / ".obrin/certificates-design.json").read_text()
    private = re.findall(r"BEGIN PRIVATE KEY-----\\n(.+?)-----END", authority)
    assert len(private) == 4  # root, issuing authority, two gateways
    secrets |= {line for text in private for line in text.split("\\n") if len(line) > 30}
    for run in runs:
        assert not any(secret in run.out + run.err for secret in secrets)
    for name, data in folder.files().items():
        if not name.startswith(".obrin/") and not name.endswith("keys.json"):
            assert not any(secret.encode() in data for secret in secrets), name


def test_tables_traces_reach_and_drills_as_users_meet_them(folder: Folder) -> None:
    told = folder.obrin("routes", "hh-west").good().out
    assert "won: higher local" in told
    changed = folder.obrin("routes", "--without", "uplink:hh-west/fibre", "--changes").good().out
    assert "moves" in changed
    rows = folder.obrin("routes", "sw-box", "--json").good().json
    assert {"static", "connected"} == {row["from"] for row in rows}
    folder.obrin("routes", "hh-west", "--to-mrt", "t.mrt").good()
    assert "no differences" in folder.obrin("routes", "hh-west", "--seen", "t.mrt").good().out
    dump = (folder.path / "t.mrt").read_bytes()
    (folder.path / "t.mrt.gz").write_bytes(gzip.compress(dump))
    assert "no differences" in folder.obrin("routes", "hh-west", "--seen", "t.mrt.gz").good().out
    (folder.path / "cut.gz").write_bytes(gzip.compress(dump)[:-9])
    folder.obrin("routes", "hh-west", "--seen", "cut.gz").bad(2, "it is cut off")
    folder.write("empty.mrt", "")
    folder.obrin("routes", "hh-west", "--seen", "empty.mrt").bad(2, "empty.mrt has no routes")
    run = folder.obrin("routes", "ledger", "--seen", "t.mrt").bad(1, "not compared: ")
    assert "missing" in run.out
    assert "no tunnel or circuit of ledger has it" in run.err
    flow = ("slipway/workshop", "ledger/accounts", "tcp/443")
    assert "arrives" in folder.obrin("trace", *flow).good().out
    gone = folder.obrin("trace", *flow, "--without", "gateway:sw-box").bad(1, "STOPS")
    assert "no answer" in gone.out
    found = folder.obrin("reach", "--json").good().json
    assert {cell["verdict"] for cell in found} == {"as wished"}
    drilled = folder.obrin("drill", "--depth", "2").bad(1, "gateway:sw-box")
    assert "Single points of failure: gateway:hh-west, gateway:sw-box, cloud:ledger" in drilled.out
    folder.obrin("drill", "tunnel:slipway-ledger/day").good()
    folder.all_bad(
        [
            (("routes", "nowhere"), 2, "there is no table"),
            (("routes", "hh-west", "--seen", "design.yaml"), 2, "offset 0"),
            (("trace", "10.9.9.9", "ledger/accounts"), 2, "in no network"),
            (("drill", "tunnel:none"), 2, "nothing here is called"),
            (("draw", "reach", "--to", "x.gif"), 2, ".svg or .png"),
        ]
    )


def test_what_export_gives_of_the_authority_is_what_check_wants(folder: Folder) -> None:
    for what in ("root", "issuing", "ledger"):
        folder.obrin("certificates", "export", what, "--to", f"{what}.pem").good()
    check = ("certificates", "check", "ledger.pem", "--authority")
    assert "will be accepted" in folder.obrin(*check, "root.pem").good().out
    for name in ("root.pem", "issuing.pem"):
        text = (folder.path / name).read_text()
        assert "PRIVATE" not in text
        assert text.count("BEGIN CERTIFICATE") == 1
    folder.obrin("certificates", "export", "root", "--to", "root.p12").bad(2, "is not given away")
    folder.obrin("certificates", "export", "root", "--to", "root.pem").bad(2, "exists")
    folder.obrin("certificates", "export", "root", "--with-key", "--to", "r.pem").bad(
        2, "given away"
    )
