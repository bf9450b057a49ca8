"""Numbers as text, exactly: all their digits, never an exponent.

Python's own short form (`:g`) has six digits, so that a lifetime of 1,234,567 s becomes 1.23457e+06
s: whoever enters that enters another one.
"""

from __future__ import annotations

from decimal import Decimal

NOISE = 9
"""Decimals beyond which a computed number is only what its computing left over."""


def plain(number: float) -> str:
    """Write it to a thousand-millionth, without zeros at the end; `inf` and `nan` are called so."""
    return exact(round(number, NOISE))


def exact(number: float) -> str:
    """The shortest text that is the same number again."""
    value = Decimal(repr(float(number)))
    if not value.is_finite():
        return str(float(number))
    text = f"{value:f}"
    return (text.rstrip("0").rstrip(".") if "." in text else text) if value else "0"
