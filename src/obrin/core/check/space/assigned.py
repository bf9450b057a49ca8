"""Check what a cloud assigned as soon as somebody types it."""

from __future__ import annotations

from collections.abc import Sequence

from obrin.core.address.prefix import parse_address
from obrin.core.address.special import special
from obrin.core.errors import AddressError
from obrin.core.settle.blank import Blank
from obrin.core.settled.model import Settled


def wrong_with(settled: Settled, place: str, texts: Sequence[str]) -> str:
    """Why these cannot be the values of a place such as `clouds.X.gateway.addresses`; empty where
    they can."""
    cloud, field = Blank.of(place).owner, place.rpartition(".")[2]
    own = settled.clouds[cloud].gateway
    if own is None:
        return f"{cloud} has no gateway"
    try:
        held = [parse_address(text) for text in texts]
    except AddressError as error:
        return str(error)
    if len(held) != len(own.instances):
        return f"{len(own.instances)} are wanted, one for each instance, and {len(held)} are given"
    if len(set(held)) < len(held):
        return "one address stands twice"
    bits = 128 if field.endswith("6") else 32
    if field == "peers":
        out = [a for a in held if not any(p.holds(a) for p in own.subnet)]
        subnet = " and ".join(map(str, own.subnet))
        return f"{out[0]} does not lie in the gateway subnet {subnet}" if out else ""
    other = next((a for a in held if a.bits != bits), None)
    if other is not None:
        return f"{other} is of the other address family"
    for address in held:
        known = special(address.alone)
        if known is not None:
            return f"{address} is not public: it lies in {known.prefix}, which is {known.what}"
        for gateway in settled.gateways.values():
            for uplink in gateway.uplinks.values():
                if address in (uplink.address, uplink.own):
                    return f"{address} is that of uplink {gateway.name}/{uplink.name}"
        for name, beside in settled.clouds.items():
            if name != cloud and address in beside.addresses:
                return f"{address} is that of cloud {name}"
    return ""
