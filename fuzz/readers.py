"""Every reader with good samples to damage and the one error that it may raise."""

from __future__ import annotations

import importlib.resources
import random
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime

from cryptography.hazmat.primitives.serialization import Encoding

from obrin.core.address.prefix import Address, parse_address, parse_prefix
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.design.document import load_design
from obrin.core.design.offering_file import format_offering, parse_offering
from obrin.core.errors import DesignError
from obrin.core.gather.ranges import gather_ranges
from obrin.core.gather.rows import read_csv_rows, read_table
from obrin.core.gather.template import fill_template
from obrin.core.ipsec.registry import Kind, by_name
from obrin.core.ipsec.suite import SHIPPED
from obrin.core.pki.chain import Trust, judge
from obrin.core.pki.read import Bundle, PkiError, as_pem, as_pkcs12, read_bundle
from obrin.core.routing.path import Path
from obrin.core.settle.choices import Choice, format_choices, parse_choices
from obrin.live.secrets.authority import Authority, Lives
from obrin.wire.bfd import BfdError, Control, decode_control
from obrin.wire.bgp.attributes import Attributes
from obrin.wire.bgp.errors import BgpError
from obrin.wire.bgp.messages import Keepalive, Notification, Open, Update, decode_message
from obrin.wire.bgp.multiprotocol import Reach
from obrin.wire.bgp.restart import Restart
from obrin.wire.capture import CaptureError, decode_capture, encode_file_header, encode_record
from obrin.wire.errors import PacketError
from obrin.wire.esp import AeadOpener, AeadSealer, EspError, make_aead
from obrin.wire.icmp import Icmp, decode_icmp, read_too_big, too_big
from obrin.wire.ike.codec.errors import IkeFormatError
from obrin.wire.ike.codec.message import HEADER_SIZE, decode_header
from obrin.wire.ike.codec.payloads import decode_chain
from obrin.wire.ike.config import Identity, PeerConfig
from obrin.wire.ike.endpoint import Endpoint
from obrin.wire.mrt import MrtError, MrtPeer, read_dump, write_dump
from obrin.wire.packet import TCP, UDP, Packet, Udp, decode_packet, decode_udp
from obrin.wire.tcp_segment import ACK, Segment, decode_segment

SITE, CLOUD = "192.0.2.10", "203.0.113.1"


@dataclass(frozen=True, slots=True)
class Reader:
    samples: list[bytes]
    read: Callable[[bytes], object]
    error: type[Exception]


def _handshake() -> tuple[Endpoint, Endpoint, list[bytes]]:
    """Two endpoints of an established tunnel, and the messages that made it."""
    rng = random.Random(5).randbytes
    suites = (SHIPPED["modern"],)
    ends = [(SITE, CLOUD, True), (CLOUD, SITE, False)]
    one, two = (
        Endpoint(
            [
                PeerConfig(
                    name="t",
                    initiate=first,
                    local_address=a,
                    remote_address=b,
                    local_identity=Identity.of(a),
                    remote_identity=Identity.of(b),
                    suites=suites,
                    key=b"k" * 32,
                )
            ],
            rng,
        )
        for a, b, first in ends
    )
    seen = []
    one.start(0.0)
    for _ in range(2):
        for sender, receiver in ((one, two), (two, one)):
            for d in sender.datagrams():
                seen.append(d.data)
                receiver.receive(d.data, d.destination, d.source, 0.0)
            receiver.handle_timer(0.0)
    return one, two, seen


def _read_ike(data: bytes) -> None:
    header = decode_header(data[:24] + len(data).to_bytes(4, "big") + data[28:])
    decode_chain(header.next_payload, data, HEADER_SIZE)


def _engine() -> Callable[[bytes], None]:
    """A living responder: whatever arrives, it raises nothing and stays established."""
    _, two, _ = _handshake()

    def read(data: bytes) -> None:
        two.receive(data, (CLOUD, 500), (SITE, 500), 1.0)
        two.receive(data, (CLOUD, 4500), (SITE, 4500), 1.0)
        two.handle_timer(1.0)
        two.datagrams()
        two.events()
        if not two.tunnels["t"].established:
            raise AssertionError("a message that is not authentic ended the tunnel")

    return read


def _esp() -> tuple[list[bytes], Callable[[bytes], object]]:
    cipher = by_name(Kind.ENCRYPTION, "AES-GCM-16-256")
    sealer = AeadSealer(7, *make_aead(cipher, bytes(36)), esn=True)
    opener = AeadOpener(7, *make_aead(cipher, bytes(36)), esn=True)
    return [sealer.seal(bytes(n)) for n in (0, 20, 100)], opener.open


A, B = parse_address("192.0.2.1"), parse_address("192.0.2.2")
A6, B6 = parse_address("2001:db8::1"), parse_address("2001:db8::2")


def _too_big(source: Address, destination: Address) -> bytes:
    packet = Packet(source, destination, UDP, Udp(1, 2, bytes(1400)).encode(source, destination))
    answer = too_big(packet, 1300, destination)
    if answer is None:
        raise AssertionError("there is no answer")
    return answer.encode()


def _packets(data: bytes) -> None:
    packet = decode_packet(data)
    for decode in (decode_udp, decode_segment):
        decode(packet)
    read_too_big(packet, decode_icmp(packet))


def _design(data: bytes) -> None:
    load_design(data.decode("utf-8", "replace"), "fuzz.yaml")


def _settled(data: bytes) -> None:
    parse_choices(data.decode("utf-8", "replace"), "fuzz.settled.yaml")


