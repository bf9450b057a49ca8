"""Shapes of the commands that hand over, connect and keep."""

from __future__ import annotations

from obrin.cli.outputs.forms import (
    DEED,
    Shape,
    by_name,
    listing,
    number,
    or_null,
    record,
    text,
    texts,
    truth,
    whole,
    with_more,
)

STATES = "up", "up, ends disagree", "at rest", "not known", "revoked", "DOWN"
_END = record(
    "what one end says",
    {
        "ike": or_null(text("state of the IKE SA")),
        "child": or_null(text("state of the child SA", "up", "down", "not configured")),
        "packets_in": or_null(
            whole("that came out of the tunnel since its IKE SA was authenticated")
        ),
        "packets_out": or_null(whole("that went into it since then")),
        "bgp": or_null(text("state of the session, `none` without one")),
        "received": or_null(texts("prefixes accepted from the peer")),
        "announced": or_null(texts("prefixes advertised to the peer")),
        "rejected": texts("prefixes not accepted, with the reason"),
        "refusal": text("the last refusal of IKE that is not mended since, with who refused"),
        "refusal_age": or_null(number("seconds since then")),
        "refused_rekey": text("what was to be rekeyed when that was refused; else empty"),
        "outside_of_peer": text("public address at which it expects the peer, or empty"),
        "inside": text("its own address inside the tunnel, or empty"),
        "inside_of_peer": text("what it takes for its peer's, or empty"),
        "bgp_error": text("why the session last ended, or empty"),
        "bgp_error_age": or_null(number("seconds since then")),
        "idle_in": or_null(number("seconds since a packet last came out of the tunnel")),
        "idle_out": or_null(number("seconds since a packet last went into it")),
        "counted": whole("packets of the peer that are looked at, by sequence numbers"),
        "missing": whole("of these did not arrive"),
        "problem": text("why this end cannot be asked; empty when it can"),
        "not_known": by_name(
            text("why"),
            "those of `ike`, `child`, `packets_in`, `packets_out`, `bgp`, `received`, `announced`, "
            "`idle_in` and `idle_out` that it does not report; they are null",
        ),
    },
)
STATUS = listing(
    record(
        "tunnels",
        {
            "tunnel": text("link/tunnel"),
            "rank": whole("order of preference, from 1"),
            "state": text("in a word", *STATES),
            "up": or_null(
                truth(
                    "whether packets go both ways, by what the ends say, BGP included where the "
                    "design has it; null where that is not known"
                )
            ),
            "right": or_null(
                truth(
                    "whether it is up, a spare at rest or revoked, and the ends agree; null where "
                    "that is not known"
                )
            ),
            "not_known": text("why `right` is null; else empty"),
            "rests_on": texts("what each end says that this rests on"),
            "rests": truth("a spare that is down while it is not needed"),
            "revoked": text("whose certificate is revoked, since when; it stays down. Else empty"),
            "site": _END | {"description": "the site's end"},
            "cloud": _END | {"description": "the cloud's end, likewise"},
            "disagreements": texts("where the ends differ from each other, or from the design"),
            "notes": texts("what helps to see why it is not up"),
        },
    )
)

