"""The processes of the proof: they end with the program, and what nobody waits for ends while it runs."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from concurrent.futures import wait
from pathlib import Path

import pytest

from spokeshave.verify import processes
from spokeshave.verify.processes import end, executor, let_go, part
from spokeshave.verify.progress import EndedError, look


@pytest.fixture
def one() -> Iterator[None]:
    """A pool of one process: what is asked second begins when the first has ended."""
    let_go()
    executor(1)
    yield
    let_go()


def for_ever(pieces: int) -> int:
    for n in range(pieces):
        time.sleep(0.005)
        look(min(1.0, n / 1000))
    return pieces


def test_work_that_is_ended_makes_room_at_once_and_tells_how_far_it_was(one):
    long = executor().submit(for_ever, 10**9)
    while not part(long) > 0.001:
        time.sleep(0.005)
    second, third = executor().submit(for_ever, 3), executor().submit(for_ever, 4)
    end(long)
    assert not wait([long, second], timeout=60).not_done
    assert isinstance(long.exception(), EndedError) and second.result() == 3 and third.result() == 4
    look(0.5)  # in the program itself it is nothing
    assert part(second) > 0


def test_what_has_not_begun_is_left_out(one):
    first, second = executor().submit(for_ever, 10**9), executor().submit(for_ever, 10**9)
    third = executor().submit(os.getpid)
    end(second)
    end(first)
    assert third.result(timeout=60) != os.getpid()
    assert second.cancelled() or isinstance(second.exception(), EndedError)


def test_letting_go_does_not_wait_for_what_is_under_way(one):
    executor().submit(for_ever, 10**9)
    let_go()
    assert processes._pool is None
    assert executor(1).submit(os.getpid).result(timeout=60)


def _gone(pid: int) -> bool:
    try:
        state = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0]
    except OSError:
        return True
    return state == "Z"


def test_processes_end_when_the_program_is_killed():
    code = (
        "import os, time\n"
        "from spokeshave.verify.processes import executor\n"
        "from tests.core.test_processes import for_ever\n"
        "if __name__ == '__main__':\n"
        "    print(executor(2).submit(os.getpid).result(), flush=True)\n"
        "    jobs = [executor().submit(for_ever, 10**9) for _ in range(3)]\n"
        "    import multiprocessing\n"
        "    print(*(p.pid for p in multiprocessing.active_children()), flush=True)\n"
        "    time.sleep(600)\n"
    )
    program = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True)
    assert program.stdout is not None
    workers = {int(program.stdout.readline()), *map(int, program.stdout.readline().split())}
    assert len(workers) == 2 and not any(map(_gone, workers))
    program.send_signal(signal.SIGKILL)
    program.wait()
    program.stdout.close()
    end_by = time.monotonic() + 60
    while not all(map(_gone, workers)):
        assert time.monotonic() < end_by, "they went on for nobody"
        time.sleep(0.02)


def read_ahead() -> tuple[bool, bool]:
    return "spokeshave.verify.sweep.work" in sys.modules, "numpy" in sys.modules


def test_a_process_begins_with_what_it_needs_and_without_what_has_threads_of_its_own(one):
    assert executor().submit(read_ahead).result(timeout=60) == (True, False)


def test_temporary_files_in_a_folder_far_down_keep_no_work_from_being_done(tmp_path, monkeypatch):
    let_go()
    deep = tmp_path / ("far" * 30)
    deep.mkdir()
    monkeypatch.setattr("tempfile.tempdir", str(deep))
    assert executor(1).submit(os.getpid).result(timeout=60) != os.getpid()
    let_go()
