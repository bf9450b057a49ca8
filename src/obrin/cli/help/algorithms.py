"""`algorithms`: the registry, with strengths and standing."""

from __future__ import annotations

import click

from obrin.cli.shared.common import console, echo_json, json_option, print_table

_WORDS = {
    "ENCRYPTION": "encryption",
    "PRF": "PRF",
    "INTEGRITY": "integrity",
    "GROUP": "DH group",
    "ESN": "sequence numbers",
}


@click.command()
@click.option("--usable", is_flag=True, help="Leave out what should not or must not be used.")
@json_option
def algorithms(usable: bool, as_json: bool) -> None:
    """Every algorithm that a suite can name: number, strength, and what the standards say of it.

    Standing after RFC 8247, RFC 8221 and RFC 9395, whichever is stricter.

    \b
    Example:
      obrin algorithms --usable
    """
    from obrin.core.ipsec.registry import ALGORITHMS, SPOKEN, Standing

    out = (Standing.SHOULD_NOT, Standing.MUST_NOT) if usable else ()
    found = [a for a in ALGORITHMS if a.standing not in out]
    if as_json:
        echo_json(
            [
                {
                    "kind": _WORDS[a.kind.name],
                    "number": a.number,
                    "name": a.name,
                    "key_bits": a.key_bits,
                    "strength": a.strength,
                    "standing": a.standing.value,
                    "combined": a.combined,
                    "practised": a.name in SPOKEN,
                }
                for a in found
            ]
        )
        return
    rows = [
        (
            a.name,
            _WORDS[a.kind.name],
            str(a.number),
            str(a.strength) if a.strength else "",
            a.standing.value,
            "yes" if a.name in SPOKEN else "",
        )
        for a in found
    ]
    head = ("Name", "Kind", "Number", "Strength", "Use", "Practised")
    styles = {"must not": "bold red", "should not": "yellow", "must": "green"}
    print_table(console(), head, rows, styles=styles)
