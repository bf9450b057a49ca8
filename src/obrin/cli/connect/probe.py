"""`probe`: what must work and what must not, tried by hosts behind gateways or by this computer."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from obrin.cli.shared.common import (
    STYLES,
    console,
    design_option,
    echo_json,
    json_option,
    print_table,
    project_of,
    say,
)
from obrin.cli.shared.completion import network_names
from obrin.cli.shared.redacting import redactable
from obrin.core.errors import AddressError, ObrinError
from obrin.core.known import NotKnown, Verdict, known

if TYPE_CHECKING:
    from rich.console import Console

    from obrin.core.reach.merged import Judged, Seen
    from obrin.core.settled.model import Settled
    from obrin.live.observe.outcome import Outcome
    from obrin.live.observe.sizes import SizeOutcome

MOST_NAMED = 3


@click.command()
@design_option
@click.option(
    "--sizes",
    is_flag=True,
    help="Instead: the largest packets that cross, held against the sheets.",
)
@click.option(
    "--here",
    metavar="PLACE/NETWORK",
    shell_complete=network_names,
    help="This computer is a host there: really ask, with its own sockets.",
)
@click.option(
    "--host",
    "hosts",
    multiple=True,
    metavar="PLACE/NETWORK=ADDRESS",
    help="With '--here': ask this address of a network, not its tenth.",
)
@click.option("--to", type=click.Path(), help="With '--here': keep the results in this file.")
@click.option(
    "--merge",
    multiple=True,
    type=click.Path(),
    help="Put results of '--here' from several hosts together; may be given again.",
)
@json_option
@redactable
@click.pass_context
def probe(
    ctx: click.Context,
    design_file: str | None,
    sizes: bool,
    here: str | None,
    hosts: tuple[str, ...],
    to: str | None,
    merge: tuple[str, ...],
    as_json: bool,
) -> None:
    """Try every expectation on the live link. Exit code 1 if one is not as wished.

    What must work is asked until answered; for what must not, the device that drops it is named.

    With '--here' it is this computer that asks, on a real link, with no help of any device: ICMP,
    TCP and UDP, packets that may not be cut, the far ends inside the tunnels, and the routers on
    the way as far as they answer. '--merge' puts
    what several hosts saw together and names the cause that fits all of it.

    \b
    Examples:
      obrin probe --design skerrow-ferries
      obrin probe --here harbour-house/counters --to house.json
      obrin probe --merge house.json --merge cloud.json
    """
    if (hosts or to) and here is None:
        raise click.UsageError("'--host' and '--to' go with '--here'")
    if sum(map(bool, (sizes, here, merge))) > 1:
        raise click.UsageError("'--sizes', '--here' and '--merge' do not go together")
    if here is not None or merge:
        settled = project_of(design_file).settled()[1]
        found = _asked_here(settled, here, hosts, to) if here is not None else _merged(merge)
        ctx.exit(0 if _tell_real(found, as_json=as_json) else 1)
    from obrin.live.drivers.registry import open_ends
    from obrin.live.observe.probe import probe_all
    from obrin.live.observe.sizes import sizes_all

    project = project_of(design_file)
    _, settled = project.settled()
    with open_ends(project, settled) as ends:
        if sizes:
            met = _tell(sizes_all(settled, ends), print_sizes, as_json=as_json)
        else:
            met = _tell(probe_all(settled, ends), print_outcomes, as_json=as_json)
    ctx.exit(0 if met else 1)


Found = TypeVar("Found", "Outcome", "SizeOutcome")


def _tell(
    found: Sequence[Found], show: Callable[[Console, Sequence[Found]], None], *, as_json: bool
) -> bool:
    """Whether all is as wished."""
    if as_json:
        echo_json([one.as_json() for one in found])
    else:
        show(console(), found)
    return all(one.met for one in found)


def print_outcomes(out: Console, outcomes: Sequence[Outcome]) -> None:
    rows = []
    for outcome in outcomes:
        wish = outcome.expectation
        seen = outcome.seen
        if outcome.seen == "answered":
            seen += f" in {outcome.seconds * 1000:.0f} ms"
        rows.append(
            (
                f"{wish.source} > {wish.destination}",
                wish.service,
                "must work" if wish.must == "work" else "must not",
                seen,
                _verdict(outcome.verdict),
                outcome.why,
            )
        )
    head = ("Flow", "Service", "Wish", "Seen", "Verdict", "Why")
    print_table(out, head, rows, styles=STYLES)
    for text in dict.fromkeys(text for outcome in outcomes for text in outcome.tunnels):
        say(out, text)
    out.print(_counted([o.verdict for o in outcomes], "expectations are as wished"))


def _verdict(verdict: Verdict) -> str:
    if isinstance(verdict, NotKnown):
        return "not known"
    return "as wished" if verdict else "NOT AS WISHED"


def _counted(verdicts: Sequence[Verdict], what: str) -> str:
    """One line: how many are as wished, are not, and of how many that is not known."""
    met, wrong = sum(v is True for v in verdicts), sum(v is False for v in verdicts)
    unknown = len(verdicts) - met - wrong
    parts = [f"{met} of {len(verdicts)} {what}"]
    parts += [f"{wrong} NOT"] if wrong else []
    parts += [f"of {unknown} it is not known"] if unknown else []
    return ", ".join(parts) + "."


def print_sizes(out: Console, sizes: Sequence[SizeOutcome]) -> None:
    """Bytes of whole packets; of TCP what its segments make with their headers."""
    rows = [
        (
            f"{size.expectation.source} > {size.expectation.destination}",
            size.expectation.service,
            str(size.largest) if size.largest else "",
            str(size.expected),
            size.problem or size.lost or size.beyond,
            _verdict(size.verdict),
        )
        for size in sizes
    ]
    head = ("Flow", "Service", "Largest", "On the sheet", "Seen", "Verdict")
    print_table(out, head, rows, styles=STYLES)
    out.print(_counted([s.verdict for s in sizes], "flows carry just what their sheets say"))


def _asked_here(settled: Settled, here: str, hosts: Sequence[str], to: str | None) -> list[Judged]:
    from obrin.core.reach.merged import verdicts
    from obrin.live.files import write_whole
    from obrin.live.observe.here import ask_here, results_text

    seen, inside = ask_here(settled, here, dict(map(_host, hosts)))
    if to is not None:
        write_whole(Path(to), results_text(here, seen, inside), 0o644)
    return verdicts(seen, inside)


def _host(text: str) -> tuple[str, Any]:
    from obrin.core.address.prefix import parse_address

    network, _, address = text.partition("=")
    try:
        return network, parse_address(address)
    except AddressError as error:
        raise click.UsageError(f"--host: {error}") from None


def _merged(files: Sequence[str]) -> list[Judged]:
    from obrin.core.reach.merged import verdicts
    from obrin.live.observe.here import read_results

    seen, inside = [], []
    for name in files:
        try:
            found = read_results(Path(name))
        except OSError as error:
            raise ObrinError(f"{name} cannot be read: {error.strerror}. Check the path") from None
        seen += found[0]
        inside += found[1]
    return verdicts(seen, inside)


def _tell_real(found: Sequence[Judged], *, as_json: bool) -> bool:
    """Whether all is as wished."""
    if as_json:
        echo_json([_verdict_json(verdict) for verdict in found])
        return all(v.met is True for v in found)
    out = console()
    rows = [
        (
            f"{v.seen.source} > {v.seen.destination}",
            v.seen.flow,
            "must work" if v.seen.must == "work" else "must not",
            _words(v.seen),
            _verdict(v.met),
        )
        for v in found
    ]
    print_table(out, ("Flow", "Service", "Wish", "Seen", "Verdict"), rows, styles=STYLES)
    for v in found:
        for text in _said(v):
            say(out, f"{v.seen.words}: {text}.")
    for text in dict.fromkeys(_way(v.seen) for v in found if v.seen.path):
        say(out, text)
    out.print(_counted([v.met for v in found], "expectations are as wished"))
    return all(v.met is True for v in found)


def _said(judged: Judged) -> Iterator[str]:
    """The cause of one flow, what it rests on and what would settle it."""
    if isinstance(judged.met, NotKnown):
        yield f"not known: {judged.met.why}"
    cause = judged.cause
    if cause is not None:
        yield cause.text
        for lead, texts in (("speaks for it", cause.speaks_for), ("against it", cause.against)):
            if texts:
                yield f"{lead}: {'; '.join(texts[:MOST_NAMED])}"
        if cause.settles:
            yield f"to be certain: {cause.settles}"
    if judged.note:
        yield judged.note


def _way(seen: Seen) -> str:
    ends = f"{seen.source} > {seen.destination} passes"
    return f"{ends} {', '.join(seen.path)}{'' if seen.answered else ' and goes no further'}."


def _words(seen: Seen) -> str:
    if seen.problem:
        return "not tried"
    if seen.refused:
        return "refused"
    if not seen.answered:
        return "unreachable" if seen.unreachable else "no answer"
    return f"answered in {seen.seconds * 1000:.0f} ms"


def _verdict_json(verdict: Judged) -> dict[str, Any]:
    seen = verdict.seen
    return {
        "from": seen.source,
        "to": seen.destination,
        "flow": seen.flow,
        "family": seen.family,
        "must": seen.must,
        "answers": list(seen.answers),
        "refused": seen.refused,
        "seconds": seen.seconds,
        "waited": seen.waited,
        "path": list(seen.path),
        "sizes": [{"bytes": size, "answered": there} for size, there in seen.sizes],
        "met": known(verdict.met, None),
        "not_known": verdict.met.why if isinstance(verdict.met, NotKnown) else "",
        "cause": "" if verdict.cause is None else verdict.cause.text,
        "speaks_for": [] if verdict.cause is None else list(verdict.cause.speaks_for),
        "against": [] if verdict.cause is None else list(verdict.cause.against),
        "settles": "" if verdict.cause is None else verdict.cause.settles,
        "unreachable": seen.unreachable,
        "note": verdict.note,
    }
