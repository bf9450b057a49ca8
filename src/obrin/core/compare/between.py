"""Compare two ends as they were entered, without a design.

The problem. Two people entered two ends. What has to be equal, or mirrored, or of one family, is
spread over two sheets with different titles, and spelled as each device spells it.

The idea. A table says for each row what the other end's row is: the same one (a suite, a
signature), its mirror image (own and remote), or one value for all (an AS number and the peer's).
Values are read before they are compared (`reading.py`), so spelling makes no difference.

The invariant. Each pair that stands at both ends is compared once. An address before and one behind
a translator are one uplink if the sheet that has the translator says so.

The cost. Linear in the rows.

Proven with two ends of drawn healthy designs (no differences) and with every mistake in every row:
`tests/core/test_compare.py`.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from obrin.core.compare.differences import ENDS, Difference
from obrin.core.compare.reading import ADDRESSES, BLANK, addresses, read

_MIRRORED = ("tunnels.", "routing.")
_ALIKE = ("authentication", "multihop", "tcp-signature", "address-families")
"""Rows that have to be the same at both ends."""
_OWN_AS, _PEER_AS = "gateway.bgp-as-number", "routing.peer-s-as-number."


def between(one: Mapping[str, str], two: Mapping[str, str]) -> list[Difference]:
    """Say where the second end is not the mirror image of the first; `meant` is what it would be
    by the first, `entered` what it has. Raises ValueError where the two have nothing in common."""
    pairs = list(_pairs(one, two))
    if not pairs:
        raise ValueError("the two have nothing in common: no tunnel and no suite of one name")
    found = []
    for name, other, what in pairs:
        first, second = one[name], two[other]
        readings = read(name, first), read(name, second)
        if BLANK in (readings[0].kind, readings[1].kind) and readings[0] == readings[1]:
            continue
        if readings[0] == readings[1] or _same_host(name, first, second):
            continue
        if any(_translates(ends, first, second) for ends in (one, two)):
            continue
        found.append(Difference(other, f"{name} / {other}", first, second.strip(), what))
    return found


def _pairs(one: Mapping[str, str], two: Mapping[str, str]) -> Iterator[tuple[str, str, str]]:
    """A name here, one there, and what it means when their values differ."""
    turned = {a: b for pair in ENDS for a, b in (pair, pair[::-1])}
    for name in one:
        row = name.split(".")[1] if "." in name else ""
        if name.startswith(_MIRRORED) and row in turned:
            other = name.replace(f".{row}.", f".{turned[row]}.", 1)
            if other in two:
                yield name, other, "the two ends do not mirror each other"
        elif name in two and (
            name.startswith("suite-") or (name.startswith(_MIRRORED) and row in _ALIKE)
        ):
            yield name, name, "it has to be the same at both ends"
    mine = {name.rpartition(".")[2] for name in one if name.startswith("tunnels.")}
    for name in two if _OWN_AS in one else ():
        if name.startswith(_PEER_AS) and name.rpartition(".")[2] in mine:
            yield _OWN_AS, name, "the peer's AS number is not the one that it has"
    theirs = {name.rpartition(".")[2] for name in two if name.startswith("tunnels.")}
    for name in one if _OWN_AS in two else ():
        if name.startswith(_PEER_AS) and name.rpartition(".")[2] in theirs:
            yield name, _OWN_AS, "it is not the peer's AS number that this end has"


def _translates(end: Mapping[str, str], first: str, second: str) -> bool:
    """Whether the two are one uplink before and behind its translator."""
    asked = {held.address for text in (first, second) for held in addresses(text.lower())}
    uplinks = (text for name, text in end.items() if name.startswith("gateway.uplink-"))
    return any(asked <= {held.address for held in addresses(text.lower())} for text in uplinks)


def _same_host(name: str, first: str, second: str) -> bool:
    """Inside addresses stand with their block at one end and without it at the other."""
    if "inside-address" not in name:
        return False
    held = [frozenset(h.address for h in addresses(text.lower())) for text in (first, second)]
    return held[0] == held[1] and read(name, first).kind == ADDRESSES
