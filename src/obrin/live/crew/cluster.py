"""A crew of other machines, through an engine that gives pieces to whoever is free.

The engine is Dask's distributed scheduler: it notices workers that are lost and has their pieces
done again. Needs the extra `obrin[cluster]` here, and Obrin of the same version at every worker.
Nothing secret is among what is sent.
"""

from __future__ import annotations

import hashlib
import logging
import pickle
import warnings
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from typing import Any

from obrin.core.crew import Job, Piece, Result, Shared, State
from obrin.core.errors import ObrinError, OutsideError

AHEAD = 4
"""Pieces for each thread of a worker that are given out before their results are asked for."""
PATIENCE = "10s"
"""For the scheduler to answer."""
MOST_STATES = 2

_states: dict[str, tuple[Any, Any]] = {}
"""At a worker: jobs and what they made of what they share, by what was sent."""


class Cluster:
    """Raises OutsideError where nobody answers at the address, and ObrinError where the engine is
    not installed."""

    def __init__(self, address: str) -> None:
        try:
            from distributed import Client
        except ImportError:
            raise ObrinError(
                "--cluster needs an engine that is not installed. Run: pip install 'obrin[cluster]'"
            ) from None
        logging.getLogger("distributed").setLevel(logging.CRITICAL)
        self._address = address
        try:
            self._client = Client(address, timeout=PATIENCE, set_as_default=False)
        except (OSError, ValueError, TimeoutError, RuntimeError) as error:
            raise OutsideError(
                f"no scheduler answers at '{address}': {error or 'it took too long'}. Start one "
                "with 'dask scheduler', and workers with 'dask worker ADDRESS'"
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
            found: dict[str, Any] = self._client.run(_version, on_error="return")
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