ACTING: dict[str, Shape] = {
    "keys list": listing(
        record(
            "tunnels; keys are in no output",
            {
                "tunnel": text("link/tunnel"),
                "characters": or_null(whole("null without a key")),
                "bits": or_null(whole("of strength at most")),
                "weak": texts("reasons; empty for a good one"),
                "made": or_null(text("a day")),
            },
        )
    ),
    "keys show": record("one key", {"tunnel": text("link/tunnel"), "key": text("the key itself")}),
    "keys compare": record(
        "a key held against the right one",
        {
            "tunnel": text("link/tunnel"),
            "same": truth("whether it is the right one"),
            "difference": text("in what it differs; empty when it does not"),
            "fingerprint": text("of what was typed, for `entered` in the design"),
        },
    ),
    "migrate": DEED,
    "keys set": DEED,
    "keys renew": DEED,
    "keys rotate": DEED,
    "keys seal": DEED,
    "keys unseal": DEED,
    "keys export": DEED,
    "keys import": DEED,
    "certificates list": listing(
        record(
            "certificates",
            {
                "what": text("its part", "root", "issuing", "trusted", "gateway"),
                "name": text("whose"),
                "kind": text("of key"),
                "serial": text("in hexadecimal"),
                "begins": text("ISO 8601"),
                "ends": text("ISO 8601"),
                "names": texts("it stands for"),
                "state": text("how it is", "in use", "before it", "ended", "revoked"),
            },
        )
    ),
    "certificates check": listing(
        record(
            "faults; empty for a good chain",
            {
                "code": text("kind of fault"),
                "what": text("what is wrong"),
                "fix": text("how to put it right"),
            },
        )
    ),
    "certificates renew": DEED,
    "certificates rotate": DEED,
    "certificates retire": DEED,
    "certificates revoke": DEED,
    "certificates sign": DEED
    | {
        "properties": DEED["properties"]
        | {"pem": text("the chain, where no file was named with `--to`")}
    },
    "certificates bring": DEED,
    "certificates export": DEED,
    "handover": listing(
        record(
            "gateways",
            {
                "gateway": text("its name"),
                "kind": text("what it is", "site gateway", "cloud gateway", "cloud network", "hub"),
                "files": texts(
                    "paths; empty with `--dry-run`, or when its certificates are revoked"
                ),
            },
        )
    ),
    "handover --template": DEED,
    "connect --todo": listing(
        record(
            "steps by hand that are open",
            {
                "who": text("does it"),
                "step": text("its name, as `--again` and answers have it"),
                "what": text("how it is open", "to be entered", "to be changed"),
                "title": text("in words"),
                "values": whole("values to enter"),
            },
        )
    ),
    "practice start": DEED,
    "practice stop": DEED,
    "practice accept": DEED,
    "practice cut": DEED,
    "practice fault": DEED,
    "practice heal": DEED,
    "practice status": record(
        "the practice world",
        {
            "places": listing(
                record(
                    "processes",
                    {
                        "name": text("who"),
                        "url": text("where it answers"),
                        "state": text("whether it does", "answers", "DEAD"),
                    },
                )
            ),
            "token_file": text("a JSON file with the `token` that all of them want"),
            "faults": record(
                "what is wrong on purpose",
                {
                    "uplinks": texts("that are cut"),
                    "circuits": texts("that are cut, with /circuit behind the name"),
                    "attachments": texts("that are cut"),
                    "cloud_troubles": texts("of the cloud, as they were asked for"),
                    "narrow": texts("uplinks that lose packets over 1,280 bytes"),
                    "paths": whole("how many are cut"),
                    "carried": whole("packets"),
                    "lost": by_name(whole("packets"), "packets by reason"),
                    "troubles": texts("of uplinks, as they were asked for"),
                    "gateway_troubles": texts("of gateways"),
                },
            ),
        },
    ),
    "connect": with_more(
        DEED,
        {
            "unchanged": whole("steps for which nothing had to be done"),
            "tunnels": STATUS | {"description": "as `obrin status --json`"},
            "assigned": by_name(
                {"type": ["array", "string", "integer"]},
                "what a cloud chose itself, by place in the design",
            ),
        },
    ),
    "connect --dry-run": DEED,
    "status": STATUS,
    "probe --here": listing(
        record(
            "expectations, as hosts really saw them",
            {
                "from": text("network"),
                "to": text("network"),
                "flow": text("protocol and port"),
                "family": text("of the addresses"),
                "must": text("what is wished", "work", "not"),
                "answers": {
                    "type": "array",
                    "items": {"type": "boolean"},
                    "description": "one for each question, in order",
                },
                "refused": truth("whether the host itself said no"),
                "seconds": number(
                    "from a question to its answer, the first that had one; 0 without"
                ),
                "waited": number("from the first question to the first answer, 0 without one"),
                "path": texts("the routers that answered on the way"),
                "sizes": listing(
                    record(
                        "packets that may not be cut",
                        {
                            "bytes": whole("of the whole packet"),
                            "answered": truth("whether it was"),
                        },
                    )
                ),
                "met": or_null(truth("whether it is as wished; null where that is not known")),
                "not_known": text("why it is not known, or empty"),
                "cause": text("why it is not as wished, or empty"),
                "speaks_for": texts("what was seen that speaks for that cause"),
                "against": texts("what was seen that speaks against it"),
                "settles": text("what would settle it, or empty"),
                "unreachable": text("who says by ICMP that it is, and why; or empty"),
                "note": text("what is worth knowing, or empty"),
            },
        )
    ),
    "probe": listing(
        record(
            "expectations, in the order of the design",
            {
                "from": text("place/network"),
                "to": text("place/network"),
                "flow": text("protocol and port"),
                "family": text("whose addresses it is tried with", "ipv4", "ipv6"),
                "must": text("the wish", "work", "not"),
                "seen": text("what came of it", "answered", "refused", "no answer", "not tried"),
                "met": or_null(truth("whether it is as wished; null where that is not known")),
                "seconds": number("until the answer, or until giving up"),
                "dropped": text("the device that says it dropped the packet, and why; or empty"),
                "problem": text("why it could not be tried, or empty"),
                "why": text("why it is not as wished, or not known; or who dropped it; or empty"),
                "tunnels": texts("what is wrong with tunnels that it may take, packets lost there"),
            },
        )
    ),
    "probe --sizes": listing(
        record(
            "flows that must work and cross a tunnel",
            {
                "from": text("place/network"),
                "to": text("place/network"),
                "flow": text("protocol and port"),
                "family": text("whose addresses it is tried with", "ipv4", "ipv6"),
                "largest": whole(
                    "bytes of the largest packet that crosses both ways; 0 where none is known"
                ),
                "expected": whole("bytes, as on the sheets"),
                "met": or_null(truth("whether the two are equal; null where that is not known")),
                "beyond": text("what becomes of a larger one, or that this one is lost"),
                "problem": text("why it could not be tried, or empty"),
            },
        )
    ),
    "calendar --to": DEED,
    "calendar": listing(
        record(
            "days on which something ends",
            {
                "day": text("ISO 8601"),
                "state": text("how near it is", "ended", "act now", "later"),
                "kind": text("what ends"),
                "subject": text("whose"),
                "what": text("in words"),
                "then": text("what follows from it"),
                "cure": text("what to do"),
                "lead_days": whole("days that this takes"),
            },
        )
    ),
    "draw drill": DEED,
    "draw outages": DEED,
    "draw network": DEED,
    "draw reach": DEED,
    "draw space": DEED,
    "demo": with_more(
        DEED,
        {
            "seen": listing(
                record(
                    "questions",
                    {
                        "asked": text("what"),
                        "wanted": text("what should be"),
                        "seen": text("what is"),
                        "good": truth("whether it is as wanted"),
                    },
                )
            )
        },
    ),
    "demo --dry-run": DEED,
    "algorithms": listing(
        record(
            "algorithms",
            {
                "kind": text("of transform"),
                "number": whole("in the registry"),
                "name": text("in the registry"),
                "key_bits": or_null(whole("null where the registry leaves no choice")),
                "strength": whole("bits"),
                "standing": text("whether to use it"),
                "combined": truth("combined-mode ciphers"),
                "practised": truth("whether the practice world speaks it"),
            },
        )
    ),
}
