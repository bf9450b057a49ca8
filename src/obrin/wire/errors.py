"""Errors of the wire engines.

    WireError            bytes or calls that a protocol engine cannot accept
      ReadError          a cursor ran past its end, or bytes were left over
      PacketError        IPv4, UDP, TCP or ICMP header
      IkeFormatError     an IKE message; carries the notify that answers it
      EspError           a packet that did not open; carries a reason
      BgpError           carries the NOTIFICATION code and subcode that answers it
      CaptureError       a capture file, with the offset
      MrtError           a table dump, with the offset

What arrives from a network is hostile. Functions that touch such bytes raise nothing but these.
"""

from __future__ import annotations

from obrin.core.errors import ObrinError


class WireError(ObrinError, ValueError):
    """Root of the tree above."""

    exit_code = 3


class ReadError(WireError):
    """A read past the end of a field, or bytes left after its last part."""


class PacketError(WireError):
    """An IP, UDP, TCP or ICMP header that does not hold together; `reason` is in few words, so that
    it can be counted."""

    def __init__(self, reason: str, detail: str = "") -> None:
        self.reason = reason
        super().__init__(f"{reason}: {detail}" if detail else reason)
