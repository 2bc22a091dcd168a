"""Runs everything and prints a table; see the package's text. Exit 1 if traces differ or a promise is not kept."""

from __future__ import annotations

import argparse
import gc
import shutil
import sys
import tempfile
import time
import tracemalloc
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from benchmarks import c_program, simpy_model
from benchmarks.tree_walker import Walker
from benchmarks.workload import workload
from spokeshave.engine.session import Session
from spokeshave.formats import spoke
from spokeshave.model.project import Project, Sequence, Signal, SignalClass, Step, Transition, Type

HOUR_MS = 3_600_000
TIMES = 12


def best(work: Callable[[], object], times: int) -> float:
    """The shortest of several times, in seconds: what the machine can do when nothing else wants it."""
    found = []
    for _ in range(times):
        gc.collect()
        start = time.perf_counter()
        work()
        found.append(time.perf_counter() - start)
    return min(found)


def run(project: Project, ms: int, every_scan: bool = False) -> Session:
    session = Session(project, every_scan=every_scan)
    session.run_for(ms)
    if session.stopped is not None:
        raise SystemExit(f"the run stopped: {session.stopped}")
    return session


def timed_run(project: Project, ms: int, every_scan: bool, times: int) -> float:
    """Seconds of the run alone; making the session ready is measured by itself."""
    sessions = [Session(project, every_scan=every_scan) for _ in range(times)]
    return best(lambda: sessions.pop().run_for(ms), times)


def changes(session: Session) -> list[tuple[int, int, float]]:
    return list(zip(session.trace.scans, session.trace.columns, session.trace.values))


def dense(project: Project) -> Project:
    """The same machine with a number that changes in four scans of ten."""
    counter = "Beat := Beat + 1; IF Beat >= 10 THEN Beat := 0; END_IF; Shown := LIMIT(0, Beat, 4);"
    extra = tuple(Signal(n, SignalClass.INTERNAL, Type.INT) for n in ("Beat", "Shown"))
    return replace(project, signals=(*project.signals, *extra), closing=counter)


def long_file(steps: int = 1000) -> Project:
    names = [f"S{10 * n + 10}" for n in range(steps)]
    made = tuple(Step(name, 10 * n + 10, longest="T#5s") for n, name in enumerate(names))
    ways = tuple(
        Transition((name,), (names[(n + 1) % steps],), f"Extended{n % 20 + 1} AND {name}.T >= T#{n % 7 + 1}s")
        for n, name in enumerate(names)
    )
    return replace(workload(), sequences=(Sequence("Long", names[0], made, ways),), interlocks=())


def memory_mb(project: Project, ms: int) -> float:
    """What a run adds at most, in MB."""
    tracemalloc.start()
    session = run(project, ms)
    most = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert session.trace.scan_count
    return most / 1e6


def open_seconds() -> float:
    """Reading a file of 1,000 steps and making it ready to run, in a program that has just begun."""
    text = spoke.dumps(long_file())
    start = time.perf_counter()
    Session(spoke.loads(text))
    return time.perf_counter() - start


def main() -> int:
    parser = argparse.ArgumentParser(prog="benchmarks", description=__doc__)
    parser.add_argument("--short", action="store_true", help="two minutes instead of an hour: traces, no promises")
    short = parser.parse_args().short
    ms, times = (120_000, 1) if short else (HOUR_MS, TIMES)
    opened = open_seconds()
    project = workload()
    period = project.period_ms
    scans = ms // period
    skipping, every = run(project, ms), run(project, ms, every_scan=True)
    same = changes(skipping) == changes(every)
    rows: list[tuple[str, float]] = []
    rows.append(("skip-ahead", timed_run(project, ms, False, times)))
    rows.append(("every scan", timed_run(project, ms, True, min(times, 2))))
    walked = 500 if short else 3000
    walker = Walker(project)
    rows.append(("walking the syntax trees", best(lambda: walker.run(walked), 1) * scans / walked))
    names = [r.name for r in skipping.program.recorded]
    told = [(k, names[c], v) for k, c, v in changes(skipping) if k < walked]
    same_walk = sorted(told) == sorted((k, n, float(v)) for k, n, v in walker.changes())
    rows.append(("SimPy", best(lambda: simpy_model.run(scans), times)))
    same_c = True
    if shutil.which("gcc"):
        with tempfile.TemporaryDirectory() as folder:
            program = c_program.build(project, Path(folder))
            ran = [c_program.run(program, scans) for _ in range(times)]
        rows.append(("C, every scan", min(r.seconds for r in ran)))
        same_c = ran[0].changes == changes(skipping)
    thick = dense(project)
    part = ms // 10
    dense_ratio = timed_run(thick, part, False, times) / timed_run(thick, part, True, times)
    second = dict(rows)
    skip = second["skip-ahead"]
    print(
        f"{ms / 60_000:g} minutes of the candle carousel, {scans:,} scans of {period} ms, {len(changes(every)):,} changes"
    )
    print(f"scans run with skip-ahead: {skipping.executed:,}, looked at: {skipping.glances:,}")
    for name, seconds in rows:
        print(f"  {name:26} {seconds:10.3f} s {seconds / skip:10.2f} x skip-ahead")
    promises = [
        ("traces of both engines are the same", same, ""),
        ("trace of the tree walker is the same", same_walk, f"{walked:,} scans"),
        (
            "trace of the C program is the same",
            same_c,
            "" if "C, every scan" in second else "no gcc here, not compared",
        ),
    ]
    if not short:
        megabytes = memory_mb(project, ms)
        walking, each = second["walking the syntax trees"], second["every scan"]
        promises += [
            ("skip-ahead no slower than C", skip <= second.get("C, every scan", skip), f"{skip / second.get('C, every scan', skip):.2f}"),
            ("skip-ahead 2 times SimPy", second["SimPy"] >= 2 * skip, f"{second['SimPy'] / skip:.1f}"),
            ("skip-ahead 1,000 times the tree walker", walking >= 1000 * skip, f"{walking / skip:,.0f}"),
            ("every scan 30 times the tree walker", walking >= 30 * each, f"{walking / each:.0f}"),
            ("dense machine at most 1.2 of every scan", dense_ratio <= 1.2, f"{dense_ratio:.2f}"),
            ("an hour in less than 60 MB", megabytes < 60, f"{megabytes:.1f} MB"),
            ("1,000 steps ready in less than 1 s", opened < 1, f"{opened:.2f} s"),
        ]  # fmt: skip
    for text, kept, value in promises:
        print(f"  {'kept' if kept else 'NOT KEPT':9} {text:42} {value}")
    return 0 if all(kept for _, kept, _ in promises) else 1


if __name__ == "__main__":
    sys.exit(main())
