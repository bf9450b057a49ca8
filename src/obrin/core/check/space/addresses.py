"""Check public addresses: that they are public, one's own, and each of one device."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from obrin.core.address.prefix import Address
from obrin.core.address.special import is_example, special
from obrin.core.check.finding import Finding, Severity
from obrin.core.check.space.summaries import Holders
from obrin.core.design.reader import Location
from obrin.core.routing.model import accepted_at_site
from obrin.core.settle.blank import suffix
from obrin.core.settled.model import Settled
from obrin.core.settled.sites import SettledGateway, SettledUplink

Here = tuple[Location, SettledGateway, SettledUplink]


def _uplinks(settled: Settled) -> Iterator[Here]:
    for gateway in settled.gateways.values():
        for name, uplink in gateway.uplinks.items():
            where = (*settled.location_of(gateway.name), "uplinks", name, "address")
            yield where, gateway, uplink


def public_addresses(settled: Settled) -> Iterator[Finding]:
    """Every uplink by itself, then against the clouds and each other."""
    yield from _instances(settled)
    clouds = {a: cloud.name for cloud in settled.clouds.values() for a in cloud.addresses}
    uplinks = list(_uplinks(settled))
    examples = [found for found in uplinks if is_example(found[2].address.alone)]
    for where, gateway, uplink in uplinks:
        yield from _public(where, gateway, uplink)
        if uplink.address in clouds:
            yield Finding(
                Severity.ERROR,
                "address-far-end",
                where,
                f"uplink {uplink.name} of {gateway.name} has {uplink.address}, which is cloud "
                f"{clouds[uplink.address]}'s own",
                "both ends would speak to themselves",
                "give the site's address here, as its provider assigned it",
            )
    yield from _behind_translators(settled, uplinks)
    yield from _same_inside(uplinks)
    yield from _identities(settled)
    if len(examples) < len(uplinks):
        # Where all are examples, the design is one.
        yield from map(_example, examples)
    yield from _twice(uplinks)


def _behind_translators(settled: Settled, uplinks: list[Here]) -> Iterator[Finding]:
    """A device's own address behind a translator, in a range that it has to reach elsewhere."""
    holders = Holders()
    for where, gateway, uplink in uplinks:
        if not uplink.translated:
            continue
        own = [(f"{gateway.site}/{n}", p) for n, x in gateway.networks.items() for p in x.prefix]
        inside = next((n for n, prefix in own if prefix.holds(uplink.own)), "")
        if inside:
            yield Finding(
                Severity.WARNING,
                "address-one-armed",
                (*where[:-1], "inside"),
                f"{uplink.own} of uplink {uplink.name} at {gateway.name} lies in {inside}, so the "
                "device has the network on its internet side",
                "with a second interface in that network, what is for its hosts leaves by the "
                "wrong one; with a single one, hosts send past the device until they have a route",
                "give the network between device and translator a range of its own; or, with one "
                f"interface, give the hosts or their router a route to it by {uplink.own}, and "
                "accept this",
            )
            continue
        owner = ""
        for bundle in settled.bundles_of(gateway.site):
            if holders.of(accepted_at_site(settled, bundle), uplink.own) is not None:
                owner = f"{bundle.cloud}, over {bundle.name}"
        if owner:
            yield Finding(
                Severity.ERROR,
                "address-inside",
                (*where[:-1], "inside"),
                f"{uplink.own} of uplink {uplink.name} at {gateway.name} lies in a range of "
                f"{owner}",
                "the device has the range on its internet side: what is for hosts there, or the "
                "tunnel's own packets, leave by the wrong interface",
                "give the network between device and translator a range of its own",
            )


def _same_inside(uplinks: list[Here]) -> Iterator[Finding]:
    """One device behind two translators that both gave it the same address, as boxes of one make
    do."""
    first: dict[tuple[str, Address], str] = {}
    for where, gateway, uplink in uplinks:
        other = first.setdefault((gateway.name, uplink.own), uplink.name)
        if other != uplink.name and uplink.translated:
            yield Finding(
                Severity.ERROR,
                "inside-address-twice",
                (*where[:-1], "inside"),
                f"uplinks {other} and {uplink.name} of {gateway.name} both have {uplink.own} on "
                "the device",
                "it cannot tell the two lines apart: the second one's tunnels leave by the first, "
                "or not at all",
                "give the network behind one of the two translators another range",
            )


