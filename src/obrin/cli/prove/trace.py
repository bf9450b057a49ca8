"""`trace`: one packet through the network, hop by hop, and its answer back."""

from __future__ import annotations

import itertools
from typing import TYPE_CHECKING

import click

from obrin.cli.shared.common import (
    console,
    design_option,
    echo_json,
    json_option,
    print_table,
    project_of,
)
from obrin.cli.shared.failing import model_without, without_option
from obrin.core.errors import ObrinError

if TYPE_CHECKING:
    from obrin.core.address.prefix import Address
    from obrin.core.design.places import NetworkRef
    from obrin.core.design.values import Flow
    from obrin.core.reach.paths import End
    from obrin.core.reach.trace import Trace
    from obrin.core.settled.model import Settled


@click.command()
@click.argument("source", metavar="FROM")
@click.argument("destination", metavar="TO")
@click.argument("flow", default="icmp")
@without_option
@click.option("--ipv6", is_flag=True, help="Between the IPv6 addresses of two networks.")
@design_option
@json_option
@click.pass_context
def trace(
    ctx: click.Context,
    source: str,
    destination: str,
    flow: str,
    failed: tuple[str, ...],
    ipv6: bool,
    design_file: str | None,
    as_json: bool,
) -> None:
    """Follow a packet from one network to another and its answer back: routes, rules, translation.

    FROM and TO are networks (PLACE/NETWORK), hosts in them (PLACE/NETWORK/ADDRESS) or addresses, TO
    also 'internet'; FLOW is tcp/443, udp/53, icmp. Between networks it goes over IPv4 where they
    have it. Exit code 1 when it does not arrive, or its answer does not.

    \b
    Examples:
      obrin trace harbour-house/counters timetable/booking tcp/443 --design skerrow-ferries
      obrin trace 10.20.0.9 timetable/booking --without gateway:hh-east --design skerrow-ferries
    """
    from obrin.core.reach.paths import path_there_and_back

    settled = project_of(design_file).on_trial().settled
    one, two = _end(settled, source), _end(settled, destination)
    if one[0].is_internet:
        raise ObrinError("nothing comes from the internet by itself. Trace from a network to it")
    one, two = _of_one_family(settled, one, two, ipv6=ipv6)
    model = model_without(settled, failed)
    found = path_there_and_back(model, one, two, _flow(flow))
    if as_json:
        echo_json(
            {
                "there": _as_json(found.there),
                "back": None if found.back is None else _as_json(found.back),
                "tunnels": [found.tunnel_there, found.tunnel_back],
                "mtu": found.mtu,
                "warnings": list(found.warnings),
            }
        )
    else:
        _print(found.there, found.back)
        for warning in found.warnings:
            click.echo(f"Mind: {warning}.")
        if found.mtu:
            click.echo(f"Packets of up to {found.mtu} bytes cross whole.")
    ctx.exit(0 if found.good else 1)


def _flow(text: str) -> Flow:
    from obrin.core.design.values import parse_flow

    try:
        return parse_flow(text)
    except ValueError as error:
        raise ObrinError(str(error)) from None


def _end(settled: Settled, text: str) -> tuple[NetworkRef, Address | None]:
    """A network, and the address in it if one was given. Raises ObrinError."""
    from obrin.core.address.prefix import parse_address
    from obrin.core.design.places import INTERNET, NetworkRef
    from obrin.core.errors import AddressError
    from obrin.core.reach.paths import all_networks

    names = {str(reference): reference for reference in all_networks(settled)}
    if text == INTERNET:
        return NetworkRef(INTERNET), None
    if text in names:
        return names[text], None
    network, _, host = text.rpartition("/")
    try:
        address = parse_address(host if network in names else text)
    except AddressError:
        known = ", ".join(list(names)[:8])
        raise ObrinError(
            f"'{text}' is neither a network, nor a network with a host in it, nor an address. "
            f"Networks: {known}"
        ) from None
    if network in names:
        if any(prefix.holds(address) for prefix in settled.families_at(names[network])):
            return names[network], address
        raise ObrinError(f"{address} is not in {network}. 'obrin space who {address}' shows more")
    for reference in names.values():
        if any(prefix.holds(address) for prefix in settled.families_at(reference)):
            return reference, address
    raise ObrinError(f"{text} is in no network of the design. 'obrin space who {text}' shows more")


def _of_one_family(settled: Settled, one: End, two: End, *, ipv6: bool) -> tuple[End, End]:
    """Resolve both ends in the family of their addresses, or else in the family asked for."""
    from dataclasses import replace

    given = {address.bits for _, address in (one, two) if address is not None}
    given |= {128} if ipv6 else set()
    if len(given) > 1:
        raise ObrinError("the two ends are of different families. Give both of one")
    bits = next(iter(given), settled.families[0])
    if bits not in settled.families:
        raise ObrinError(f"the design carries no IPv{6 if bits == 128 else 4}. See its 'stack'")
    return (replace(one[0], bits=bits), one[1]), (replace(two[0], bits=bits), two[1])


def _as_json(found: Trace) -> dict[str, object]:
    return {"hops": list(found.hops), "dropped": found.dropped, "arrives": not found.dropped}


def _print(there: Trace, back: Trace | None) -> None:
    def lines(found: Trace | None) -> list[str]:
        if found is None:
            return ["no answer: nothing arrived"]
        return [*found.hops, f"STOPS: {found.dropped}" if found.dropped else "arrives"]

    rows = [
        (str(n), one, two)
        for n, (one, two) in enumerate(
            itertools.zip_longest(lines(there), lines(back), fillvalue=""), 1
        )
    ]
    print_table(console(), ("", "There", "Back"), rows, styles={"arrives": "green"})
