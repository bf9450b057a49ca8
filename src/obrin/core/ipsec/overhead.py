"""What ESP adds to a packet, to the byte, and what that leaves for the packets inside.

    | outer IP | [UDP] | SPI, sequence | IV | inner packet, padding, pad length, next | ICV |

Padding fills the encrypted part to the cipher's block, and always to four bytes (RFC 4303
section 2.4). UDP encapsulation adds eight bytes (RFC 3948). Extended sequence numbers cost nothing:
their upper half is not sent (RFC 4303 section 2.2.1).
"""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.ipsec.registry import Algorithm
from obrin.core.ipsec.suite import EspSuite

IPV4_HEADER, IPV6_HEADER, TCP_HEADER, UDP_HEADER = 20, 40, 20, 8
ESP_HEADER, TRAILER = 8, 2
LEAST_IPV4_MTU, LEAST_IPV6_MTU = 576, 1280
"""What every host takes (RFC 1122 section 3.3.2), and every link of IPv6 carries (RFC 8200 section
5)."""

_ICV = {
    "HMAC-MD5-96": 12,
    "HMAC-SHA1-96": 12,
    "DES-MAC": 8,
    "KPDK-MD5": 16,
    "AES-XCBC-96": 12,
    "AES-CMAC-96": 12,
    "HMAC-SHA2-256-128": 16,
    "HMAC-SHA2-384-192": 24,
    "HMAC-SHA2-512-256": 32,
}
_IV_AND_BLOCK = {
    "AES-CBC": (16, 16),
    "CAMELLIA-CBC": (16, 16),
    "AES-CTR": (8, 4),
    "CAMELLIA-CTR": (8, 4),
    "NULL": (0, 4),
    "DES-IV32": (4, 8),
}


@dataclass(frozen=True, slots=True)
class EspShape:
    """Sizes in bytes that a suite's algorithms bring with them."""

    iv: int
    block: int
    icv: int

    @staticmethod
    def of(esp: EspSuite) -> EspShape:
        return EspShape.made_by(esp.encryption, esp.integrity)

    @staticmethod
    def made_by(cipher: Algorithm, integrity: Algorithm | None) -> EspShape:
        """Ciphers of old have blocks, and so IVs, of eight bytes (RFC 2451)."""
        if cipher.combined:
            return EspShape(8, 4, _combined_icv(cipher))
        family = cipher.name.removesuffix(f"-{cipher.key_bits}")
        iv, block = _IV_AND_BLOCK.get(family, (8, 8))
        return EspShape(iv, block, _ICV[integrity.name] if integrity is not None else 0)


def _combined_icv(cipher: Algorithm) -> int:
    """The ICV's length stands in the names of AES-GCM and AES-CCM (RFC 4106, RFC 4309)."""
    return 16 if cipher.name.startswith("CHACHA20") else int(cipher.name.split("-")[2])


@dataclass(frozen=True, slots=True)
class Wrapping:
    """How a tunnel wraps packets. `outer_bits` is 32 or 128; `mtu` of the path, in bytes."""

    shape: EspShape
    outer_bits: int = 32
    encapsulated: bool = False
    mtu: int = 1500

    @property
    def fixed(self) -> int:
        """Bytes around the encrypted part."""
        outer = IPV4_HEADER if self.outer_bits == 32 else IPV6_HEADER
        udp = UDP_HEADER if self.encapsulated else 0
        return outer + udp + ESP_HEADER + self.shape.iv + self.shape.icv

    def outer_size(self, inner: int) -> int:
        """Bytes on the wire for an inner packet of so many bytes."""
        block = max(self.shape.block, 4)
        return self.fixed + -(-(inner + TRAILER) // block) * block

    def inner_mtu(self) -> int:
        """The largest inner packet that crosses the path whole; 0 when none does."""
        block = max(self.shape.block, 4)
        return max((self.mtu - self.fixed) // block * block - TRAILER, 0)

    def mss(self, inner_bits: int) -> int:
        """The largest TCP segment inside (RFC 9293 section 3.7.1); 0 if the family cannot cross."""
        mtu = self.inner_mtu()
        if inner_bits == 128 and mtu < LEAST_IPV6_MTU:
            return 0
        header = IPV4_HEADER if inner_bits == 32 else IPV6_HEADER
        return max(mtu - header - TCP_HEADER, 0)

    def efficiency(self, inner_bits: int = 32) -> float:
        """The share of payload in full TCP segments on the wire, from 0 to 1."""
        payload = self.mss(inner_bits)
        return payload / self.outer_size(self.inner_mtu()) if payload else 0.0
