"""A crew of other machines, through an engine that gives pieces to whoever is free.

The engine is Dask's distributed scheduler: it notices workers that are lost and has their pieces
done again. Needs the extra `obrin[cluster]` here, and Obrin of the same version at every worker.
Nothing secret is among what is sent.

What scheduler and workers answer becomes Python objects here: whoever runs one of them, or answers
in their place, can run any program as this user, from the first answer on. So a cluster is spoken
to where nobody else can answer (on this machine, or by TLS with certificates in Dask's
configuration), or where the user says that it is trusted.
"""

from __future__ import annotations

import hashlib
import logging
import pickle
import threading
import warnings
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from typing import Any, TypeVar, cast
from urllib.parse import urlsplit

from obrin.core.address.prefix import parse_address, parse_prefix
from obrin.core.crew import Job, Piece, Result, Shared, State
from obrin.core.errors import AddressError, ObrinError, OutsideError
from obrin.core.text import clean

Answer = TypeVar("Answer")

AHEAD = 4
"""Pieces for each thread of a worker that are given out before their results are asked for."""
PATIENCE = 10.0
"""Seconds for the scheduler, or the workers, to answer."""
MOST_STATES = 2

_states: dict[str, tuple[Any, Any]] = {}
"""At a worker: jobs and what they made of what they share, by what was sent."""


class Cluster:
    """Raises OutsideError where nobody answers at the address, and ObrinError where the engine is
    not installed, or an address is neither safe nor `trusted`."""

    def __init__(self, address: str, *, trusted: bool = False) -> None:
        if not (trusted or is_safe(address)):
            raise ObrinError(
                f"whoever answers at '{address}' could run any program as you: it is not this "
                "machine, and not tls://. Give --trust-cluster if you trust all machines on the way"
            )
        try:
            from distributed import Client
        except ImportError:
            raise ObrinError(
                "--cluster needs an engine that is not installed. Run: pip install 'obrin[cluster]'"
            ) from None
        logging.getLogger("distributed").setLevel(logging.CRITICAL)
        self._address = address
        try:
            self._client = _in_time(
                lambda: Client(address, timeout=f"{PATIENCE}s", set_as_default=False)
            )
        except Exception as error:  # whatever the engine makes of frames that are not its own
            what = clean(str(error), 200) or "it took too long"
            raise OutsideError(
                f"no scheduler answers at '{clean(address, 100)}': {what}. Start one with 'dask "
                "scheduler', and workers with 'dask worker ADDRESS'"
            ) from None
        try:
            self._need_same()
        except BaseException:
            self.close()
            raise

    def _need_same(self) -> None:
        """Raises OutsideError for workers that are not there, or have another Obrin."""
        from obrin import __version__

        try:
            found: dict[str, Any] = _in_time(lambda: self._client.run(_version, on_error="return"))
        except (OSError, RuntimeError, TimeoutError) as error:
            raise OutsideError(f"the scheduler at '{self._address}' went away: {error}") from None
        if not found:
            raise OutsideError(
                f"the scheduler at '{self._address}' has no workers. Start some with "
                f"'dask worker {self._address}'"
            )
        for worker, version in found.items():
            if version != __version__:
                other = f"has Obrin {version}" if isinstance(version, str) else "has no Obrin"
                raise OutsideError(
                    f"worker {worker} {other}, here it is {__version__}. Install the same there"
                )

    def each(
        self,
        job: Job[Shared, State, Piece, Result],
        shared: Shared,
        pieces: Iterable[Piece],
        ready: State | None = None,
    ) -> Iterator[Result]:
        from distributed import CancelledError, KilledWorker

        sent = pickle.dumps((job, shared), protocol=5)
        token = hashlib.sha256(sent).hexdigest()
        kept = self._submit(_same, sent)
        threads = sum(self._client.nthreads().values())
        left, given = iter(pieces), deque[Any]()
        try:
            while True:
                while len(given) < AHEAD * max(threads, 1):
                    more = next(left, _END)
                    if more is _END:
                        break
                    given.append(self._submit(_do, kept, token, more))
                if not given:
                    return
                yield given.popleft().result()
        except (CancelledError, KilledWorker, OSError, TimeoutError) as error:
            raise OutsideError(
                f"the cluster at '{self._address}' lost too many workers: {error}. Run it again"
            ) from None
        finally:
            self._client.cancel(list(given))

    def _submit(self, do: Callable[..., Any], *given: Any) -> Any:
        """A task: what it made is made again where the workers that had it are lost, which what is
        only scattered is not (and the engine drops all copies but one of that, too)."""
        with warnings.catch_warnings():
            warnings.filterwarnings("ignore", message="Sending large graph")
            return self._client.submit(do, *given, pure=False)

    def close(self) -> None:
        self._client.close(timeout=2)


def is_safe(address: str) -> bool:
    """Whether nobody but this machine can answer, or who answers has to prove who it is."""
    try:
        parts = urlsplit(address if "://" in address else f"tcp://{address}")
        host = parts.hostname or ""
    except ValueError:
        return False
    if parts.scheme in ("tls", "inproc"):
        return True
    try:
        return host == "localhost" or any(p.holds(parse_address(host)) for p in _THIS_MACHINE)
    except AddressError:
        return False


_THIS_MACHINE = (parse_prefix("127.0.0.0/8"), parse_prefix("::1/128"))


def _in_time(do: Callable[[], Answer]) -> Answer:
    """What `do` returns or raises; TimeoutError where it takes longer, whatever it waits for."""
    results: list[tuple[Answer | None, BaseException | None]] = []

    def run() -> None:
        try:
            results.append((do(), None))
        except BaseException as error:
            results.append((None, error))

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    thread.join(PATIENCE)
    if not results:
        raise TimeoutError("it took too long")
    answer, error = results[0]
    if error is not None:
        raise error
    return cast("Answer", answer)


_END: Any = object()


def _version() -> str:
    from obrin import __version__

    return __version__


def _same(sent: bytes) -> bytes:
    return sent


def _do(sent: bytes, token: str, piece: Any) -> Any:
    if token not in _states:
        job, shared = pickle.loads(sent)
        while len(_states) >= MOST_STATES:
            del _states[next(iter(_states))]
        _states[token] = job, job.make(shared)
    job, state = _states[token]
    return job.do(state, piece)
