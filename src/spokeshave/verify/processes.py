"""The processes of the proof: one pool for scenarios, sweep, study and whatever else takes longer than a moment.

    desktop or command --work, arguments--> process: work(...), look(part) from time to time --result--> future

They are started with the first work and stay for the next. They end by themselves when the program that started them is gone.
Each is a fork of a process that has read the modules already: the first work begins at once, and what they read is shared.
"""

from __future__ import annotations

import gc
import os
import tempfile
import threading
from collections.abc import Callable
from concurrent.futures import Executor, Future, ProcessPoolExecutor
from dataclasses import dataclass
from multiprocessing import connection, get_context, parent_process
from typing import Any, TypeVar

from spokeshave import COLLECT
from spokeshave.verify.progress import SLOTS, look, share, take_in_hand

T = TypeVar("T")

# -- in a process


def _begin_process(parts: Any, ended: Any) -> None:
    share(parts, ended)
    gc.set_threshold(*COLLECT)
    threading.Thread(target=_end_with_parent, name="parent", daemon=True).start()


def _end_with_parent() -> None:
    parent = parent_process()
    assert parent is not None
    connection.wait([parent.sentinel])
    os._exit(1)  # whatever is in hand, nobody is left to take it


def _do(number: int, work: Callable[..., T], arguments: tuple[Any, ...]) -> T:
    take_in_hand(number)
    try:
        look(0.0)
        return work(*arguments)
    finally:
        take_in_hand(0)


# -- in the program


_READ_AHEAD = ["spokeshave.verify.batch", "spokeshave.verify.sweep.work"]
"""What the processes are forked with. Nothing that needs NumPy, which has threads of its own: a fork would be without them."""


LONGEST_FOLDER = 60


@dataclass
class _Pool:
    inner: ProcessPoolExecutor
    parts: Any
    ended: Any
    last: int = 0
    executor: Executor | None = None


_pool: _Pool | None = None


class _Processes(Executor):
    """Numbers each piece of work, so that it can be ended while it runs."""

    def __init__(self, pool: _Pool) -> None:
        self._of = pool

    def submit(self, work: Callable[..., T], /, *arguments: Any, **named: Any) -> Future[T]:
        assert not named
        pool = self._of
        pool.last += 1
        pool.parts[pool.last % SLOTS] = 0.0
        future = pool.inner.submit(_do, pool.last, work, arguments)
        future.work_number = pool.last  # type: ignore[attr-defined]
        return future


def executor(jobs: int = 0) -> Executor:
    """The processes, started if there are none: `jobs` of them, else one for each processor this program may use."""
    global _pool
    if _pool is None:
        # A server of forks listens at a socket in the folder of temporary files, whose path may be some 100 letters long.
        forks = len(tempfile.gettempdir()) < LONGEST_FOLDER
        context = get_context("forkserver" if forks else "spawn")
        context.set_forkserver_preload(_READ_AHEAD)
        parts, ended = context.Array("d", SLOTS, lock=False), context.Array("q", SLOTS, lock=False)
        inner = ProcessPoolExecutor(
            jobs or len(os.sched_getaffinity(0)), context, initializer=_begin_process, initargs=(parts, ended)
        )
        _pool = _Pool(inner, parts, ended)
        _pool.executor = _Processes(_pool)
    assert _pool.executor is not None
    return _pool.executor


def end(future: Future[Any]) -> None:
    """Leaves the work out if it has not begun, and ends it at its next look if it has."""
    future.cancel()
    number = getattr(future, "work_number", 0)
    if number and _pool is not None:
        _pool.ended[number % SLOTS] = max(number, _pool.ended[number % SLOTS])


def part(future: Future[Any]) -> float:
    """How much of the work is done, 0 to 1, by what it says itself."""
    number = getattr(future, "work_number", 0)
    return float(_pool.parts[number % SLOTS]) if number and _pool is not None and not future.cancelled() else 0.0


def let_go() -> None:
    """Ends all work and the processes; the next work starts others."""
    global _pool
    pool, _pool = _pool, None
    if pool is not None:
        for i in range(min(SLOTS, pool.last + 1)):
            pool.ended[i] = pool.last
        pool.inner.shutdown(wait=True, cancel_futures=True)
