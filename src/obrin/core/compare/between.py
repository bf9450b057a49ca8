"""Compare two ends as they were entered, without a design.

The problem. Two people entered two ends. What has to be equal, or mirrored, or the opposite, is
spread over two sheets with different titles, and spelled as each device spells it.

The idea. Tables say what each row has to be at the other end: the mirror image (own and remote),
the same, or the opposite. All other rows are an end's own and are not compared. Suites are paired
by the tunnels that use them, since each end may have named its own. Values are read before they are
compared (`reading.py`), so spelling makes no difference.

The invariant. Every value that has a counterpart at the other end is compared or listed with the
reason why it was not: it stands at one end only, nothing is entered there, or it cannot be read.
Nothing that was not compared counts as equal.

The cost. Linear in the rows.

Proven with two ends of drawn healthy designs (no differences, nothing left out but keys) and with
every mistake in every row: `tests/core/test_between.py`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from obrin.core.compare.comparison import Comparison, Left
from obrin.core.compare.differences import ENDS, SECRET_ROW, Difference
from obrin.core.compare.reading import ADDRESSES, BLANK, addresses, read

SAME = "it has to be the same at both ends"
_SIZES = "large packets pass in one direction only"
_GROUPS = ("tunnels", "routing", "circuits")
_SAME = {
    "tunnels": {
        "authentication": SAME,
        "bfd": "BFD runs at one end only, or with other times: a dead path is noticed late or not",
        "mtu-inside-the-tunnel": _SIZES,
        "largest-tcp-segment-mss-both-directions": _SIZES,
        "larger-packets": "large packets are treated differently in each direction",
        "child-sas": SAME,
    },
    "routing": {
        "multihop": "the end without it drops the other's packets: BGP stays idle",
        "tcp-signature": SAME,
        "address-families": "routes of a family that one end lacks are not exchanged",
        "hold-time": "both ends use the lower one (RFC 4271 section 4.2)",
    },
    "circuits": {
        "mtu-in-bytes": _SIZES,
        "routes-by": SAME,
        "hold-time-in-s": "both ends use the lower one (RFC 4271 section 4.2)",
        "bfd": "BFD runs at one end only, or with other times: a dead line is noticed late or not",
    },
}
"""Rows that are the same at both ends, with what it means where they are not."""
_TURNED = {a: b for pair in ENDS for a, b in (pair, pair[::-1])}
_TURNED_OF = {
    "circuits": {
        "own-address-on-it": "address-of-the-far-end",
        "address-of-the-far-end": "own-address-on-it",
        "own-as-number": "peer-s-as-number",
        "peer-s-as-number": "own-as-number",
        "announce-to-it": "accept-from-it",
        "accept-from-it": "announce-to-it",
    }
}
_OPPOSITE = ("initiator", "session-opened-by")
_HERE, _THERE = ("this gateway", "this end"), ("the remote end", "the other end")
_SUITE, _OWN_AS, _PEER_AS = "suite", "gateway.bgp-as-number", "peer-s-as-number"
_PRINT = re.compile(r"(?:[a-z0-9]{4}-){3}[a-z0-9]{4}")
"""A fingerprint of a key, as `keys compare` prints it."""
MIRROR = "the two ends do not mirror each other"
AS = "one end has another AS number than its peer expects"
KEY = "the two ends have different keys: IKE_AUTH fails with AUTHENTICATION_FAILED"
NO_PRINT = "no fingerprint of the key is entered at both ends ('obrin keys compare' prints one)"


class _Pair(NamedTuple):
    """Names of what belongs together, and what it means when the values differ. An empty name is a
    value that an end does not have."""

    one: str
    two: str
    what: str


def between(one: Mapping[str, str], two: Mapping[str, str]) -> Comparison:
    """Compare the second end with the mirror image of the first; `meant` is what it would be by
    the first, `entered` what it has. Raises ValueError where the two have nothing in common."""
    ends = _labelled(one, two), _labelled(two, one)
    labels = _labels(ends[0]) & _labels(ends[1])
    if not labels and not {n for n in ends[0] if n.startswith("suite-")} & ends[1].keys():
        raise ValueError("the two have nothing in common: no tunnel and no suite of one name")
    found, left, compared = list[Difference](), list[Left](), 0
    for pair in dict.fromkeys(_pairs(*ends)):
        why = _why_not(pair, *ends)
        if why:
            left.append(Left(pair.one or pair.two, _place(pair.one or pair.two), why))
            continue
        compared += 1
        if not _agree(pair, *ends):
            places = dict.fromkeys((_place(pair.one), _place(pair.two)))
            place = " / ".join(places)
            first, second = ends[0][pair.one], ends[1][pair.two].strip()
            if pair.what == KEY:
                first = second = "(not shown)"
            found.append(Difference(pair.two, place, first, second, _what(pair, first, second)))
    return Comparison(tuple(found), compared, tuple(left))


def _parts(name: str) -> tuple[str, str, str]:
    """Group, row and label of a value's name; the label is empty where it has none."""
    group, _, rest = name.partition(".")
    secret = rest.startswith(SECRET_ROW)
    row, rest = (SECRET_ROW, rest[len(SECRET_ROW) :]) if secret else (rest, "")
    row, _, label = (row, "", rest[1:]) if secret else row.partition(".")
    return group, row, label


