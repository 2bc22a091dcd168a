"""What takes longer than a moment: it says how far it is, is cancelled, and nothing waits for it."""

from __future__ import annotations

import gc
import threading
import weakref
from dataclasses import replace

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QFileDialog

from spokeshave.desktop import tasks as tasks_module
from spokeshave.desktop.tasks import TaskLine, Tasks
from spokeshave.verify.check import look_over
from spokeshave.verify.processes import let_go
from spokeshave.verify.scenarios import Run
from tests.core.test_large import long_table
from tests.core.test_sweep import slide
from tests.desktop.test_proof_elsewhere import divide


@pytest.fixture
def tasks(qtbot, monkeypatch):
    """Every step is a slice of its own."""
    monkeypatch.setattr(tasks_module, "SLICE_S", 0.0)
    made = Tasks()
    yield made
    made.cancel()
    let_go()


def count(seen: list[float], parts: int):
    for n in range(parts):
        seen.append(n / parts)
        yield n / parts


def test_one_after_the_other_with_a_line_that_says_how_far_and_a_button_that_ends_both(qtbot, tasks):
    line, seen, more, done = TaskLine(tasks), [], [], []
    line.show()
    qtbot.addWidget(line)
    tasks.in_slices("counts", count(seen, 10), lambda: done.append("first"))
    tasks.in_slices("counts on", count(more, 10**6), lambda: done.append("second"))
    assert seen == [0.0] and not more and line.isVisible() and line.says.text() == "counts"
    qtbot.waitUntil(lambda: bool(more))
    assert len(seen) == 10 and done == ["first"] and line.says.text() == "counts on"
    qtbot.mouseClick(line.button, Qt.MouseButton.LeftButton)
    assert not tasks.busy and not line.isVisible() and len(more) < 10**6
    QApplication.processEvents()
    assert done == ["first"], "nothing comes of what was cancelled"
    tasks.in_slices("again", count(more, 3), lambda: done.append("third"))
    tasks.finish()
    assert done == ["first", "third"] and not tasks.busy


def test_work_in_a_process_waits_for_its_turn_and_a_fault_of_it_is_told(qtbot, tasks):
    got, told = [], []
    tasks.failed.connect(told.append)
    tasks.in_process("divides", got.append, divide, 6, 3)
    tasks.in_process("divides wrongly", got.append, divide, 6, 0)
    tasks.in_slices("counts", count([], 2), lambda: got.append("counted"))
    qtbot.waitUntil(lambda: not tasks.busy, timeout=60_000)
    assert got == [2.0, "counted"] and told == ["divides wrongly: ZeroDivisionError: division by zero"]


def test_a_long_run_comes_to_the_bench_in_slices_and_can_be_cancelled(qtbot, window, monkeypatch):
    monkeypatch.setattr(tasks_module, "SLICE_S", 0.0)
    before = window.runner.session
    run = Run("", (), window.document.project, (), 60_000)
    window.showing.run(run, "Ten minutes", 5000)
    assert window.tasks.busy and window.stage != 4 and 0 < window.tasks.part < 1
    window.tasks.cancel()
    assert not window.tasks.busy and window.runner.session is before
    window.showing.run(run, "Ten minutes", 5000)
    qtbot.waitUntil(lambda: not window.tasks.busy, timeout=60_000)
    assert window.stage == 4 and window.runner.session.time_ms == 600_000 and "Ten minutes" in window.message.text()


def test_a_large_machine_file_is_checked_in_a_process_while_one_goes_on_editing(qtbot, window):
    document = window.document
    large = long_table(200)
    document.replace(large, None)
    assert document.checking and "checks 200 steps" in window.counts.text()
    document.edit("Rename", lambda p: replace(p, name="Another", signals=p.signals[:-1]))
    with qtbot.waitSignal(document.checked, timeout=60_000):
        pass
    assert not document.checking and document.findings == list(look_over(document.project).open), "of the present file"
    assert any(d.severity == "error" for d in document.findings)
    let_go()


def test_the_record_is_cancelled_and_nothing_is_written(qtbot, window, tmp_path, monkeypatch):
    window.document.replace(slide(), None)
    file = tmp_path / "record.pdf"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(file), ""))
    window.showing.ask_record()
    assert window.tasks.busy and "record.pdf" in window.tasks.title
    window.tasks.cancel()
    assert not window.tasks.busy and not file.exists()
    window.showing.ask_record()
    qtbot.waitUntil(lambda: not window.tasks.busy, timeout=60_000)
    assert file.read_bytes().startswith(b"%PDF")
    let_go()


def test_what_is_in_circles_is_collected_in_the_thread_of_the_windows_alone(qtbot):
    """A pool's thread that reads a large result would take widgets down that are not its own."""
    collected = []
    gc.callbacks.append(lambda phase, info: collected.append(threading.current_thread()))
    try:
        elsewhere = threading.Thread(target=lambda: [[n] for n in range(10 * gc.get_threshold()[0])])
        elsewhere.start()
        elsewhere.join()
        assert elsewhere not in collected
        circle = weakref.ref(Circle())
        kept = [[n] for n in range(2 * gc.get_threshold()[0])]
        qtbot.waitUntil(lambda: circle() is None)
        assert kept and set(collected) == {threading.main_thread()}
    finally:
        gc.callbacks.pop()


class Circle:
    """Nothing but the collector lets go of it."""

    def __init__(self) -> None:
        self.itself = self
