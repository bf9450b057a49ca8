"""Options of commands whose work falls into independent pieces."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, TypeVar

import click

if TYPE_CHECKING:
    from obrin.core.crew import Crew

Command = TypeVar("Command", bound=Callable[..., Any])
MOST_WORKERS = 256


workers_option = click.option(
    "--workers",
    type=click.IntRange(1, MOST_WORKERS),
    default=1,
    show_default=True,
    help="So many processes of this machine share the work.",
)
_cluster_option = click.option(
    "--cluster",
    metavar="ADDRESS",
    help="Have it done by the workers of a Dask scheduler, such as tls://192.0.2.7:8786. Whoever "
    "runs the scheduler or a worker, or can answer in its place, can run any program as you.",
)
_trust_option = click.option(
    "--trust-cluster",
    "trusted",
    is_flag=True,
    help="Speak to it though it is neither on this machine nor at a tls:// address.",
)


def working(command: Command) -> Command:
    """Adds --workers, --cluster and --trust-cluster, for what has no secrets in it."""
    return workers_option(_cluster_option(_trust_option(command)))


@contextmanager
def crew_of(workers: int, cluster: str | None = None, *, trusted: bool = False) -> Iterator[Crew]:
    """Whoever does the work. Raises UsageError for both at once, OutsideError where the cluster
    does not answer."""
    from obrin.core.crew import HERE

    if cluster is not None and workers > 1:
        raise click.UsageError("give --workers for this machine, or --cluster for others")
    if trusted and cluster is None:
        raise click.UsageError("--trust-cluster belongs to --cluster")
    crew: Crew = HERE
    if cluster is not None:
        from obrin.live.crew.cluster import Cluster

        crew = Cluster(cluster, trusted=trusted)
    elif workers > 1:
        from obrin.live.crew.processes import Processes

        crew = Processes(workers)
    try:
        yield crew
    finally:
        crew.close()
