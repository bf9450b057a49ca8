"""Errors of the IKE codec and engine; each knows the notify that answers it."""

from __future__ import annotations

from obrin.wire.errors import WireError
from obrin.wire.ike.codec.numbers import Notify


class IkeFormatError(WireError):
    """A message that cannot be read. `notify` is what a peer may be sent, if anything."""

    def __init__(
        self, text: str, notify: Notify = Notify.INVALID_SYNTAX, data: bytes = b""
    ) -> None:
        self.notify = notify
        self.data = data
        super().__init__(text)


class IkeNotAuthentic(IkeFormatError):
    """The integrity check does not match: no answer, since nobody known sent it."""


class IkeRefusal(WireError):
    """A request that reads well and cannot be granted: the notify and its data go back."""

    def __init__(self, notify: Notify, text: str, data: bytes = b"") -> None:
        self.notify = notify
        self.data = data
        super().__init__(text)
