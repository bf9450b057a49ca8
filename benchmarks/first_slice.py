"""Start-up, design loading, the IKE handshake and ESP, each against a baseline in the same run.

python -m benchmarks.first_slice            all of them, a Markdown table on stdout
python -m benchmarks.first_slice esp ike    some of them
"""

from __future__ import annotations

import os
import subprocess
import sys
import warnings
from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import partial

from benchmarks.designs import many_sites
from benchmarks.measure import Row, interleaved, print_rows


def start_up() -> Iterator[Row]:
    """`obrin --help` against a bare click group's, as whole processes."""
    bare = (
        "import click\n"
        "@click.group()\n"
        "@click.version_option('1')\n"
        "def main(): 'A bare group.'\n"
        "@main.command()\n"
        "def one(): 'A command.'\n"
        "main(prog_name='bare')"
    )
    completing = {"COMP_WORDS": "obrin ", "COMP_CWORD": "1"}
    completing |= dict.fromkeys(("_OBRIN_COMPLETE", "_BARE_COMPLETE"), "bash_complete")

    def run(code: str, option: str) -> Callable[[], object]:
        command, env = [sys.executable, "-c", code, option], dict(os.environ)
        if not option:
            command, env = command[:-1], env | completing
        return lambda: subprocess.run(command, stdout=subprocess.DEVNULL, check=True, env=env)

    named = "import sys; sys.argv[0] = 'obrin'\nfrom obrin.cli.entry import run; run()"
    rows = {"--help": "`--help`", "--version": "`--version`", "": "a command's name completed"}
    for option, what in rows.items():
        a, b, ratio = interleaved(run(named, option), run(bare, option), rounds=25)
        yield (
            what,
            "a bare click group's",
            f"{a * 1e3:.0f} ms",
            f"{b * 1e3:.0f} ms",
            f"{1 / ratio:.2f} times the time (target at most 1.3)",
        )


def loading() -> Iterator[Row]:
    """A design of 2,000 sites, loaded and validated, against the C loader and the same models."""
    import yaml

    from obrin.core.design.document import load_design
    from obrin.core.design.model import Design
    from obrin.live import warm

    text = many_sites(2000)

    def theirs() -> object:
        return Design.model_validate(yaml.load(text, Loader=yaml.CSafeLoader))

    def with_position() -> object:
        """As for a message: the first position asked parses once more, for all of them."""
        document = load_design(text, "design.yaml")
        return document.locator.where(("links", "link-1999", "tunnels", "second", "uplink"))

    def kept() -> object:
        return warm.get("design", text)

    load_kept = load_design(text, "design.yaml").design
    warm.keep("design", load_kept, text)
    assert kept() == load_kept
    baseline = "PyYAML's C loader, then the same pydantic models"
    for what, ours in (
        ("load and validate 2,000 sites", lambda: load_design(text, "design.yaml")),
        ("the same, and positions looked up", with_position),
        ("the same, kept since the last command", kept),
    ):
        a, b, ratio = interleaved(ours, theirs, rounds=9)
        words = f"{ratio:.1f} times as fast (target {30 if ours is kept else 2})"
        yield (what, baseline, f"{a:.2f} s", f"{b:.2f} s", words)


