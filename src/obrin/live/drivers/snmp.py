"""Devices of any make by SNMPv3, or v2c: the tables of their standard MIBs.

A place is named as RFC 4088 has it, `snmp://USER@HOST:PORT`; without a user it is v2c, and the
token is its community. With one, the token is two lines: what authenticates the user (RFC 3414,
RFC 7860) and what encrypts (RFC 3826); a single line is both.
"""

from __future__ import annotations

import asyncio
from typing import Any
from urllib.parse import urlsplit

from obrin.core.errors import ObrinError, OutsideError
from obrin.core.handover.standard.operational import DeviceState
from obrin.core.text import clean
from obrin.live.drivers.by_tables import Observer
from obrin.live.drivers.places import Place
from obrin.live.waiting import awaited
from obrin.wire.errors import ReadError
from obrin.wire.mib.device import ROOTS, decode
from obrin.wire.mib.tables import Oid, Value

PORT, TIMEOUT, RETRIES = 161, 3.0, 2
AT_ONCE = 25
"""Values asked for in one request (RFC 3416 section 4.2.3)."""
MOST_VALUES, MOST_OCTETS, MOST_ARCS = 500_000, 4096, 128
"""Limits: values in all tables, bytes of a value, arcs of an object identifier (RFC 2578 section
3.5)."""
IN_ALL = 60.0
"""Seconds for all tables."""
LEAST_SECRET = 8
"""Characters, by RFC 3414 section 11.2."""
_ANSWERS_NOTHING = "does not answer at {host}, port {port} (UDP). Look at its address, "
_CURES = {
    "RequestTimedOut": (
        _ANSWERS_NOTHING + "whether it allows this host, and at the community in its token: an "
        "agent is silent to a wrong one",
        _ANSWERS_NOTHING + "whether it allows this host, and at its user: some agents are silent "
        "to a wrong one",
    ),
    "UnknownUserName": ("", "does not know the user in its url. Look at the user there"),
    "WrongDigest": (
        "",
        "does not accept the first line of its token with 'hash: {hash}' (its authentication). "
        "Look at both",
    ),
    "AuthenticationFailure": (
        "",
        "does not accept the first line of its token with 'hash: {hash}' (its authentication). "
        "Look at both",
    ),
    "DecryptionError": (
        "",
        "does not accept the last line of its token (its encryption, AES-128). Look at it",
    ),
    "UnsupportedSecurityLevel": (
        "",
        "does not let this user authenticate and encrypt. Give the user both there",
    ),
    "NotInTimeWindow": ("", "finds the clock of its own engine wrong. Look at it, and ask again"),
    "NoSuchView": ("", "gives this user no view. Give it one of interfaces, addresses and routes"),
    "NoAccessEntry": (
        "",
        "gives this user no view. Give it one of interfaces, addresses and routes",
    ),
}
"""Failures of a request by the library's names for them: what to look at with v2c, and with v3."""
HASHES = {
    "sha-1": "USM_AUTH_HMAC96_SHA",
    "sha-256": "USM_AUTH_HMAC192_SHA256",
    "sha-384": "USM_AUTH_HMAC256_SHA384",
    "sha-512": "USM_AUTH_HMAC384_SHA512",
}


def open_observer(place: Place) -> Observer:
    """The entry point `snmp`. Raises ObrinError for a place that cannot be one."""
    url = urlsplit(place.url)
    try:
        host, port = url.hostname, url.port or PORT
    except ValueError as error:
        raise ObrinError(f"{place.name}: {error}. Write snmp://USER@HOST:PORT") from None
    if url.scheme != "snmp" or not host or url.password or url.path.strip("/"):
        raise ObrinError(f"{place.name}: '{place.url}' names no agent. Write snmp://USER@HOST:PORT")
    secrets = place.token.split("\n")
    if url.username and min(map(len, secrets)) < LEAST_SECRET:
        raise ObrinError(
            f"the token of {place.name} is too short: {LEAST_SECRET} characters a line at least"
        )
    return SnmpObserver(place.name, (host, port), url.username, secrets, place.hash)


