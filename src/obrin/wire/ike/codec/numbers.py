"""Numbers of IKEv2 from the IANA registry and RFC 7296; unknown ones survive as plain ints."""

from __future__ import annotations

import enum


class Exchange(enum.IntEnum):
    IKE_SA_INIT = 34
    IKE_AUTH = 35
    CREATE_CHILD_SA = 36
    INFORMATIONAL = 37


class PayloadType(enum.IntEnum):
    NONE = 0
    SA = 33
    KE = 34
    IDI = 35
    IDR = 36
    CERT = 37
    CERTREQ = 38
    AUTH = 39
    NONCE = 40
    NOTIFY = 41
    DELETE = 42
    VENDOR = 43
    TSI = 44
    TSR = 45
    SK = 46
    SKF = 53


class Notify(enum.IntEnum):
    """Section 3.10.1: below 16384 an error, from there on status."""

    UNSUPPORTED_CRITICAL_PAYLOAD = 1
    INVALID_IKE_SPI = 4
    INVALID_MAJOR_VERSION = 5
    INVALID_SYNTAX = 7
    INVALID_MESSAGE_ID = 9
    INVALID_SPI = 11
    NO_PROPOSAL_CHOSEN = 14
    INVALID_KE_PAYLOAD = 17
    AUTHENTICATION_FAILED = 24
    SINGLE_PAIR_REQUIRED = 34
    NO_ADDITIONAL_SAS = 35
    TS_UNACCEPTABLE = 38
    TEMPORARY_FAILURE = 43
    CHILD_SA_NOT_FOUND = 44
    INITIAL_CONTACT = 16384
    NAT_DETECTION_SOURCE_IP = 16388
    NAT_DETECTION_DESTINATION_IP = 16389
    COOKIE = 16390
    ADDITIONAL_TS_POSSIBLE = 16386
    REKEY_SA = 16393
    FRAGMENTATION_SUPPORTED = 16430
    SIGNATURE_HASH_ALGORITHMS = 16431


class AuthMethod(enum.IntEnum):
    SHARED_KEY = 2
    DIGITAL_SIGNATURE = 14


class IdKind(enum.IntEnum):
    IPV4_ADDR = 1
    FQDN = 2
    RFC822_ADDR = 3
    IPV6_ADDR = 5
    KEY_ID = 11


CERT_X509 = 4
"""X.509 Certificate - Signature (RFC 7296 section 3.6)."""
FLAG_INITIATOR = 0x08
FLAG_RESPONSE = 0x20
VERSION_2 = 0x20
PORT = 500
NAT_PORT = 4500
NON_ESP_MARKER = b"\0\0\0\0"


def notify_name(number: int) -> str:
    """The registry name of a notify, or its number when unknown here."""
    try:
        return Notify(number).name
    except ValueError:
        return f"notify {number}"