def _instances(settled: Settled) -> Iterator[Finding]:
    """Public addresses of clouds' gateways, where the design gives them."""
    first: dict[Address, str] = {}
    for name, cloud in settled.clouds.items():
        numbered = ((n, a) for n, instance in enumerate(cloud.instances, 1) for a in instance)
        for number, address in numbered:
            key = f"addresses{suffix(address.bits)}"
            where: Location = ("clouds", name, "gateway", key)
            mine = f"instance {number} of {name}"
            range_ = special(address.alone)
            if range_ is not None:
                yield Finding(
                    Severity.ERROR,
                    "address-not-public",
                    where,
                    f"{address} of {mine} is {range_.what}",
                    "no site can send there: the tunnels never come up",
                    "write the address that the cloud assigns, or leave it blank",
                )
            other = first.setdefault(address, mine)
            if other != mine:
                yield Finding(
                    Severity.ERROR,
                    "address-twice",
                    where,
                    f"{mine} and {other} both have {address}",
                    "packets for one of them go to the other",
                    "give each the address that the cloud assigns, or leave them blank",
                )


def _public(where: Location, gateway: SettledGateway, uplink: SettledUplink) -> Iterator[Finding]:
    range_ = special(uplink.address.alone)
    if range_ is not None:
        yield Finding(
            Severity.ERROR,
            "address-not-public",
            where,
            f"{uplink.address} of uplink {uplink.name} at {gateway.name} is {range_.what}",
            "the cloud cannot send there, and does not know packets that come from elsewhere as "
            "this gateway's",
            "write the address that the internet sees as 'address', and the device's own as "
            "'inside'",
        )


def _example(found: Here) -> Finding:
    where, gateway, uplink = found
    return Finding(
        Severity.NOTE,
        "address-example",
        where,
        f"{uplink.address} of uplink {uplink.name} at {gateway.name} is an address for examples "
        "(RFC 5737), and others of this design are not",
        "nothing on the internet has it, so this uplink's tunnels never come up",
        "write the true one",
    )


def _twice(uplinks: Iterable[Here]) -> Iterator[Finding]:
    """One address at two gateways is two devices behind one translator, or a mistake."""
    first: dict[Address, Here] = {}
    for where, gateway, uplink in uplinks:
        _, other, theirs = first.setdefault(uplink.address, (where, gateway, uplink))
        if theirs is uplink:
            continue
        both = f"{other.name}/{theirs.name} and {gateway.name}/{uplink.name}"
        if uplink.translated and theirs.translated and uplink.forwards and theirs.forwards:
            yield Finding(
                Severity.ERROR,
                "address-shared",
                (*where[:-1], "forwards"),
                f"{both} are both behind {uplink.address}, and both are said to be forwarded to",
                "a translator passes UDP 500 and 4500 on to one device only: the other is never "
                "called",
                "let the translator forward to one of them, and the other start its tunnels",
            )
        elif uplink.translated and theirs.translated:
            yield Finding(
                Severity.WARNING,
                "address-shared",
                where,
                f"{both} are both behind {uplink.address}",
                "only one of them can be called from outside at UDP 500 and 4500; the cloud tells "
                "them apart by their identities and ports alone",
                "let both start their tunnels, with identities of their own",
            )
        else:
            yield Finding(
                Severity.ERROR,
                "address-twice",
                where,
                f"{both} both have {uplink.address}",
                "packets for one of them go to the other",
                "give each its own, or the devices' own ones as 'inside' where a translator is in "
                "front of both",
            )


def _identities(settled: Settled) -> Iterator[Finding]:
    """Two gateways that send one cloud gateway the same identity, as when a template was copied."""
    for cloud in settled.clouds:
        seen: dict[str, tuple[str, Address]] = {}
        for tunnel in settled.tunnels_at(cloud):
            mine = tunnel.gateway, tunnel.uplink.address
            first, address = seen.setdefault(tunnel.uplink.identity, mine)
            # One address at two gateways is reported as such.
            if first != tunnel.gateway and address != tunnel.uplink.address:
                yield Finding(
                    Severity.ERROR,
                    "identity-twice",
                    (*settled.location_of(tunnel.gateway), "uplinks", tunnel.uplink.name),
                    f"{tunnel.gateway} and {first} both say to {cloud} that they are "
                    f"{tunnel.uplink.identity}",
                    "the cloud takes one for the other: the wrong key is tried, and one of them "
                    "stays down",
                    "give each an identity of its own; behind a translator a name, or the public "
                    "address",
                )
                seen[tunnel.uplink.identity] = mine
