"""What a router lets pass through: by its filter rules, and errors about what they let through."""

from __future__ import annotations

from collections.abc import Iterable

from obrin.core.reach.filters import Rule, RuleSet
from obrin.core.routing.packet import PacketKey
from obrin.wire.icmp import quoted_key
from obrin.wire.packet import Packet


class PacketFilter:
    """No rules at all let everything through."""

    def __init__(self, rules: Iterable[Rule] | None) -> None:
        self._rules = None if rules is None else RuleSet(rules)

    def lets_through(self, packet: Packet, key: PacketKey) -> bool:
        """An error goes where what it is about came from, and was let through itself."""
        if self._rules is None or self._rules.match(key) is not None:
            return True
        about = quoted_key(packet)
        if about is None or about.source != packet.destination:
            return False
        return self._rules.match(about) is not None
