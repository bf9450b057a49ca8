"""`routes` against what was seen: dumps in the MRT format, and what a device uses now; and what
the model has as such a dump."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from obrin.cli.shared.common import console, echo_json, print_table
from obrin.cli.shared.deeds import Change, Deed
from obrin.core.errors import ObrinError, OutsideError
from obrin.core.known import NotKnown
from obrin.live.files import read_file

MOST_BYTES = 1 << 30
"""Largest size of a dump of routing tables."""

if TYPE_CHECKING:
    from collections.abc import Sequence

    from obrin.core.routing.against_dump import Difference
    from obrin.core.settled.model import Settled
    from obrin.live.project import Project
    from obrin.wire.mrt import Dump


def compare(settled: Settled, table: str | None, file: str, *, as_json: bool) -> bool:
    """Print how a dump differs from the model; whether it does not. Raises ObrinError."""
    from obrin.core.routing.against_dump import differences
    from obrin.wire.mrt import MrtError, read_dump

    place = _router(settled, table)
    try:
        dump = read_dump(_unzipped(read_file(Path(file), MOST_BYTES)))
    except FileNotFoundError:
        raise ObrinError(f"{file} cannot be read: there is no such file. Check the path") from None
    except OutsideError as error:
        raise ObrinError(f"{file} {error}. Check the path") from None
    except MrtError as error:
        raise ObrinError(f"{file}: {error}. Give a whole MRT file") from None
    if not dump.read:
        other = f", only {dump.left_out} records of other kinds" if dump.left_out else ""
        raise ObrinError(f"{file} has no routes{other}. Give a dump of {place}'s BGP tables")
    found = list(differences(settled, place, dump.peer))
    _tell(found, as_json=as_json)
    strange = _strangers(settled, place, dump)
    if not as_json:
        routes = sum(map(len, dump.tables.values()))
        summary = f"{routes} routes from {len(dump.tables)} neighbours in {file}"
        summary += f", {dump.left_out} records of other kinds left out" if dump.left_out else ""
        click.echo(f"{summary}; {len(found) or 'no'} differences from the model.")
    for text in dump.named:
        click.echo(f"not used: {text}", err=True)
    if dump.odd:
        click.echo(f"{dump.odd} records or entries of {file} could not be used.", err=True)
    for words in strange:
        click.echo(f"not compared: {words}", err=True)
    return not found and not strange and not dump.odd


def _unzipped(data: bytes) -> bytes:
    """A dump as it is, or out of gzip (RFC 1952). Raises MrtError."""
    import zlib

    from obrin.wire.mrt import MrtError

    if not data.startswith(b"\x1f\x8b"):
        return data
    reader = zlib.decompressobj(wbits=31)
    try:
        made = reader.decompress(data, MOST_BYTES)
    except zlib.error as error:
        raise MrtError(f"it is damaged: {error}") from None
    if not reader.eof:
        raise MrtError("it is cut off, or larger than 1 GiB when it is unpacked")
    return made


def _strangers(settled: Settled, place: str, dump: Dump) -> list[str]:
    """Neighbours in a dump that no tunnel or circuit of a place has, with their routes."""
    from obrin.core.routing.against_dump import session_ends

    at_cloud = place in settled.clouds
    known = {
        ends[not at_cloud] for leg in settled.legs_at(place) for ends in session_ends(settled, leg)
    }
    return [
        f"{len(table)} routes of neighbour {peer.address} (AS {peer.asn}): no tunnel or circuit of "
        f"{place} has it"
        for peer, table in dump.tables.items()
        if table and peer.address not in known
    ]


def compare_now(project: Project, settled: Settled, table: str | None, *, as_json: bool) -> bool:
    """Print how the routes that a gateway uses differ from the model; whether they do not. Raises
    ObrinError, and OutsideError where it does not answer."""
    from obrin.core.routing.used import used_differences
    from obrin.live.drivers.registry import open_ends

    place = _router(settled, table)
    if place not in settled.gateways:
        raise ObrinError(
            f"{place} is not a site gateway: only those are asked for the routes they use"
        )
    with open_ends(project, settled) as ends:
        driver = ends.gateways.get(place)
        used = [] if driver is None else driver.routes()
        paths = None if driver is None else driver.paths()
    if not used:
        raise OutsideError(f"{place} has no routes at all. Look at it, and at what it may report")
    unclear = {r.prefix: r.used.why for r in used if isinstance(r.used, NotKnown)}
    found = list(used_differences(settled, place, ((r.prefix, r.via) for r in used), unclear))
    found += [] if paths is None else paths.differences(settled, place)
    _tell(found, as_json=as_json)
    if not as_json:
        learned = "" if paths is None else f", and what {len(paths.by_peer)} neighbours advertised"
        click.echo(f"{len(used)} routes{learned}; {len(found) or 'no'} differences from the model.")
    return not found


def compare_written(
    settled: Settled, table: str | None, file: str, template: str, *, as_json: bool
) -> bool:
    """Print how a routing table as text differs from what the model has a gateway use; whether it
    does not. Raises ObrinError."""
    from obrin.core.routing.used import used_differences
    from obrin.live.observe.written_routes import written_routes

    place = _router(settled, table)
    if place not in settled.gateways:
        raise ObrinError(f"{place} is not a site gateway: only their tables are read as text")
    used, odd = written_routes(settled, place, Path(file), Path(template))
    found = list(used_differences(settled, place, used))
    _tell(found, as_json=as_json)
    for text in odd:
        click.echo(f"not compared: {text}", err=True)
    if not as_json:
        click.echo(
            f"{len(used)} routes in {file}; {len(found) or 'no'} differences from the model."
        )
    return not found and not odd


def _tell(found: Sequence[Difference], *, as_json: bool) -> None:
    if as_json:
        echo_json(
            [
                {"what": d.what, "prefix": str(d.prefix), "tunnel": d.tunnel, "text": d.text}
                for d in found
            ]
        )
        return
    rows = [(d.what, str(d.prefix), d.tunnel, d.text) for d in found]
    if rows:
        print_table(console(), ("What", "Prefix", "Tunnel", "How"), rows)


def export(settled: Settled, table: str | None, target: str, at: int, *, dry_run: bool) -> Deed:
    """Write what a router learns by the model as a dump."""
    from obrin.core.routing.against_dump import learned
    from obrin.live.files import write_whole_bytes
    from obrin.wire.mrt import MrtPeer, write_dump

    place = _router(settled, table)
    found = learned(settled, place)
    peers = list(dict.fromkeys(c.peer for candidates in found.values() for c in candidates))
    numbers = {peer: n for n, peer in enumerate(peers)}
    cloud = settled.clouds.get(place)
    router_id = cloud.router_id(1) if cloud else settled.gateways[place].router_id
    entries = [
        (prefix, [(numbers[c.peer], c.path) for c in candidates])
        for prefix, candidates in sorted(found.items())
    ]
    listed = [MrtPeer(peer.address, peer.asn, peer.router_id) for peer in peers]
    if not dry_run:
        write_whole_bytes(Path(target), write_dump(router_id, place, listed, entries, at))
    did = f"written with {len(entries)} prefixes from {len(peers)} neighbours"
    return Deed(changes=(Change(target, did),), files=(Path(target),))


def _router(settled: Settled, table: str | None) -> str:
    known = [*settled.gateways, *settled.clouds]
    if table not in known:
        raise ObrinError(f"a dump is one router's: name one of {', '.join(known)}")
    return str(table)
