"""Capture files in the classic pcap format, link type RAW: each record is one IP packet.

file:    | magic 0xA1B2C3D4 | major 2 | minor 4 | zone 0 | accuracy 0 | snap length | link 101 |
record:  | seconds | microseconds | captured length | original length | packet |
"""

from __future__ import annotations

from collections.abc import Iterator
from struct import Struct
from typing import NamedTuple

from obrin.wire.errors import WireError

_FILE = Struct("IHHiIII")
_RECORD = Struct("IIII")
MAGIC = 0xA1B2C3D4
LINK_RAW = 101
SNAP_LENGTH = 65535


class CaptureError(WireError):
    """A capture file that cannot be read; the text holds the offset."""


class Captured(NamedTuple):
    at: float
    packet: bytes


def encode_file_header() -> bytes:
    return Struct("<" + _FILE.format).pack(MAGIC, 2, 4, 0, 0, SNAP_LENGTH, LINK_RAW)


def encode_record(at: float, packet: bytes) -> bytes:
    """`at` in seconds since 1970."""
    micros = round(at * 1_000_000)
    return (
        Struct("<" + _RECORD.format).pack(
            micros // 1_000_000 & 0xFFFFFFFF, micros % 1_000_000, len(packet), len(packet)
        )
        + packet
    )


def decode_capture(data: bytes) -> Iterator[Captured]:
    """The records of a whole file, either byte order. Raises CaptureError."""
    if len(data) < 24:
        raise CaptureError(f"a capture of {len(data)} bytes has no complete header")
    order = next((sign for sign in "<>" if Struct(sign + "I").unpack_from(data)[0] == MAGIC), None)
    if order is None:
        raise CaptureError("the capture does not begin with the pcap magic number")
    link = Struct(order + _FILE.format).unpack_from(data)[6]
    if link != LINK_RAW:
        raise CaptureError(f"link type {link} at offset 20; only raw IP ({LINK_RAW}) is read")
    record = Struct(order + _RECORD.format)
    position = 24
    while position < len(data):
        if position + 16 > len(data):
            raise CaptureError(f"the record header at offset {position} is cut short")
        seconds, micros, size, _ = record.unpack_from(data, position)
        position += 16
        if size > SNAP_LENGTH or position + size > len(data):
            raise CaptureError(f"the record at offset {position - 16} claims {size} bytes")
        yield Captured(seconds + micros / 1_000_000, data[position : position + size])
        position += size
