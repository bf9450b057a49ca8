"""Marks of packets across a tunnel: their class (DSCP, RFC 2474) and congestion (ECN, RFC 6040).

    | DSCP (6) | ECN (2): 00 not capable, 01 and 10 capable, 11 congestion was met |

The outer packet gets those of the inner one. What the way outside says of congestion is taken over
when it comes out; its class is not, since that is the provider's affair.
"""

from __future__ import annotations

from obrin.wire.packet import Packet

NOT_ECT, ECT_1, ECT_0, CE = range(4)


def ecn_inside(inner: int, outer: int) -> int | None:
    """The mark of a packet that comes out (RFC 6040 section 4.2, figure 4); None for one that must
    be dropped: it met congestion, and its ends cannot be notified."""
    if outer == CE:
        return None if inner == NOT_ECT else CE
    if inner == ECT_0 and outer == ECT_1:
        return ECT_1
    return inner


def come_out(packet: Packet, outer: int) -> Packet | None:
    """A packet out of a tunnel, with what the outer one's second byte says of congestion."""
    inner = packet.tos & 3
    mark = ecn_inside(inner, outer & 3)
    if mark is None:
        return None
    return packet if mark == inner else packet._replace(tos=packet.tos & ~3 | mark)
