"""An independent packet dissector opens what our engines wrote, for every suite we speak."""

from __future__ import annotations

import os
import shutil
import subprocess

import pytest

from obrin.core.design.places import NetworkRef
from obrin.core.ipsec.suite import SHIPPED
from obrin.core.settled.model import host_of
from obrin.live.practice.internet.internet import Capture
from obrin.live.practice.internet.keylog import KeyLog
from obrin.live.secrets.authority import Authority, Lives
from obrin.live.secrets.material import certificate_files
from obrin.wire.packet import TCP
from tests.authority import NOW
from tests.doubles import settled_of, swap
from tests.live.test_virtual_world import BEHIND, MORE
from tests.live.virtual_world import VirtualWorld

pytestmark = pytest.mark.skipif(
    shutil.which("tshark") is None, reason="no packet dissector installed"
)
CUSTOM = """suites:
  mixed:
    ike: {encryption: AES-CBC-128, integrity: HMAC-SHA2-256-128, prf: PRF-HMAC-SHA2-512, group: 20, lifetime: 8 h}
    esp: {encryption: AES-CBC-256, integrity: HMAC-SHA2-256-128, pfs: 19, esn: true, lifetime: 1 h}
  large:
    ike: {encryption: AES-CBC-256, integrity: HMAC-SHA2-512-256, prf: PRF-HMAC-SHA2-512, group: 21, lifetime: 8 h}
    esp: {encryption: AES-CBC-256, integrity: HMAC-SHA2-384-192, pfs: 16, esn: false, lifetime: 1 h}
  middle:
    ike: {encryption: AES-CBC-192, integrity: HMAC-SHA2-384-192, prf: PRF-HMAC-SHA2-384, group: 15, lifetime: 8 h}
    esp: {encryption: AES-CBC-192, integrity: HMAC-SHA2-512-256, pfs: 21, esn: false, lifetime: 1 h}
  aged:
    ike: {encryption: AES-CBC-128, integrity: HMAC-SHA1-96, prf: PRF-HMAC-SHA1, group: 2, lifetime: 8 h}
    esp: {encryption: AES-CBC-128, integrity: HMAC-SHA1-96, pfs: 5, esn: false, lifetime: 1 h}
"""


def captured(tmp_path, *changes: tuple[str, str]):
    """A world whose packets are captured, with rekeys of both kinds in the middle."""
    settled = settled_of(swap(*changes, text=MORE))
    certified = authority_of(settled) if settled.certified() else None
    world = VirtualWorld(settled, certificates=certified)
    world.internet.capture = Capture(tmp_path / "x.pcap")
    world.keys_wanted = True
    keylog = KeyLog(tmp_path / "keys")
    router = world.routers["quay-gw"]

    def note() -> None:
        keylog.write(router.key_events)
        router.key_events.clear()

    world.run(8.0)
    note()
    ends = [
        [host_of(prefix) for prefix in settled.families_at(NetworkRef.of(name))]
        for name in ("quay/desks", "apps/web")
    ]
    for desk, web in zip(*ends, strict=True):
        assert world.ask(desk, web, TCP, 443).answered_at
    for tunnel in router.ike.tunnels.values():
        tunnel.rekey_ike(world.now)
        tunnel.rekey_child(tunnel.outbound, world.now)
    world.run(4.0)
    note()
    for desk, web in zip(*ends, strict=True):
        assert world.ask(web, desk, 17, 5140).answered_at
    world.run(5.0)
    return tmp_path


def authority_of(settled):
    authority = Authority(name="test")
    lives = Lives(kind="rsa")  # long enough to be cut
    authority.found(lives, NOW)
    for name, identities in settled.certified().items():
        authority.issue(name, identities, lives, NOW)
    return certificate_files(authority, settled, NOW)