class SnmpObserver:
    def __init__(
        self,
        name: str,
        at: tuple[str, int],
        user: str | None,
        secrets: list[str],
        hash_name: str,
    ) -> None:
        self._name, self._at, self._user = name, at, user
        self._secrets, self._hash = secrets, hash_name

    def state(self) -> DeviceState:
        """Raises OutsideError."""
        agent = f"the agent of {self._name}"
        try:
            with awaited(f"{agent} has not sent its tables yet; giving up after {IN_ALL:.0f} s"):
                return decode(asyncio.run(self._within()))
        except OutsideError:
            raise
        except TimeoutError:
            raise OutsideError(
                f"{agent} has not sent its tables within {IN_ALL:.0f} s. Give its user a view of "
                "interfaces, addresses, routes and BGP peers alone"
            ) from None
        except ReadError as error:
            raise OutsideError(f"{agent} sends what is not a table: {error}") from error
        except OSError as error:
            raise OutsideError(f"{agent} cannot be asked: {error}") from error
        except Exception as error:  # whatever the library makes of an answer that is not SNMP
            what = clean(f"{type(error).__name__}: {error}", 200)
            raise OutsideError(f"{agent} answers what is not SNMP ({what})") from error

    def close(self) -> None:
        """Nothing is kept open between two questions."""

    def _credentials(self) -> Any:
        import pysnmp.hlapi.v3arch.asyncio as library

        if self._user is None:
            return library.CommunityData(self._secrets[0], mpModel=1)
        return library.UsmUserData(
            self._user,
            self._secrets[0],
            self._secrets[-1],
            getattr(library, HASHES[self._hash]),
            library.USM_PRIV_CFB128_AES,
        )

    async def _within(self) -> dict[Oid, Value]:
        """What the library makes of a datagram that is none is an error of the event loop: there
        it is dropped like the datagram, which is asked for again."""
        asyncio.get_running_loop().set_exception_handler(lambda _loop, _context: None)
        return await asyncio.wait_for(self._walk(), IN_ALL)

    async def _walk(self) -> dict[Oid, Value]:
        import pysnmp.hlapi.v3arch.asyncio as library

        ipv6 = ":" in self._at[0]
        transport = library.Udp6TransportTarget if ipv6 else library.UdpTransportTarget
        engine = library.SnmpEngine()
        try:
            target = await transport.create(self._at, timeout=TIMEOUT, retries=RETRIES)
            values: dict[Oid, Value] = {}
            left = MOST_VALUES
            for root in ROOTS:
                left -= await self._column(engine, self._credentials(), target, root, values, left)
            return values
        finally:
            engine.close_dispatcher()

    def _why(self, failed: object) -> str:
        """Put the failure of a request in words, with what to look at."""
        cure = _CURES.get(type(failed).__name__)
        if cure is None:
            return f"the agent of {self._name} refuses: {clean(str(failed), 200)}"
        version = "v2c" if self._user is None else "v3"
        text = cure[version == "v3"]
        host, port = self._at
        return f"the agent of {self._name} {text}".format(host=host, port=port, hash=self._hash)

    async def _column(
        self,
        engine: Any,
        credentials: Any,
        target: Any,
        root: Oid,
        values: dict[Oid, Value],
        most: int,
    ) -> int:
        """All values below an object identifier, which an agent has to report in their order; how
        many there were, those included that have no meaning. Raises ReadError for more."""
        import pysnmp.hlapi.v3arch.asyncio as library

        at, context, count = root, library.ContextData(), 0
        while True:
            wanted = library.ObjectType(library.ObjectIdentity(at))
            failed, status, _, bindings = await library.bulk_cmd(
                engine, credentials, target, context, 0, AT_ONCE, wanted, lookupMib=False
            )
            if failed or status:
                raise OutsideError(self._why(failed or status))
            for name, value in bindings:
                oid = tuple(name)
                if oid[: len(root)] != root or library.is_end_of_mib([(name, value)]):
                    return count
                if oid <= at or len(oid) > MOST_ARCS:
                    raise ReadError("its object identifiers do not rise, or are too long")
                at, count = oid, count + 1
                if count > most:
                    raise ReadError(f"more than {MOST_VALUES:,} values")
                plain = _plain(value)
                if plain is not None:
                    values[oid] = plain
            if not bindings:
                return count


def _plain(value: Any) -> Value | None:
    """Return None for what is neither a number nor a string. Raises ReadError for one that is
    too long."""
    try:
        plain = bytes(value.asOctets()) if hasattr(value, "asOctets") else int(value)
    except (TypeError, ValueError):
        return None
    if isinstance(plain, bytes) and len(plain) > MOST_OCTETS:
        raise ReadError(f"a value of more than {MOST_OCTETS:,} bytes")
    return plain
