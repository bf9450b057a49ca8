"""Shapes of what a change prints: its plan, and what somebody changed by hand."""

from __future__ import annotations

from obrin.cli.outputs.forms import (
    Shape,
    any_value,
    listing,
    number,
    or_null,
    record,
    text,
    texts,
    truth,
    whole,
)

CHANGING: dict[str, Shape] = {
    "reshape": record(
        "a plan",
        {
            "steps": listing(
                record(
                    "steps, in order",
                    {
                        "number": whole("from 1"),
                        "name": text("its own, the same from run to run"),
                        "kind": text("what is done", "make ready", "change", "clear away"),
                        "place": text("the gateway or cloud where"),
                        "leg": text("the tunnel or circuit one end of which is changed, or empty"),
                        "owner": text("who does it"),
                        "done": truth("whether it is done already"),
                        "lines": listing(
                            record(
                                "values of the sheets",
                                {
                                    "what": text("what to do", "add", "change", "remove", "rename"),
                                    "part": text("the heading of the sheet"),
                                    "for": text("the tunnel or circuit, or empty"),
                                    "row": text("the value, or what a row of a list begins with"),
                                    "old": text("until now"),
                                    "new": text("from now on"),
                                },
                            )
                        ),
                        "lost": listing(
                            record(
                                "flows that must work and do not until the next step",
                                {"flow": text("from, to, service"), "why": text("the reason")},
                            )
                        ),
                        "opened": texts("flows that must not work and do until the next step"),
                        "moves": listing(
                            record(
                                "flows that go over to another way",
                                {
                                    "flow": text("from, to, service"),
                                    "from": text("link/tunnel"),
                                    "to": text("link/tunnel"),
                                },
                            )
                        ),
                        "stops": listing(
                            record(
                                "flows that stop only while the step is done",
                                {
                                    "flow": text("from, to, service"),
                                    "seconds": number("for how long"),
                                    "why": text("the reason"),
                                },
                            )
                        ),
                        "too_much": texts("what gets more than it carries, from then on"),
                        "look": text("what to see before going on"),
                        "waits_for": texts("whose acceptance comes before that"),
                        "begins": or_null(
                            text("when it can begin, in its window (ISO 8601, UTC); null once done")
                        ),
                        "ends": or_null(text("when it is then reported done, by --step-time")),
                        "for_good": truth("whether going back needs another way from here"),
                    },
                )
            ),
            "rounds": {
                "type": "array",
                "items": {"type": "array", "items": {"type": "integer"}},
                "description": "all steps by number: those of a round may be done at once, "
                "when the round before is done",
            },
            "side_by_side": {
                "type": "array",
                "items": {"type": "array", "items": {"type": "integer"}},
                "description": "numbers of steps that may be done at once",
            },
            "flows": texts("what both designs wish alike"),
            "lost_for": listing(
                record(
                    "flows that are lost meanwhile",
                    {
                        "flow": text("the flow"),
                        "steps": whole("steps that go by"),
                        "seconds": number("their time, by --step-time"),
                    },
                )
            ),
            "loses": truth("whether anything is not as wished in between"),
            "keys": texts(
                "tunnels whose new key is not at the ends yet; all steps keep the old one"
            ),
        },
    ),
    "reshape --go": record(
        "steps that were done, or with --back undone",
        {
            "steps": listing(
                record(
                    "steps, in order",
                    {
                        "name": text("as in the plan"),
                        "seen": texts("flows and tunnels that were looked at, and are as said"),
                        "not_seen": texts("what could not be looked at, with why"),
                        "effect": or_null(
                            truth("whether the step does what it is for; null where not known")
                        ),
                        "why_not_known": text("empty where it is known"),
                    },
                )
            ),
            "back": truth("whether they were undone"),
            "keys": texts("tunnels whose new key is not at the ends yet"),
        },
    ),
    "reshape --drift": listing(
        record(
            "what is not as it was built",
            {
                "name": text("its name at the cloud, or that of a gateway"),
                "at": text("the cloud or gateway"),
                "differing": listing(
                    record(
                        "values",
                        {
                            "part": text("which value"),
                            "there": text("what it is there"),
                            "wanted": text("what was built"),
                        },
                    )
                ),
                "where": text("what of the design it is made from: file:line:column"),
                "undone": truth("whether it was undone"),
            },
        )
    ),
    "reshape --drift --take": record(
        "what was brought into the design",
        {
            "taken": listing(
                record(
                    "keys of the design",
                    {"place": text("the key"), "value": any_value("what it says now")},
                )
            ),
            "left": listing(
                record(
                    "what no key of it says",
                    {"name": text("its name there"), "part": text("which value")},
                )
            ),
        },
    ),
}
