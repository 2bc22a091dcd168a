"""How long the timing diagram takes to paint, at every zoom, with 100 lanes of 100,000 edges and of ten times more;
how soon the first window is there; and how long keys and clicks wait while a run goes on.

    QT_QPA_PLATFORM=offscreen python -m benchmarks.screen
"""

from __future__ import annotations

import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path
from statistics import median

import numpy as np
from PySide6.QtWidgets import QApplication

from spokeshave.desktop.application import make_app
from spokeshave.desktop.bench.timing_diagram import TimingStrip
from spokeshave.desktop.document import Document
from spokeshave.desktop.runner import SPEEDS, Runner
from spokeshave.desktop.start import settle
from spokeshave.desktop.window import MainWindow
from spokeshave.engine.session import Session
from spokeshave.formats.spoke import read
from spokeshave.model.edits import new_sequence
from spokeshave.model.project import Project, Signal, SignalClass

LANES, EDGES = 100, 100_000
SCANS = 40_000_000
WIDTH, HEIGHT = 1280, 1800
SLOWEST_TO_FASTEST, MOST_MS, TEN_TIMES_MORE = 2.5, 60.0, 2.0


def crowded(edges: int) -> Session:
    """A run with many edges in every lane, at random scans. Every tenth lane has its own."""
    project = new_sequence(Project(signals=tuple(Signal(f"Y{i}", SignalClass.OUTPUT) for i in range(LANES))))
    session = Session(project)
    session.run_scans(1)
    trace = session.trace
    columns = trace._columns()
    random = np.random.default_rng(1)
    own = [np.sort(random.choice(SCANS, edges, replace=False)) for _ in range(10)]
    values = (np.arange(edges) % 2).astype(np.float64)
    for i in range(LANES):
        c = trace.column(f"Y{i}")
        columns.scans[c], columns.values[c], columns.lengths[c] = own[i % 10], values, edges
    trace.scan_count = SCANS
    return session


def paint_times(edges: int) -> dict[float, float]:
    """Milliseconds to paint by span in ms: the median of seven, each at another place."""
    runner = Runner(Document(Project()))
    session = crowded(edges)
    runner.session = session
    strip = TimingStrip(runner)
    strip.resize(WIDTH, HEIGHT)
    strip.show()
    period = session.program.period_ms
    out = {}
    span = 200.0
    while span < 2 * SCANS * period:
        taken = []
        for n in range(7):
            strip.span_ms, strip.start_ms, strip.follows = (
                span,
                (SCANS * period - min(span, SCANS * period)) * n / 7,
                False,
            )
            begin = time.perf_counter()
            strip.grab()
            taken.append((time.perf_counter() - begin) * 1000)
        out[span] = median(taken)
        span *= 4
    return out


def diagram() -> list[tuple[str, bool]]:
    few, many = paint_times(EDGES), paint_times(10 * EDGES)
    print(f"{LANES} lanes of {EDGES:,} edges in {WIDTH} x {HEIGHT}")
    for span, ms in few.items():
        print(f"  {span / 1000:>14,.1f} s in view {ms:8.1f} ms, with ten times more edges {many[span]:8.1f} ms")
    slowest, fastest = max(few.values()), min(few.values())
    more = max(many[s] / few[s] for s in few)
    return [
        (f"the slowest zoom takes {slowest / fastest:.2f} times the fastest", slowest <= SLOWEST_TO_FASTEST * fastest),
        (f"the slowest zoom takes {slowest:.1f} ms", slowest < MOST_MS),
        (f"ten times more edges take {more:.2f} times as long at most", more <= TEN_TIMES_MORE),
    ]


BARE = """
import time
from PySide6.QtWidgets import QApplication, QMainWindow
app = QApplication([])
window = QMainWindow(); window.resize(1280, 800); window.show(); app.processEvents()
"""
OURS = """
from spokeshave.desktop.first_window import first_window
app, window = first_window()
"""


def start_times(times: int = 9) -> tuple[float, float]:
    """Seconds of a process that shows a bare window, and of one that shows ours, both the least of some, in turns."""
    taken: dict[str, list[float]] = {BARE: [], OURS: []}
    for _ in range(times):
        for text, seconds in taken.items():
            begin = time.perf_counter()
            subprocess.run([sys.executable, "-c", text], check=True, capture_output=True)
            seconds.append(time.perf_counter() - begin)
    return min(taken[BARE]), min(taken[OURS])


def first_window() -> list[tuple[str, bool]]:
    bare, ours = start_times()
    print(f"a bare window {1000 * bare:.0f} ms, the first window {1000 * ours:.0f} ms")
    return [(f"the first window takes {ours / bare:.2f} times a bare one", ours <= 1.15 * bare)]


def longest_wait(window: MainWindow, app: QApplication, seconds: float) -> tuple[float, float]:
    """The longest time between two looks at events while a run goes on, and the 99th percentile, in ms."""
    gaps: list[float] = []
    last = time.perf_counter()
    window.runner.start()
    end = last + seconds
    while time.perf_counter() < end:
        app.processEvents()
        now = time.perf_counter()
        gaps.append((now - last) * 1000)
        last = now
    window.runner.pause()
    gaps.sort()
    return gaps[-1], gaps[int(len(gaps) * 0.99)]


def responsive() -> list[tuple[str, bool]]:
    app = make_app()
    file = Path(__file__).parent.parent / "src" / "spokeshave" / "examples" / "roastery.spoke"
    out = []
    for stage in (4, 2):
        window = MainWindow(Document(replace(read(file), name="Roastery")))
        window.asks_before_closing = False
        window.show()
        window.show_stage(stage)
        settle()
        for name, speed in SPEEDS:
            window.runner.reset()
            window.runner.set_speed(speed)
            window.runner.do("set", "BatchCount", 30000) if window.document.project.signal("BatchCount") else None
            window.runner.run_for(100)
            window.runner.do("hand", "Start", 1)
            window.runner.run_for(100)
            window.runner.do("hand", "Start", 0)
            longest_wait(window, app, 0.3)
            worst, most = longest_wait(window, app, 2.5)
            ran = window.runner.session.time_ms / 1000 if window.runner.session else 0
            print(f"  stage {stage + 1}, {name:20} longest {worst:6.1f} ms, 99 % {most:6.1f} ms, {ran:10,.1f} s run")
            out.append((f"stage {stage + 1} at {name}: nothing waits longer than {worst:.0f} ms", worst <= 50))
        window.close()
    return out


def main() -> int:
    app = make_app()
    results = diagram()
    print("events while a run goes on:")
    results += responsive()
    results += first_window()
    for text, kept in results:
        print(f"  {'kept  ' if kept else 'MISSED'}    {text}")
    app.processEvents()
    return 0 if all(kept for _, kept in results) else 1


if __name__ == "__main__":
    sys.exit(main())