_UPDATE = Update(
    (parse_prefix("10.0.0.0/8"),),
    Attributes(Path(0x0A000001, (64512, 4200000001), 0, 5, 100, (1,))),
    (parse_prefix("192.0.2.0/24"), parse_prefix("0.0.0.0/0")),
)
_UPDATE6 = Update(
    (parse_prefix("2001:db8:9::/48"),),
    Attributes(Path(A6.value, (64512,))),
    reach=Reach(A6, (parse_prefix("2001:db8::/48"), parse_prefix("::/0"))),
)
_DESIGNS = [
    importlib.resources.files("obrin").joinpath("demo", name).read_bytes()
    for name in ("design.yaml", "draft.yaml")
]
_CHOICES = {"a.b": Choice("10.0.0.0/8", "why"), "c": Choice(["x"], "so"), "d": Choice(7, "")}


def _table(data: bytes) -> None:
    table = read_table(data.decode("utf-8", "replace"), "fuzz.csv", {})
    gather_ranges(table, frozenset())


def _template(data: bytes) -> None:
    """A table against the demo's template; both may be damaged by turns."""
    text = data.decode("utf-8", "replace")
    if "{site}" in text:
        fill_template(text, "fuzz.yaml", _KIOSKS, "kiosks.csv")
    else:
        fill_template(_TEMPLATE, "kiosk.yaml", read_csv_rows(text, "fuzz.csv"), "fuzz.csv")


_demo = importlib.resources.files("obrin").joinpath("demo")
_TEMPLATE = _demo.joinpath("kiosk.yaml").read_text(encoding="utf-8")
_TABLES = [_demo.joinpath(name).read_bytes() for name in ("partners.csv", "kiosks.csv")]
_KIOSKS = read_csv_rows(_TABLES[1].decode(), "kiosks.csv")


def _mrt() -> list[bytes]:
    peers = [MrtPeer(A, 64512, 1), MrtPeer(A6, 4200000001, 2)]
    paths = [(0, Path(1, (64512,))), (1, Path(2, (4200000001, 64513)))]
    prefixes = [parse_prefix(text) for text in ("10.1.0.0/16", "10.2.3.128/25", "2001:db8::/48")]
    return [write_dump(1, "fuzz", peers, [(p, paths) for p in prefixes], 0)]


def _certificates() -> tuple[list[bytes], Callable[[bytes], object]]:
    """Chains, keys and bundles; what can be read is judged as well."""
    now = datetime(2026, 11, 23, tzinfo=UTC)
    authority = Authority(name="fuzz")
    authority.found(Lives(), now)
    issued = authority.issue("gateway", ["192.0.2.10"], Lives(), now)
    bundle = Bundle(authority.chain(issued), issued.key)
    trust = Trust(tuple(authority.believed(now)))
    samples = [
        as_pem(bundle.certificates).encode(),
        as_pkcs12("g", bundle, "p"),
        issued.certificate.public_bytes(Encoding.DER),
    ]

    def read(data: bytes) -> object:
        return judge(read_bundle(data, "p", "fuzz").certificates, trust, now, "192.0.2.10")

    return samples, read


READERS = {
    "ike": Reader(_handshake()[2], _read_ike, IkeFormatError),
    "ike-engine": Reader(_handshake()[2], _engine(), IkeFormatError),
    "esp": Reader(*_esp(), EspError),
    "bgp": Reader(
        [
            m.encode()
            for m in (
                Open(
                    asn=4200000001,
                    hold=90,
                    router_id=1,
                    families=(32, 128),
                    restart=Restart(60, ((32, True),)),
                ),
                Keepalive(),
                Notification(6, 2),
                _UPDATE,
                _UPDATE6,
            )
        ],
        decode_message,
        BgpError,
    ),
    "packets": Reader(
        [
            Packet(A, B, UDP, Udp(1, 2, b"data").encode(A, B)).encode(),
            Packet(A6, B6, UDP, Udp(1, 2, b"data").encode(A6, B6)).encode(),
            Packet(
                A,
                B,
                TCP,
                Segment(
                    source_port=1,
                    destination_port=2,
                    sequence=3,
                    acknowledgement=4,
                    flags=ACK,
                    window=5,
                    data=b"x",
                    mss=1300,
                ).encode(A, B),
            ).encode(),
            Icmp(8, 0, 1, 2, b"echo").packet(A, B).encode(),
            Icmp(128, 0, 1, 2, b"echo").packet(A6, B6).encode(),
            *(_too_big(a, b) for a, b in ((A, B), (A6, B6))),
        ],
        _packets,
        PacketError,
    ),
    "capture": Reader(
        [encode_file_header() + encode_record(1.5, b"packet") * 3],
        lambda data: list(decode_capture(data)),
        CaptureError,
    ),
    "bfd": Reader(
        [Control(3, 1, True, False, 3, 7, 9, 300000, 300000).encode()], decode_control, BfdError
    ),
    "mrt": Reader(_mrt(), read_dump, MrtError),
    "certificates": Reader(*_certificates(), PkiError),
    "design": Reader(_DESIGNS, _design, DesignError),
    "offering": Reader(
        [format_offering(PRACTICE_CLOUD).encode()],
        lambda data: parse_offering(data.decode("utf-8", "replace"), "fuzz.yaml"),
        DesignError,
    ),
    "table": Reader([*_TABLES, b'[{"prefix": "10.1.0.0/16", "name": "x"}]'], _table, DesignError),
    "template": Reader([_TEMPLATE.encode(), _TABLES[1]], _template, DesignError),
    "settled": Reader([format_choices(_CHOICES).encode()], _settled, DesignError),
}