def dissect(folder, *arguments: str) -> str:
    command = [
        "tshark",
        "-r",
        str(folder / "x.pcap"),
        "-o",
        "esp.enable_encryption_decode:TRUE",
        "-o",
        "esp.enable_authentication_check:TRUE",
        *arguments,
    ]
    env = {**os.environ, "WIRESHARK_CONFIG_DIR": str(folder / "keys")}
    done = subprocess.run(command, env=env, capture_output=True, text=True, check=True)
    assert "UAT" not in done.stderr
    return done.stdout


def stacked(name: str) -> tuple[str, str]:
    return ("obrin: 1", f"obrin: 1\nstack: {name}\nula: 'fd00:1:2::/48'")


VARIANTS = {
    **{
        name: [("    bgp: {hold-time: 6 s}", f"    bgp: {{hold-time: 6 s}}\n    suite: {name}")]
        for name in SHIPPED
    },
    **{
        name: [
            ("\nlinks:\n", "\n" + CUSTOM + "links:\n"),
            ("    bgp: {hold-time: 6 s}", f"    bgp: {{hold-time: 6 s}}\n    suite: {name}"),
        ]
        for name in ("mixed", "large", "middle", "aged")
    },
    "translated": [BEHIND],
    "both families": [stacked("dual")],
    "IPv6 inside and outside": [
        stacked("ipv6"),
        ("fibre: {address: 192.0.2.10", "fibre: {address: '2001:db8:10::10'"),
    ],
}


@pytest.mark.parametrize("variant", VARIANTS)
def test_the_dissector_sees_what_is_inside(tmp_path, variant: str) -> None:
    folder = captured(tmp_path, *VARIANTS[variant])
    rows = dissect(folder).splitlines()
    for inside in (
        "OPEN Message",
        "UPDATE Message",
        "443",
        "5140",
        "CREATE_CHILD_SA",
        "INFORMATIONAL",
    ):
        assert any(inside in row for row in rows), inside
    closed = [row for row in rows if " ESP " in row]
    assert not closed
    detail = dissect(folder, "-V", "-Y", "isakmp")
    assert detail.count("Decrypted Data") >= 12
    for word in ("Malformed", "incorrect", "Bad checksum"):
        assert word not in detail
    if "stack" in str(VARIANTS[variant]):
        told = dissect(folder, "-V", "-Y", "bgp")
        assert "MP_REACH_NLRI" in told
        assert "IPv6 Unicast" in told or "Address family identifier (AFI): IPv6 (2)" in told
        assert "Malformed" not in told
    if variant == "translated":
        assert "UDP Encapsulation of IPsec Packets" in dissect(folder, "-V", "-Y", "udpencap")


def test_certificates_come_in_fragments_and_the_dissector_puts_them_together(tmp_path) -> None:
    by_certificate = ("    bgp:", "    authentication: certificate\n    bgp:")
    detail = dissect(captured(tmp_path, by_certificate), "-V", "-Y", "isakmp")
    assert "IKEV2_FRAGMENTATION_SUPPORTED" in detail
    assert detail.count("Payload: Encrypted and Authenticated Fragment (53)") >= 4
    assert "Certificate (37)" in detail  # only the message that was put together has one
    for word in ("Malformed", "incorrect", "Bad checksum"):
        assert word not in detail


@pytest.mark.parametrize("variant", ["wide", "large", "middle", "aged"])
def test_integrity_of_cbc_packets_is_confirmed(tmp_path, variant: str) -> None:
    folder = captured(tmp_path, *VARIANTS[variant])
    detail = dissect(folder, "-V", "-Y", "esp")
    assert detail.count("[correct]") > 20
    assert "[incorrect" not in detail


def test_every_segment_of_a_session_with_a_password_is_signed(tmp_path) -> None:
    folder = captured(tmp_path, ("bgp: {hold-time: 6 s}", "bgp: {hold-time: 6 s, password: true}"))
    rows = dissect(
        folder,
        *("-o", "tcp.check_checksum:TRUE", "-Y", "tcp.port == 179", "-T", "fields"),
        *("-e", "tcp.options.md5.digest", "-e", "tcp.checksum.status"),
    ).splitlines()
    digests, sums = zip(*(row.split("\t") for row in rows), strict=True)
    assert len(set(digests)) > 20
    assert {len(digest.replace(":", "")) for digest in digests} == {32}
    assert set(sums) == {"1"}  # right
    assert "OPEN Message" in dissect(folder, "-V", "-Y", "bgp")
    assert not dissect(folder, "-Y", "tcp.port == 179 && _ws.malformed")


