"""The virtual practice world with what tests ask of it."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from pathlib import Path

from obrin.core.address.prefix import Address
from obrin.core.handover.secrets import Secrets
from obrin.core.handover.standard.keys import CertificateFiles
from obrin.core.settled.model import Settled
from obrin.device.router.router import Router
from obrin.live.practice.cloud.names import cloud_name
from obrin.live.rehearse import virtual
from obrin.live.secrets.authority import AuthorityStore
from obrin.live.secrets.file import Passphrase, SecretFile
from obrin.live.secrets.material import certificate_files, lives_of
from obrin.wire.host import Host, Query
from tests.authority import NOW


def keys_of(settled: Settled) -> dict[str, str]:
    """By label."""
    return {s.label: f"key-of-{s.label}-1234567890" for s in settled.shared_secrets()}


def certificates_of(settled: Settled) -> dict[str, CertificateFiles]:
    """From an authority of its own, as the program makes them."""
    if not settled.certified():
        return {}
    with tempfile.TemporaryDirectory() as folder:
        file = SecretFile(Path(folder) / "certificates.json", Passphrase(lambda: ""))
        store = AuthorityStore(file)
        store.fill(settled.name, settled.certified(), lives_of(settled), NOW)
        return certificate_files(store.read(settled.name), settled, NOW)


class VirtualWorld(virtual.VirtualWorld):
    """With keys made up, at a day in the past."""

    def __init__(
        self,
        settled: Settled,
        keys: dict[str, str] | None = None,
        certificates: dict[str, CertificateFiles] | None = None,
    ) -> None:
        if certificates is None:
            certificates = certificates_of(settled)
        secrets = Secrets(keys or keys_of(settled), certificates)
        super().__init__(settled, secrets, start=NOW)

    def host(self, address: Address) -> Host:
        """A host at one of the sites."""
        found = (lan.hosts.get(address) for lan in self.lans.values())
        return next(host for host in found if host is not None)

    def ask(
        self,
        source: Address,
        destination: Address,
        protocol: int,
        port: int,
        *,
        at_cloud: bool = True,
    ) -> Query:
        """A question that has a second to be answered; both sides may have the address."""
        found = [hosts.get(source) for hosts in self.cloud.hosts.values()]
        host = next((h for h in found if h is not None), None) if at_cloud else None
        return self.asked(host or self.host(source), protocol, destination, port, 1.0)

    def longest_gap(self, source: Address, destination: Address, seconds: float) -> float:
        """Echo requests every 50 ms; the longest time between two answers."""
        host = self.host(source)
        last, gap, until = self.now, 0.0, self.now + seconds
        while self.now < until:
            query = host.ask(1, destination, 0, self.now)
            self.move()
            if query.answered_at is not None:
                gap, last = max(gap, self.now - last), self.now
            host.forget(query)
            self.run(0.05)
        return max(gap, self.now - last - 0.05)

    def change_to(
        self, settled: Settled, tick: Callable[[], None], keys: dict[str, str] | None = None
    ) -> None:
        """Connect again with another design."""
        self.change(settled, tick, Secrets(keys or keys_of(settled), {}))

    def instance(self, number: int) -> Router:
        name = next(iter(self.settled.clouds))
        return self.cloud.instances[f"{name}-{number}"].router


def cloud_via(router: Router, destination: Address) -> str | None:
    """The tunnel that an instance uses, by the cloud's name for it."""
    found = router.table.match(destination)
    return None if found is None or "." not in found[1].via else found[1].via


__all__ = ["VirtualWorld", "cloud_name", "cloud_via"]
