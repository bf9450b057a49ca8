"""Shapes of the commands that prove a design on the model."""

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

_WAY = {
    "hops": texts("what the packet meets, one sentence each"),
    "dropped": text("by whom and why; empty when it arrives"),
    "arrives": truth("whether it does"),
}
_CHANGES = listing(
    record(
        "routes that change",
        {
            "table": text("whose table"),
            "prefix": text("where to"),
            "what": text("how it changes", "new", "moves", "lost", "differs"),
            "before": texts("ways before"),
            "after": texts("ways after"),
            "how": texts("what else is different"),
        },
    )
)

PROVING: dict[str, Shape] = {
    "check": listing(
        record(
            "findings, the most severe first",
            {
                "severity": text("how bad it is", "error", "warning", "note"),
                "code": text("see [findings](findings.md)"),
                "where": text("file:line:column"),
                "place": text("the place in the design, joined by dots"),
                "cause": text("what is wrong"),
                "consequence": text("what follows from it, and when"),
                "fix": text("how to put it right"),
                "accepted": or_null(
                    record(
                        "who accepts it in the design; null where nobody does",
                        {
                            "because": text("the reason"),
                            "by": text("who answers for it"),
                            "until": or_null(text("a day, or null")),
                        },
                    )
                ),
            },
        )
    ),
    "profiles": by_name(
        anything("as it is written in a design; times and rates carry their units"),
        "an object by profile",
    ),
    "agree": listing(
        record(
            "tunnels",
            {
                "tunnel": text("link/tunnel"),
                "agreed": or_null(
                    truth("whether it comes up and stays up; null where that is not known")
                ),
                "unknown": texts("what is said to be entered and could not be compared"),
                "steps": listing(
                    record(
                        "steps",
                        {
                            "exchange": text("of IKE"),
                            "earliest": number("seconds after the start"),
                            "latest": number("seconds after the start"),
                            "good": truth("whether it succeeds"),
                            "notify": text("what a refusal says, or empty"),
                            "text": text("in words"),
                        },
                    )
                ),
                "edit": or_null(
                    record(
                        "the smallest change after which they agree; null where none is needed or "
                        "no suite helps",
                        {
                            "suite": text("what has to be offered"),
                            "ends": texts("by whom"),
                        },
                    )
                ),
            },
        )
    ),
    "routes": listing(
        record(
            "routes",
            {
                "table": text("whose table"),
                "prefix": text("where to"),
                "from": text(
                    "how it came there", "connected", "static", "bgp", "attached", "local"
                ),
                "via": text("tunnel, neighbour or interface"),
                "next_hop": text("an address, or empty"),
                "as_path": {
                    "type": "array",
                    "items": {"type": ["integer", "array"], "items": {"type": "integer"}},
                    "description": "AS numbers; a set is a list inside it",
                },
                "local_pref": or_null(whole("null outside BGP")),
                "state": text("what became of it", "in use", "shares", "not used", "refused"),
                "why": text("why it won or lost"),
            },
        )
    ),
    "routes --to-mrt": DEED,
    "routes --changes": _CHANGES,
    "routes --against": _CHANGES,
    "routes --sessions": listing(
        record(
            "what is advertised over BGP",
            {
                "tunnel": text("link/tunnel"),
                "by": text("who advertises"),
                "to": text("who hears"),
                "prefixes": texts("what is advertised and accepted"),
                "refused": texts("what is advertised and not accepted, with the reason"),
            },
        )
    ),
    "routes --seen": listing(
        record(
            "differences between a dump and the model",
            {
                "what": text("kind of difference", "missing", "unexpected", "differs"),
                "prefix": text("where to"),
                "tunnel": text("link/tunnel"),
                "text": text("in words"),
            },
        )
    ),
    "routes --now": listing(
        record(
            "differences between what a gateway uses and the model",
            {
                "what": text("kind of difference", "missing", "unexpected", "differs"),
                "prefix": text("where to"),
                "tunnel": text("the way by the model, or for `unexpected` the one it takes"),
                "text": text("in words"),
            },
        )
    ),
    "trace": record(
        "one packet and its answer",
        {
            "there": record("the packet", _WAY),
            "back": or_null(record("the answer; null when nothing arrived", _WAY)),
            "tunnels": texts("which it takes: there, back"),
            "mtu": whole("inside the tunnels, in bytes"),
            "warnings": texts("what to beware of"),
        },
    ),
    "reach": listing(
        record(
            "pairs of networks",
            {
                "from": text("place/network"),
                "to": text("place/network"),
                "allowed": texts("flows that pass"),
                "wider": texts("those of them that nobody asked for"),
                "broken": texts("wishes that are not met"),
                "verdict": text("in one word", "as wished", "wider", "BROKEN", "closed"),
            },
        )
    ),
    "drill": listing(
        record(
            "failures",
            {
                "failed": texts("what fails together"),
                "lost": texts("flows that are gone until it is mended"),
                "moved": listing(
                    record(
                        "flows",
                        {
                            "flow": text("which"),
                            "before": text("the way it took"),
                            "after": text("the way it takes"),
                            "seconds": or_null(number("without it; null: until mended")),
                            "noticed_by": text("what notices the failure; empty when nothing does"),
                        },
                    ),
                    "flows that go another way",
                ),
                "seconds": or_null(number("the longest outage; null: until mended")),
                "too_much": texts("what carries more than it can"),
                "fullest": or_null(
                    record(
                        "what is nearest to its limit; null without loads",
                        {
                            "name": text("which"),
                            "rate": number("Mbit/s"),
                            "most": number("Mbit/s"),
                        },
                    )
                ),
                "apart": texts("flows whose two directions part"),
                "keeps_the_promise": truth("whether the design's promise holds"),
            },
        )
    ),
    "rehearse": record(
        "a rehearsal",
        {
            "good": truth("whether all went as wished and as predicted"),
            "seconds": number("that passed in the practice world"),
            "expectations": listing(
                record(
                    "expectations",
                    {
                        "flow": text("service, from, to"),
                        "must": text("what is wished", "work", "not"),
                        "answered": truth("whether it was"),
                        "met": truth("whether that is as wished"),
                    },
                )
            ),
            "scenes": listing(
                record(
                    "parts of it",
                    {
                        "what": text("what failed, or was done"),
                        "good": truth("whether all went as predicted"),
                        "gone": listing(
                            record(
                                "flows",
                                {
                                    "flow": text("which"),
                                    "shortest": number("the least seconds without it, predicted"),
                                    "longest": or_null(number("the most; null: until mended")),
                                    "measured": or_null(number("null: until mended")),
                                    "noticed_by": text("what notices the failure, or empty"),
                                    "before": text("the way that it took"),
                                    "after": text("the way that it takes then"),
                                    "met": truth("whether it was measured as predicted"),
                                },
                            ),
                            "flows that were gone, or that ought to have been",
                        ),
                        "answered": listing(
                            record(
                                "flows",
                                {
                                    "flow": text("which"),
                                    "asked": whole("questions"),
                                    "answered": whole("of them"),
                                },
                            ),
                            "of a fault: flows that did not have every answer",
                        ),
                        "noted": texts("of a fault: what status says of it"),
                        "apart": texts("where a gateway was not as the model says"),
                        "mended": or_null(number("until all was as before; null: never")),
                    },
                )
            ),
        },
    ),
    "compare": record(
        "a comparison",
        {
            "differences": listing(
                record(
                    "values",
                    {
                        "name": text("as in values.csv; of two ends the one of the second"),
                        "place": text("where it stands on the sheet"),
                        "line": whole("of the file, 0 where it has none"),
                        "meant": text("by the sheet, or by the first end"),
                        "entered": text("as it was"),
                        "kind": text("of mistake, in a word; `not known` where none fits"),
                        "what": text("how it differs, and what was probably done"),
                        "then": text("what follows, or empty"),
                    },
                )
            ),
            "good": or_null(truth("whether all values are right; null where that is not known")),
            "compared": whole("values that were compared"),
            "values": whole("values that should be compared"),
            "left": listing(
                record(
                    "values",
                    {"name": text("as in values.csv"), "why": text("why it was not compared")},
                ),
                "values that were not compared",
            ),
            "unknown": texts("rows of the file that are nothing of the sheet"),
        },
    ),
    "drill --availability": listing(
        record(
            "flows",
            {
                "flow": text("which"),
                "share": number("of the time that it works, 0 to 1"),
                "low": number("lower end of its interval, the share itself where it is exact"),
                "high": number("upper end"),
                "minutes_a_year": number("without it"),
            },
        )
    ),
    "overhead": listing(
        record(
            "tunnels",
            {
                "tunnel": text("link/tunnel"),
                "suite": text("of ESP"),
                "outer": text("family outside", "ipv4", "ipv6"),
                "udp_encapsulation": truth("whether a translator is on the way"),
                "path_mtu": whole("bytes"),
                "inner_mtu": whole("bytes"),
                "mss_ipv4": whole("bytes"),
                "mss_ipv6": whole("bytes; 0 where IPv6 cannot cross"),
                "efficiency": number("0 to 1"),
                "on_the_wire": by_name(whole("bytes"), "size of an inner packet, to size outside"),
            },
        )
    ),
}
