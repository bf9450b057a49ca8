"""The Diffie-Hellman exchange inside CREATE_CHILD_SA (RFC 7296 section 1.3)."""

from __future__ import annotations

from obrin.core.ipsec.proposal import Proposal, Protocol
from obrin.core.ipsec.registry import Kind
from obrin.wire.ike.codec.errors import IkeFormatError, IkeRefusal
from obrin.wire.ike.codec.message import find, need
from obrin.wire.ike.codec.numbers import Notify
from obrin.wire.ike.codec.payloads import Ke, NotifyPayload, Payload
from obrin.wire.ike.crypto.dh import KeyPair, make_key_pair
from obrin.wire.ike.tunnel_state import TunnelState


def wants_group(tunnel: TunnelState, protocol: Protocol, error: NotifyPayload) -> bool:
    """Whether the peer asks for another group that we offered; it is remembered (section 1.3)."""
    if error.notify != Notify.INVALID_KE_PAYLOAD or len(error.data) != 2:
        return False
    group = int.from_bytes(error.data, "big")
    suites = tunnel.config.suites
    if protocol is Protocol.ESP:
        offered = {s.esp.group.number for s in suites if s.esp.group is not None}
    else:
        offered = {s.ike.group.number for s in suites}
    if group not in offered or tunnel.wanted_groups.get(protocol) == group:
        return False
    tunnel.wanted_groups[protocol] = group
    return True


def agree(chosen: Proposal, payloads: list[Payload], key_pair: KeyPair | None) -> bytes:
    group = chosen.one(Kind.GROUP)
    if group is None:
        return b""
    ke = need(payloads, Ke, "key exchange")
    if key_pair is None or ke.group != group.number:
        raise IkeFormatError("the key exchange is not of the agreed group")
    return key_pair.shared(ke.data)


def answer_group(
    tunnel: TunnelState, chosen: Proposal, payloads: list[Payload]
) -> tuple[bytes, bytes]:
    """(shared secret, our public value); both empty without a group. May raise IkeRefusal."""
    group = chosen.one(Kind.GROUP)
    if group is None:
        return b"", b""
    ke = find(payloads, Ke)
    if ke is None or ke.group != group.number:
        raise IkeRefusal(
            Notify.INVALID_KE_PAYLOAD,
            f"the key exchange should be in group {group.number}",
            group.number.to_bytes(2, "big"),
        )
    key_pair = make_key_pair(group.number, tunnel.rng)
    return key_pair.shared(ke.data), key_pair.public
