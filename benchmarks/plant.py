"""A plant of forty locks as a unit with its copies (1,600 signals, 1,640 steps, 600 devices): how long it takes to make, read, link and
check, how soon each stage is there, how long typing waits, and what a run at real time with the bench in view takes of a processor.

    QT_QPA_PLATFORM=offscreen python -m benchmarks.plant [COPIES]

Seconds are those of this machine; beside them stands how many times as long as a loop of a million additions of the same run.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TypeVar

from PySide6.QtCore import QEventLoop, QTimer

from spokeshave.desktop.application import make_app
from spokeshave.desktop.document import Document
from spokeshave.desktop.stages import STAGES
from spokeshave.desktop.window import MainWindow
from spokeshave.engine.link import link
from spokeshave.engine.session import Session
from spokeshave.examples import FOLDER
from spokeshave.formats import spoke
from spokeshave.language.rename import rename_device, rename_sequence, rename_signal
from spokeshave.language.units import add_copy, new_unit
from spokeshave.model import edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project, Unit
from spokeshave.model.study import StudyPlan
from spokeshave.model.sweep import SweepPlan
from spokeshave.verify.check.run import every_finding
from spokeshave.verify.processes import let_go

T = TypeVar("T")
PART_OF_A_CORE, STAGE_S, WAIT_S, CHECK_S = 0.1, 1.0, 0.05, 1.0


def template() -> Project:
    """The lock as a unit of which there may be copies, without what is proven of it."""
    project = spoke.read(Path(str(FOLDER)) / "lock.spoke")
    for d in project.devices:
        project = rename_device(project, d.name, f"A_{d.name}")
    for s in project.signals:
        project = rename_signal(project, s.name, f"A_{s.name}")
    for q in project.sequences:
        project = rename_sequence(project, q.name, f"A_{q.name}")
    project = replace(
        project,
        scenarios=project.scenarios[:3],
        requirements=(),
        accepted=(),
        scene=(),
        sweep=SweepPlan(),
        study=StudyPlan(),
    )
    named = [tuple(x.name for x in items) for items in (project.signals, project.sequences, project.devices)]
    return new_unit(project, Unit("Lock", "A_", *named))


def plant(copies: int) -> Project:
    """Forty locks, or as many as are wanted."""
    project = template()
    for n in range(1, copies):
        project = add_copy(project, "Lock", f"B{n}_")
    return project


def loop() -> float:
    """Seconds of a million additions."""
    begin, n = time.perf_counter(), 0
    for i in range(1_000_000):
        n += i
    return time.perf_counter() - begin


def wait(seconds: float) -> None:
    """Lets the window live for a while."""
    events = QEventLoop()
    QTimer.singleShot(round(seconds * 1000), events.quit)
    events.exec()


def worst_wait(seconds: float) -> float:
    """How late a timer of 5 ms comes at most while the window lives, in seconds."""
    late, last = [0.0], [time.perf_counter()]

    def tick() -> None:
        now = time.perf_counter()
        late.append(now - last[0] - 0.005)
        last[0] = now

    timer = QTimer()
    timer.timeout.connect(tick)
    timer.start(5)
    wait(seconds)
    timer.stop()
    return max(late)


class Told:
    """Prints each figure as it is known."""

    def __init__(self) -> None:
        self.unit, self.broken = loop(), 0

    def timed(self, what: str, work: Callable[[], T], most: float = 0.0) -> T:
        begin = time.perf_counter()
        out = work()
        self.figure(what, time.perf_counter() - begin, most)
        return out

    def figure(self, what: str, seconds: float, most: float = 0.0) -> None:
        kept = not most or seconds <= most
        self.broken += not kept
        promise = f"  at most {most:g} s{'' if kept else ': NOT KEPT'}" if most else ""
        print(f"{what:44} {seconds:8.3f} s  {seconds / self.unit:8.1f} loops{promise}", flush=True)


def main() -> int:
    app, told = make_app(), Told()
    project = told.timed("made of a unit and its copies", lambda: plant(int(sys.argv[1]) if len(sys.argv) > 1 else 40))
    print(
        f"{len(project.signals)} signals, {sum(len(q.steps) for q in project.sequences)} steps, {len(project.devices)} devices"
    )
    text = spoke.dumps(project)
    project = told.timed("read", lambda: spoke.loads(text))
    told.timed("linked", lambda: link(project))
    told.timed("checked", lambda: every_finding(project))
    q = project.sequences[len(project.sequences) // 2]
    edited = edits.change_step(project, q.name, q.steps[1].name, comment="another")
    told.timed("checked after an edit", lambda: every_finding(edited), CHECK_S)
    session = Session(project)
    told.timed("a minute run without a window", lambda: session.run_for(60_000))
    window = MainWindow(Document(project))
    window.asks_before_closing = False
    window.resize(1280, 800)
    window.show()
    wait(1)
    for n, stage in enumerate(STAGES):

        def show(n: int = n) -> None:
            window.show_stage(n)
            app.processEvents()

        told.timed(f"stage {n + 1} {stage.title}", show, STAGE_S)
        wait(0.3)
    window.show_stage(2)
    window.selection.set(Place("step", q.name, q.steps[1].name))
    wait(2)
    for n in range(3):

        def edit(n: int = n) -> None:
            window.document.edit("c", lambda p: edits.change_step(p, q.name, q.steps[1].name, longest=f"T#{20 + n}s"))
            app.processEvents()

        told.timed("an edit of a step", edit, WAIT_S)
    told.figure("longest wait while nobody types behind it", worst_wait(4))
    window.show_stage(4)
    wait(1)
    window.runner.start()
    wait(3)
    cpu, begin, at = time.process_time(), time.perf_counter(), window.runner.shown_ms
    wait(10)
    part = (time.process_time() - cpu) / (time.perf_counter() - begin)
    ran = window.runner.shown_ms - at
    late = worst_wait(5)
    window.runner.pause()
    told.broken += part > PART_OF_A_CORE
    print(
        f"at real time with the bench in view: {part:.3f} of a core (at most {PART_OF_A_CORE}), {ran / 1000:.2f} s run in 10 s"
    )
    told.figure("longest wait while it runs", late, WAIT_S)
    window.close()
    let_go()
    return 1 if told.broken else 0


if __name__ == "__main__":
    sys.exit(main())
