"""Shapes of the commands that plan: `new` to `classes`."""

from __future__ import annotations

from obrin.cli.outputs.forms import (
    DEED,
    Shape,
    anything,
    by_name,
    listing,
    number,
    or_null,
    record,
    text,
    texts,
    truth,
    whole,
)

_TOLD: Shape = {"type": ["object", "array", "string", "number", "boolean", "null"]}
_RANGE = {
    "prefix": text("the range"),
    "kind": text(
        "what it is",
        "pool",
        "region",
        "site space",
        "network",
        "cloud space",
        "subnet",
        "gateway subnet",
        "inside",
        "loopback",
        "stands for",
        "elsewhere",
        "forbidden by the cloud",
        "reserved by the cloud",
        "proposed",
    ),
    "owner": text("a place, place/network, or a name"),
    "region": text("of the place, or empty"),
    "note": text("anything said about it"),
}
RANGE = record("ranges", _RANGE)
_PAIR = {"outer": record("a range", _RANGE), "inner": record("a range", _RANGE)}
_KNOWN = {
    "name": text("its name in the design"),
    "prefix": text("the range"),
    "owner": text("who answers for it, or empty"),
    "place": text("where it is used, or empty"),
    "note": text("anything worth knowing, or empty"),
}
_REMEDY = record(
    "remedies",
    {
        "name": text("short for it"),
        "title": text("what it does"),
        "write": texts("lines to be written in the design"),
        "change": anything("the same as an object, to be merged into the design"),
        "costs": texts("what it takes"),
        "breaks": texts("what does not work any more"),
        "translation": listing(
            record(
                "addresses",
                {
                    "place": text("place/network"),
                    "real": text("the address as it is"),
                    "seen": text("as the other side sees it"),
                },
            )
        ),
        "impossible": text("why it cannot be done; empty where it can"),
    },
)

PLANNING: dict[str, Shape] = {
    "new": DEED,
    "gather --mapping": record(
        "what exports say that they did not say last time",
        {
            "written": truth("whether anything of it was taken into the design"),
            "changes": listing(
                record(
                    "the topmost keys that differ",
                    {
                        "place": texts("the keys that lead to it"),
                        "what": text("kind of change", "new", "changed", "gone"),
                        "was": _TOLD
                        | {"description": "the value gathered last time; null for what is new"},
                        "now": _TOLD
                        | {"description": "the value gathered now; null for what is gone"},
                        "standing": text(
                            "how the design has it",
                            "to be taken",
                            "is so already",
                            "edited by hand",
                        ),
                    },
                )
            ),
        },
    ),
    "gather": record(
        "what was taken in",
        {
            "columns": by_name(text("a header"), "which header each name was taken from"),
            "left": texts("headers that were not used"),
            "written": truth("whether the design was changed"),
            "added": listing(record("new entries", _KNOWN)),
            "corrected": listing(
                record("entries", {"was": text("its name before")} | _KNOWN),
                "entries that were there, as they are now",
            ),
            "bad": listing(
                record(
                    "rows",
                    {
                        "where": text("file:line:column"),
                        "what": text("what is wrong"),
                        "fix": text("how to put it right"),
                    },
                ),
                "rows that cannot be read",
            ),
        },
    ),
    "settle": record(
        "what is settled",
        {
            "values": by_name(
                record(
                    "a value",
                    {
                        "value": {
                            "type": ["string", "integer", "array"],
                            "items": {"type": "string"},
                            "description": "a text, a whole number, or a list of texts",
                        },
                        "why": text("where it came from, one sentence"),
                        "new": truth("`true` when it was chosen in this run"),
                    },
                ),
                "place of the blank, joined by dots, to what was chosen",
            ),
            "secrets_made": texts(
                "made in this run: `key of LINK/TUNNEL`, `certificate of GATEWAY`"
            ),
        },
    ),
    "settle --explain": record(
        "why a value was chosen",
        {
            "key": text("the place"),
            "value": text("what was settled"),
            "why": text("one sentence"),
            "decided": text("what decided between the candidates that were left"),
            "candidates": listing(
                record(
                    "candidates",
                    {
                        "value": text("what might have been chosen"),
                        "excluded": text("what speaks against it; empty where nothing does"),
                    },
                )
            ),
        },
    ),
    "space": listing(RANGE),
    "space who": by_name(listing(RANGE), "what was asked, to a list of ranges"),
    "space clash": listing(
        record("ranges that collide", {"asked": text("the range that was proposed")} | _RANGE)
    ),
    "space free": listing(
        record(
            "pools",
            {
                "pool": text("its name"),
                "purpose": text("what is chosen from it"),
                "length": or_null(whole("length of the prefixes that are counted")),
                "count": whole("how many are free"),
                "blocks": texts("the first of them"),
            },
        )
    ),
    "space use": listing(
        record(
            "pools",
            {
                "pool": text("its name"),
                "purpose": text("what is chosen from it"),
                "region": text("of its places, or empty"),
                "addresses": whole("how many it has"),
                "used": whole("how many are given away"),
                "share": number("used to all, 0 to 1"),
                "prefixes": texts("of which it consists"),
                "largest_free": or_null(whole("length of the largest free prefix")),
            },
        )
    ),
    "space overlaps": listing(
        record(
            "pairs of ranges",
            _PAIR | {"state": text("whether it matters", "in the way", "apart so far")},
        )
    ),
    "space announce": listing(
        record(
            "places",
            {
                "kind": text("site or cloud"),
                "name": text("of the place"),
                "ranges": whole("how many it has"),
                "exact": texts("the fewest prefixes that cover them and no more"),
                "held": texts("the prefixes that cover them and nothing of anybody else"),
            },
        )
    ),
    "space fit": listing(
        record(
            "years",
            {
                "year": whole("from now, 0 is today"),
                "wanted": whole("addresses"),
                "free": whole("addresses"),
                "fits": truth("whether all have room"),
                "short": text("who has none; empty when all fit"),
                "placed": {
                    "type": "array",
                    "items": {"type": "array", "items": {"type": "string"}},
                    "description": "pairs of name and range",
                },
            },
        )
    ),
    "space remedies": listing(
        record("overlaps", _PAIR | {"remedies": listing(_REMEDY, "ways out of it")})
    ),
    "space renumber": record(
        "a move to another range",
        {
            "network": text("place/network"),
            "old": text("its range now"),
            "new": text("the one that is proposed"),
            "steps": listing(
                record(
                    "steps",
                    {
                        "do": text("what to do"),
                        "check": text("how to see that it is done"),
                        "up": text("what works meanwhile"),
                    },
                )
            ),
        },
    ),
    "classes --write": DEED,
    "classes": by_name(
        listing(
            record(
                "classes, the cheapest first",
                {
                    "class": text("its name"),
                    "fits": truth("whether it does what is asked"),
                    "lacks": text("what it has not; empty where it fits"),
                    "throughput": whole("Mbit/s"),
                    "tunnels": whole("at most"),
                    "routes": whole("at most"),
                    "instances": whole("at most"),
                    "features": texts("what it can do"),
                    "monthly": number("price"),
                    "hourly": number("price"),
                    "build_minutes": number("until it stands"),
                    "gateway_subnet": whole("length of the prefix that it needs"),
                },
            )
        ),
        "an object by cloud",
    ),
}