@pytest.mark.parametrize("signature", ["hmac-sha-1-96", "aes-128-cmac-96"])
def test_every_segment_has_the_option_of_tcp_ao(tmp_path, signature: str) -> None:
    how = f"bgp: {{hold-time: 6 s, password: true, signature: {signature}}}"
    folder = captured(tmp_path, ("bgp: {hold-time: 6 s}", how))
    fields = ("-T", "fields", "-e", "tcp.options.ao.mac", "-e", "tcp.options.ao.keyid")
    rows = dissect(folder, "-Y", "tcp.port == 179", *fields).splitlines()
    macs, numbers = zip(*(row.split("\t") for row in rows), strict=True)
    assert len(set(macs)) > 20
    assert {len(mac.replace(":", "")) for mac in macs} == {24}
    assert set(numbers) == {"1"}
    assert "UPDATE Message" in dissect(folder, "-V", "-Y", "bgp")
    assert not dissect(folder, "-Y", "tcp.port == 179 && _ws.malformed")


def test_bfd_from_end_to_end_is_known_as_that(tmp_path) -> None:
    folder = captured(
        tmp_path,
        (
            "        uplinks:\n          fibre",
            "        loopback: 10.250.0.1\n        uplinks:\n          fibre",
        ),
        (
            "bgp: {hold-time: 6 s}",
            "bgp: {hold-time: 6 s, site-end: loopback, cloud-end: gateway-subnet}\n    bfd: {interval: 300 ms, multiplier: 3}",
        ),
    )
    rows = dissect(
        folder, "-Y", "bfd && udp.dstport == 4784", "-T", "fields", "-e", "bfd.sta", "-e", "ip.src"
    ).splitlines()
    states = {row.split("\t")[0] for row in rows}
    assert {"0x01", "0x03"} <= states  # down, then up
    assert any("10.250.0.1" in row for row in rows)
    assert not dissect(folder, "-Y", "bfd && _ws.malformed")


def test_what_was_cut_before_encryption_is_put_together(tmp_path) -> None:
    settled = settled_of(swap(("    bgp:", "    oversize: fragment\n    bgp:"), text=MORE))
    world = VirtualWorld(settled)
    world.internet.capture = Capture(tmp_path / "x.pcap")
    world.keys_wanted = True
    world.run(8.0)
    desk, web = (host_of(settled.network(NetworkRef.of(n))) for n in ("quay/desks", "apps/web"))
    query = (
        world.sites["quay-gw"].hosts.get(desk).ask(1, web, 0, world.now, 1500, may_fragment=True)
    )
    world.run(2.0)
    assert query.answered_at
    KeyLog(tmp_path / "keys").write(world.routers["quay-gw"].key_events)
    detail = dissect(tmp_path, "-V", "-Y", "icmp && ip.fragments")
    assert detail.count("2 IPv4 Fragments (1480 bytes)") == 2
    assert "Malformed" not in detail


def test_each_pair_of_selectors_has_its_child_sa(tmp_path) -> None:
    folder = captured(
        tmp_path,
        (
            "    networks: [desks]",
            "    routing: static\n    selection: policy\n    child-sas: each-pair",
        ),
        ("bgp: {hold-time: 6 s}", "bgp: {}"),
    )
    detail = dissect(folder, "-V", "-Y", "isakmp.exchangetype == 36")
    assert detail.count("Payload: Traffic Selector - Initiator (44)") >= 2
    assert "10.20.8.0" in detail
    for word in ("Malformed", "incorrect", "Bad checksum"):
        assert word not in detail