def _labels(end: Mapping[str, str]) -> set[str]:
    """The tunnels and circuits of an end."""
    parts = map(_parts, end)
    return {label for group, _, label in parts if group in _GROUPS and label}


def _labelled(end: Mapping[str, str], other: Mapping[str, str]) -> dict[str, str]:
    """The values of an end with the label of its only tunnel where a sheet left it out."""
    bare = [n for n in end if _parts(n)[0] in _GROUPS and not _parts(n)[2]]
    if not bare or _labels(end):
        return dict(end)
    mine = {n: a for n in ("local", "remote") for a in [end.get(f"tunnels.{n}-address", "")]}
    fits = [
        label
        for label in sorted(_labels(other))
        if len(_labels(other)) == 1
        or (
            _hosts(mine["local"]) & _hosts(other.get(f"tunnels.remote-address.{label}", ""))
            and _hosts(mine["remote"]) & _hosts(other.get(f"tunnels.local-address.{label}", ""))
        )
    ]
    label = fits[0] if len(fits) == 1 else "its-only-tunnel"
    return {f"{n}.{label}" if n in bare else n: text for n, text in end.items()}


def _pairs(one: Mapping[str, str], two: Mapping[str, str]) -> Iterator[_Pair]:
    """Everything that has a counterpart, and what stands at one end only."""
    yield from _suites(one, two)
    for flip, (end, other) in enumerate(((one, two), (two, one))):
        shared = _leading_to(end, other)
        for name in end:
            group, row, label = _parts(name)
            if group not in _GROUPS or label not in shared:
                continue
            turned, counterpart, what = _TURNED_OF.get(group, _TURNED), "", ""
            if row in turned:
                counterpart, what = f"{group}.{turned[row]}.{label}", MIRROR
            elif row in _OPPOSITE:
                counterpart, what = name, ""
            elif row == SECRET_ROW:
                counterpart, what = name, KEY
            elif row in _SAME[group]:
                counterpart, what = name, _SAME[group][row]
            else:
                continue
            there = counterpart if counterpart in other else ""
            yield _Pair(*((there, name) if flip else (name, there)), what)
    yield from _as_numbers(one, two)


def _as_numbers(one: Mapping[str, str], two: Mapping[str, str]) -> Iterator[_Pair]:
    """The peer's AS number of every tunnel with BGP, against the one that the other end has."""
    for flip, (end, other) in enumerate(((one, two), (two, one))):
        for label in sorted(_labels(end) & _labels(other)):
            name = f"routing.{_PEER_AS}.{label}"
            if not {name, f"routing.hold-time.{label}"} & end.keys():
                continue
            here = name if name in end else ""
            there = _OWN_AS if _OWN_AS in other else ""
            if here or there:
                yield _Pair(*((there, here) if flip else (here, there)), AS)


def _leading_to(end: Mapping[str, str], other: Mapping[str, str]) -> set[str]:
    """Tunnels and circuits that lead to the other end: they stand there as well, or their remote
    address is one of the other end's own."""
    mine, theirs = _labels(end), _labels(other)
    own = {
        host
        for name, text in other.items()
        if name.startswith(("gateway.uplink-", "gateway.public-address", "tunnels.local-address."))
        for host in _hosts(text)
    }
    return {
        label
        for label in mine
        if label in theirs or _hosts(end.get(f"tunnels.remote-address.{label}", "")) & own
    }


