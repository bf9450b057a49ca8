"""IPv6 prefix translation that leaves the sums over packets as they are (RFC 6296).

What the new prefix changes in a one's complement sum, one 16-bit word behind it takes back: the
fourth of the address where the prefix leaves it free (section 3.4), else the first behind it that
is not all ones (section 3.5). So no checksum has to be known, whatever protocol has it.
"""

from __future__ import annotations

from obrin.core.address.prefix import Address, Prefix

_ONES = 0xFFFF
_SUBNET_WORD, _LAST_WORD = 3, 7


def translated(address: Address, old: Prefix, new: Prefix) -> Address:
    """An address of one prefix as the other side knows it; both are as long. The way back is the
    same with the prefixes exchanged."""
    value = address.value - old.value + new.value
    first = _SUBNET_WORD if old.length <= 48 else -(-old.length // 16)
    for word in range(first, _SUBNET_WORD + 1 if old.length <= 48 else _LAST_WORD + 1):
        shift = 16 * (_LAST_WORD - word)
        held = value >> shift & _ONES
        if held == _ONES:
            continue
        adjusted = (held + _sum(old) - _sum(new)) % _ONES
        return Address(128, value + ((adjusted - held) << shift))
    return Address(128, value)  # nothing takes it back: a sum over it has to be brought up to date


def _sum(prefix: Prefix) -> int:
    """Sum of the prefix's 16-bit words, modulo 65535."""
    return prefix.value % _ONES
