"""What runs the long work of commands: this process, processes of this machine, or a cluster."""

from __future__ import annotations

import sys
import time
from contextlib import contextmanager
from typing import TYPE_CHECKING, Annotated, Any, Protocol

import typer

from spokeshave.cli.told import fail

if TYPE_CHECKING:
    from collections.abc import Iterator
    from concurrent.futures import Executor

ANSWERS_S = 10
"""Seconds in which a scheduler has to answer."""
Jobs = Annotated[int, typer.Option(help="Processes to run in; 0 for one a processor.", min=0)]
Cluster = Annotated[str, typer.Option(help="Run on the workers of this Dask scheduler, such as tcp://scheduler:8786.")]


@contextmanager
def workers(jobs: int, cluster: str) -> Iterator[Executor | None]:
    """What runs the cells: nothing for here, processes of this machine, or the workers of a cluster."""
    if cluster:
        try:
            from distributed import Client
        except ImportError:
            fail("--cluster needs the extra of this name: pip install -e '.[cluster]'")
        try:
            client: Any = Client(cluster, timeout=ANSWERS_S)  # type: ignore[no-untyped-call]
        except (OSError, ValueError, TimeoutError) as error:
            fail(f"--cluster {cluster}: no scheduler answers there: {error}")
        try:
            yield client.get_executor()
        finally:
            client.close()
        return
    from spokeshave.verify import processes

    executor = processes.executor(jobs) if jobs != 1 else None
    try:
        yield executor
    finally:
        if executor is not None:
            processes.let_go()


class Going(Protocol):
    """Work that comes in parts."""

    @property
    def done(self) -> bool: ...
    @property
    def part(self) -> float: ...
    def poll(self) -> object: ...


def see_through(run: Going, executor: Executor | None) -> None:
    """Polls until it is done; on a terminal tells how much of it is."""
    tell = sys.stderr.isatty()
    while not run.done:
        if not run.poll() and executor is not None:
            time.sleep(0.02)
        if tell:
            print(f"\r{100 * run.part:3.0f} %", end="", file=sys.stderr)
    if tell:
        print("\r     \r", end="", file=sys.stderr)