def _suites(one: Mapping[str, str], two: Mapping[str, str]) -> Iterator[_Pair]:
    """Suites by the tunnels that use them; by name where no tunnel says which."""
    names: set[tuple[str, str]] = set()
    for label in sorted(_labels(one) & _labels(two)):
        row = f"tunnels.{_SUITE}.{label}"
        used = tuple(end.get(row, "").strip() for end in (one, two))
        if all(used):
            names.add((used[0], used[1]))
        elif any(used):
            yield _Pair(row if used[0] else "", row if used[1] else "", SAME)
    if not names:
        mine = ({n.partition(".")[0][6:] for n in e if n.startswith("suite-")} for e in (one, two))
        names = {(name, name) for name in set.intersection(*mine)}
    for first, second in sorted(names):
        rows = (
            {n.partition(".")[2] for n in end if n.partition(".")[0] == f"suite-{name}"}
            for end, name in ((one, first), (two, second))
        )
        here, there = rows
        for row in sorted(here | there):
            yield _Pair(
                f"suite-{first}.{row}" if row in here else "",
                f"suite-{second}.{row}" if row in there else "",
                SAME,
            )


def _why_not(pair: _Pair, one: Mapping[str, str], two: Mapping[str, str]) -> str:
    """Why a pair cannot be compared; empty where it can."""
    if not pair.one or not pair.two:
        return "it stands at one end only"
    texts = one[pair.one], two[pair.two]
    blank = [read(n, text).kind == BLANK for n, text in zip(pair[:2], texts, strict=True)]
    if any(blank):
        return "nothing is entered at " + ("either end" if all(blank) else "one end")
    if pair.what == KEY and not all(_PRINT.fullmatch(text.strip()) for text in texts):
        return NO_PRINT
    if not pair.what and not _neither(texts) and any(_starts(text) is None for text in texts):
        return "which end initiates cannot be read"
    return ""


def _neither(texts: tuple[str, str]) -> bool:
    """Whether both ends say that there is nothing to be begun."""
    return {text.strip().lower() for text in texts} == {"none"}


def _starts(text: str) -> bool | None:
    """Whether this end initiates; None where the text says neither."""
    plain = " ".join(text.lower().split())
    if plain in _HERE:
        return True
    return False if plain in _THERE else None


def _agree(pair: _Pair, one: Mapping[str, str], two: Mapping[str, str]) -> bool:
    first, second = one[pair.one], two[pair.two]
    if not pair.what:
        return _neither((first, second)) or _starts(first) is not _starts(second)
    if pair.what == KEY:
        return first.strip() == second.strip()
    if read(pair.one, first) == read(pair.two, second) or _same_host(pair.one, first, second):
        return True
    return pair.what == MIRROR and any(_translates(end, first, second) for end in (one, two))


def _what(pair: _Pair, first: str, second: str) -> str:
    if pair.what:
        return pair.what
    return "both ends initiate" if _starts(first) else "neither end initiates: it stays down"


def _place(name: str) -> str:
    """A name as words: the row, and what it is of."""
    group, row, label = _parts(name)
    words = row.replace("-", " ")
    if group.startswith("suite-"):
        return f"{words} of suite {group[6:]}, {label.replace('-', ' ')}"
    return f"{words} of {label}" if label else words


def _hosts(text: str) -> set[object]:
    return {held.address for held in addresses(text.lower())}


def _translates(end: Mapping[str, str], first: str, second: str) -> bool:
    """Whether the two are one uplink before and behind its translator, as this end has it."""
    asked = _hosts(first) | _hosts(second)
    if len(asked) < 2:
        return False
    uplinks = (text for name, text in end.items() if name.startswith("gateway.uplink-"))
    return any(asked <= _hosts(text) for text in uplinks)


def _same_host(name: str, first: str, second: str) -> bool:
    """Inside addresses stand with their block at one end and without it at the other."""
    if "inside-address" not in name and not name.startswith("circuits."):
        return False
    return _hosts(first) == _hosts(second) != set() and read(name, first).kind == ADDRESSES