def handshake() -> Iterator[Row]:
    """IKE_SA_INIT and IKE_AUTH, both ends, against the bare cryptography that they must do."""
    from cryptography.hazmat.primitives.asymmetric import dh
    from cryptography.hazmat.primitives.asymmetric.x25519 import (
        X25519PrivateKey,
        X25519PublicKey,
    )
    from cryptography.hazmat.primitives.ciphers.aead import AESGCM
    from cryptography.hazmat.primitives.hashes import SHA1, SHA256, Hash
    from cryptography.hazmat.primitives.hmac import HMAC

    from obrin.core.ipsec.registry import Kind, by_name
    from obrin.core.ipsec.suite import SHIPPED, Suite
    from obrin.wire.ike.config import Identity, PeerConfig
    from obrin.wire.ike.crypto.modp import prime_of
    from obrin.wire.ike.endpoint import Endpoint

    site, cloud = "192.0.2.10", "203.0.113.1"
    key = b"k" * 32
    modern = SHIPPED["modern"]
    group = by_name(Kind.GROUP, "14")
    old = replace(modern, name="old", ike=replace(modern.ike, group=group))

    def config(suite: Suite, one: str, two: str, *, initiate: bool) -> PeerConfig:
        return PeerConfig(
            name="t",
            initiate=initiate,
            local_address=one,
            remote_address=two,
            local_identity=Identity.of(one),
            remote_identity=Identity.of(two),
            suites=(suite,),
            key=key,
        )

    def ours(suite: Suite) -> None:
        one = config(suite, site, cloud, initiate=True)
        two = config(suite, cloud, site, initiate=False)
        a, b = Endpoint([one], os.urandom), Endpoint([two], os.urandom)
        a.start(0.0)
        for _ in range(2):
            for d in a.datagrams():
                b.receive(d.data, d.destination, d.source, 0.0)
            b.handle_timer(0.0)
            for d in b.datagrams():
                a.receive(d.data, d.destination, d.source, 0.0)
        if not (a.tunnels["t"].outbound and b.tunnels["t"].outbound):
            raise RuntimeError("the handshake failed")

    def mac(mac_key: bytes, data: bytes) -> bytes:
        made = HMAC(mac_key, SHA256())
        made.update(data)
        return made.finalize()

    def expand(seed_key: bytes, seed: bytes, blocks: int) -> None:
        base = HMAC(seed_key, SHA256())
        block = b""
        for counter in range(1, blocks + 1):
            copy = base.copy()
            copy.update(block + seed + bytes((counter,)))
            block = copy.finalize()

    message, nonces = b"m" * 230, b"n" * 80

    def curve() -> list[bytes]:
        keys = [X25519PrivateKey.from_private_bytes(os.urandom(32)) for _ in range(2)]
        public = [k.public_key().public_bytes_raw() for k in keys]
        others = map(X25519PublicKey.from_public_bytes, reversed(public))
        return [k.exchange(p) for k, p in zip(keys, others, strict=True)]

    warnings.filterwarnings("ignore", message="Diffie-Hellman over finite fields")
    parameters = dh.DHParameterNumbers(prime_of(14), 2).parameters()

    def primes() -> list[bytes]:
        keys = [parameters.generate_private_key() for _ in range(2)]
        return [k.exchange(o.public_key()) for k, o in zip(keys, reversed(keys), strict=True)]

    def bare(agreed: Callable[[], list[bytes]]) -> None:
        for shared in agreed():
            seed = mac(nonces[:64], shared)
            expand(seed, nonces, 6)  # SK_d, 2 SK_e with salts, 2 SK_p: 168 bytes
            padded = mac(key, b"Key Pad for IKEv2")
            for _ in range(2):  # one's own proof, and the other's to compare with
                mac(padded, message + mac(seed, b"identity"))
            for _ in range(4):  # NAT detection: two sent, two compared
                digest = Hash(SHA1())
                digest.update(b"s" * 22)
                digest.finalize()
            expand(seed, nonces[:64], 3)  # 72 bytes for the child's two directions
            send, receive = AESGCM(seed), AESGCM(seed)
            sealed = send.encrypt(b"i" * 12, message, b"a" * 32)
            receive.decrypt(b"i" * 12, sealed, b"a" * 32)
            for _ in range(2):
                AESGCM(seed)  # the child's two directions

    for name, suite, agreed, target in (
        ("X25519", modern, curve, 0.40),
        ("MODP-2048", old, primes, 0.45),
    ):
        mine, least = partial(ours, suite), partial(bare, agreed)
        a, b, ratio = interleaved(mine, least, rounds=60, repeat=20 if suite is modern else 4)
        what = f"IKE handshake, PSK and {name}, both ends"
        words = f"{ratio:.2f} of it (target {target:.2f})"
        yield (what, "the bare cryptography in it", f"{a * 1e6:.0f} us", f"{b * 1e6:.0f} us", words)


def esp() -> Iterator[Row]:
    """Seal and open at 1,400 bytes, counters and window on, against the bare AES-256-GCM call."""
    from cryptography.hazmat.primitives.ciphers.aead import AESGCM

    from obrin.core.ipsec.registry import Kind, by_name
    from obrin.wire.esp import AeadOpener, AeadSealer, make_aead

    key, packet, count = os.urandom(36), os.urandom(1400), 400
    aead, nonce, aad = AESGCM(key[:32]), os.urandom(12), b"a" * 12
    own = make_aead(by_name(Kind.ENCRYPTION, "AES-GCM-16-256"), key)
    sealed_bare = aead.encrypt(nonce, packet + b"\x01\x02\x02\x04", aad)
    for esn in (True, False):
        sealer = AeadSealer(7, *own, esn=esn)

        def seal(sealer: AeadSealer = sealer) -> None:
            for _ in range(count):
                sealer.seal(packet)

        def bare_seal() -> None:
            for _ in range(count):
                aead.encrypt(nonce, packet, aad)

        fresh = AeadSealer(7, *own, esn=esn)
        batch = [fresh.seal(packet) for _ in range(count)]

        def open_all(esn: bool = esn, batch: list[bytes] = batch) -> None:
            opener = AeadOpener(7, *own, esn=esn)
            for data in batch:
                opener.open(data)

        def bare_open() -> None:
            for _ in range(count):
                aead.decrypt(nonce, sealed_bare, aad)

        words = "with ESN" if esn else "32-bit numbers"
        for name, ours, bare, target in (
            ("seal", seal, bare_seal, 0.43),
            ("open", open_all, bare_open, 0.35),
        ):
            a, b, ratio = interleaved(ours, bare, rounds=80)
            yield (
                f"ESP {name}, 1,400 bytes, {words}",
                "bare AES-256-GCM call",
                f"{a / count * 1e6:.2f} us",
                f"{b / count * 1e6:.2f} us",
                f"{ratio:.2f} of it (target {target})",
            )


ALL = {"help": start_up, "load": loading, "ike": handshake, "esp": esp}


def main() -> None:
    warnings.simplefilter("ignore")
    print_rows(row for name in sys.argv[1:] or ALL for row in ALL[name]())


if __name__ == "__main__":
    main()
