"""The configuration of one end of a tunnel: itself and its peer."""

from __future__ import annotations

from dataclasses import dataclass, field

from obrin.core.address.prefix import format_address, parse_address
from obrin.core.errors import AddressError
from obrin.core.ipsec.liveness import Liveness
from obrin.core.ipsec.selectors import ANY_IPV4, Selector
from obrin.core.ipsec.suite import Suite
from obrin.wire.ike.codec.numbers import IdKind
from obrin.wire.ike.crypto.credentials import Credential


@dataclass(frozen=True, slots=True)
class Identity:
    """An identification as it stands on the wire (RFC 7296 section 3.5)."""

    kind: int
    data: bytes

    @classmethod
    def of(cls, text: str) -> Identity:
        """An address becomes ID_IPV4_ADDR or ID_IPV6_ADDR, any other name ID_FQDN."""
        try:
            bits, value = parse_address(text)
        except AddressError:
            return cls(IdKind.FQDN, text.encode())
        if bits == 32:
            return cls(IdKind.IPV4_ADDR, value.to_bytes(4, "big"))
        return cls(IdKind.IPV6_ADDR, value.to_bytes(16, "big"))

    def __str__(self) -> str:
        if self.kind == IdKind.IPV4_ADDR and len(self.data) == 4:
            return format_address(int.from_bytes(self.data, "big"))
        if self.kind == IdKind.IPV6_ADDR and len(self.data) == 16:
            return format_address(int.from_bytes(self.data, "big"), 128)
        return self.data.decode("utf-8", "backslashreplace")


@dataclass(frozen=True, slots=True, kw_only=True)
class PeerConfig:
    """One tunnel, seen from one end. `suites` are in order of preference.

    It proves who it is, and wants the peer to, by `credential` where there is one, else by `key`.
    `reauthenticate`: where an IKE SA would be rekeyed, it is deleted and begun anew instead
    (RFC 7296 section 2.8.3). `each_pair`: a child SA holds one local and one remote selector, and
    there are as many as pairs.
    """

    name: str
    initiate: bool
    local_address: str
    remote_address: str
    local_identity: Identity
    remote_identity: Identity
    suites: tuple[Suite, ...]
    key: bytes = field(default=b"", repr=False)
    credential: Credential | None = None
    liveness: Liveness = field(default_factory=Liveness)
    local_selectors: tuple[Selector, ...] = (ANY_IPV4,)
    remote_selectors: tuple[Selector, ...] = (ANY_IPV4,)
    always_encapsulate: bool = False
    fragmentation: bool = True
    restart_delay: float = 1.0
    reauthenticate: bool = False
    each_pair: bool = False
