"""The same sequence written in each face, a table of sixty steps from a spreadsheet, and a program that is killed."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
import time

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QCursor
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLineEdit

from spokeshave.desktop.document import Document
from spokeshave.desktop.sequence.condition_editor import ConditionEdit
from spokeshave.desktop.sequence.sheet import FIRST_MARK, STEP
from spokeshave.formats.recovery import Recovery
from spokeshave.formats.spoke import read, write
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import new_sequence
from spokeshave.model.project import Project, Signal, SignalClass
from tests.looks import drawn

Key = Qt.Key
Mod = Qt.KeyboardModifier
SIGNALS = (
    Signal("Go", SignalClass.INPUT, address="%IX0.0"), Signal("Wide", SignalClass.INPUT, address="%IX0.1"),
    Signal("Done", SignalClass.INPUT, address="%IX0.2"), Signal("Drive", SignalClass.OUTPUT, address="%QX0.0"),
    Signal("Gate", SignalClass.OUTPUT, address="%QX0.1"),
)  # fmt: skip
CONDITIONS = {
    ("Waiting", "Working"): "RISING(Go) AND NOT Wide", ("Waiting", "Opening"): "RISING(Go) AND Wide",
    ("Working", "Closing"): "Done", ("Opening", "Closing"): "Opening.T >= T#2s", ("Closing", "Waiting"): "NOT Go",
}  # fmt: skip


def settle() -> None:
    for _ in range(4):
        QApplication.processEvents()


class Hand:
    """Types and clicks as a person does, in one face."""

    def __init__(self, qtbot, window) -> None:
        self.qtbot, self.window = qtbot, window
        self.page = window.sequence
        window.show_stage(2)

    @property
    def q(self):
        return self.window.document.project.sequence("Sequence")

    def line(self, parent):
        found = [e for e in parent.findChildren(QLineEdit) if e.isVisible()]
        assert found, "a line to type in"
        return found[-1]

    def type(self, line, text):
        line.selectAll()
        QTest.keyClicks(line, text)
        if isinstance(line, ConditionEdit):
            line.words.popup().hide()
        QTest.keyClick(line, Key.Key_Return)
        settle()

    def choose(self, step):
        self.window.selection.set(Place("step", "Sequence", step))
        settle()

    def command(self, ident):
        self.window.table.actions[ident].trigger()
        settle()
        return self.page.editor.step()


class InSheet(Hand):
    face = "sheet"

    def cell(self, step, column, target=""):
        sheet = self.page.sheet.sheet
        for r in range(sheet.rowCount()):
            way = sheet.way_at(r)
            if sheet.step_at(r).name == step and (way is None or not target or target in way.targets):
                return sheet.index(r, column)
        raise AssertionError((step, target))

    def put(self, index, text):
        view = self.page.sheet
        view.setCurrentIndex(index)
        view.setFocus()
        QTest.keyClick(view, Key.Key_F2)
        self.type(self.line(view.viewport()), text)

    def insert(self, step):
        self.choose(step)
        self.page.sheet.setFocus()
        QTest.keyClick(self.page.sheet, Key.Key_Insert)
        settle()
        return self.page.editor.step()

    def rename(self, old, new):
        self.put(self.cell(old, STEP), new)

    def condition(self, step, target, text):
        self.put(self.cell(step, self.page.sheet.sheet.awaits, target), text)

    def mark(self, step, target, mark):
        self.put(self.cell(step, FIRST_MARK + self.page.sheet.sheet.targets.index(target)), mark)

    def window_of(self, step, text):
        self.put(self.cell(step, self.page.sheet.sheet.window), text)


class InChart(Hand):
    face = "chart"

    def insert(self, step):
        self.choose(step)
        self.page.chart.setFocus()
        QTest.keyClick(self.page.chart, Key.Key_Insert)
        settle()
        return self.page.editor.step()

    def put(self, step, key, text):
        self.choose(step)
        self.page.chart.setFocus()
        QTest.keyClick(self.page.chart, key)
        self.type(self.page.chart.editing.line, text)

    def rename(self, old, new):
        self.put(old, Key.Key_F2, new)

    def condition(self, step, target, text):
        index = next(i for i, t in self.q.leaving(step) if target in t.targets)
        self.window.selection.set(Place("transition", "Sequence", "", index))
        settle()
        QTest.keyClick(self.page.chart, Key.Key_Return)
        self.type(self.page.chart.editing.line, text)

    def mark(self, step, target, mark):
        self.put(step, Key.Key_A, target if mark == "X" else f"{mark} {target}")

    def window_of(self, step, text):
        self.put(step, Key.Key_T, text)


class InCode(InChart):
    """The structure by commands of the menu, conditions in the code."""

    face = "code"

    def insert(self, step):
        self.choose(step)
        return self.command("seq.insert")

    def put(self, step, key, text):
        self.page.show_face("chart")
        super().put(step, key, text)
        self.page.show_face("code")

    def condition(self, step, target, text):
        code = self.page.codes["Sequence"]
        lines = code.text.toPlainText().splitlines()
        begins = next(n for n, line in enumerate(lines) if f": (* {step} *)" in line)
        leads = f"Sequence := {self.q.step(target).number};"
        at = next(n for n, line in enumerate(lines) if n > begins and leads in line)
        lines[at] = re.sub(r"(ELSIF|IF) .* THEN", lambda m: f"{m[1]} {self.words(text)} THEN", lines[at])
        code.text.setPlainText("\n".join(lines))
        code.apply()
        assert code.list.isVisible(), code.note.text()
        code.apply()
        settle()

    def words(self, text):
        """A condition in the words of the code: a clock tells how long a state has lasted, edges have their blocks."""
        return text.replace("Opening.T", "SequenceT")


def write_sequence(hand) -> Project:
    hand.page.show_face(hand.face)
    settle()
    new = hand.insert("Working")
    hand.rename(new, "Closing")
    hand.choose("Waiting")
    beside = hand.command("seq.alternative")
    hand.rename(beside, "Opening")
    for (step, target), text in CONDITIONS.items():
        if hand.face != "code" or "RISING" not in text:
            hand.condition(step, target, text)
    if hand.face == "code":
        # An edge that is not in the model yet has no block in the code: it is written on the drawing.
        hand.page.show_face("chart")
        for (step, target), text in CONDITIONS.items():
            if "RISING" in text:
                InChart.condition(hand, step, target, text)
        hand.page.show_face("code")
    hand.mark("Working", "Drive", "X")
    hand.mark("Opening", "Gate", "L 2s")
    hand.window_of("Working", "1s to 6s")
    return hand.window.document.project


def test_each_face_writes_the_same_sequence(qtbot, opened):
    made = {}
    for kind in (InSheet, InChart, InCode):
        project = new_sequence(Project("Three faces", 10, signals=SIGNALS))
        window = opened(Document(project))
        hand = kind(qtbot, window)
        made[kind.face] = write_sequence(hand)
        conditions = {(t.sources[0], t.targets[0]): t.condition for t in hand.q.transitions}
        assert conditions == CONDITIONS, kind.face
        assert window.document.findings == [] or not [d for d in window.document.findings if d.severity == "error"]
        window.runner.run_for(100)
        window.runner.do("set", "Go", True)
        window.runner.run_for(1_000)
        assert [w.step for w in window.runner.waiting()] == ["Working"], kind.face
        count = 0
        while window.document.history.undo_name:
            window.document.undo()
            count += 1
        assert window.document.project is project and count >= 10
        window.close()
    assert made["sheet"] == made["chart"] == made["code"]


def test_sixty_steps_come_from_a_spreadsheet_and_are_worked_on(qtbot, opened):
    outputs = [f"Out{i}" for i in range(6)]
    signals = (*(Signal(n, SignalClass.OUTPUT) for n in outputs), Signal("Fault", SignalClass.INPUT))
    window = opened(Document(new_sequence(Project("Sixty", 10, signals=signals))))
    hand = InSheet(qtbot, window)
    rows = [["Step", *outputs, "Awaits", "Longest"]]
    for i in range(60):
        marks = ["X" if i % 6 == n else "L 1s" if i % 13 == n else "" for n in range(6)]
        rows.append([f"Dip{i + 1}", *marks, f"Dip{i + 1}.T >= T#{i % 3 + 1}s", "8s"])
    QApplication.clipboard().setText("\n".join("\t".join(r) for r in rows) + "\n")
    view = hand.page.sheet
    view.setCurrentIndex(hand.cell("Waiting", STEP))
    view.setFocus()
    QTest.keyClick(view, Key.Key_V, Mod.ControlModifier)
    settle()
    assert len(hand.q.steps) == 60
    assert [s.name for s in hand.q.steps][:3] == ["Dip1", "Dip2", "Dip3"], "in place of the two steps of a start"
    window.table.actions["seq.renumber"].trigger()
    assert [s.number for s in hand.q.steps] == [10 * n for n in range(1, 61)]
    hand.choose("Dip20")
    beside = hand.command("seq.simultaneous")
    assert any(set(t.sources) == {"Dip20", beside} for t in hand.q.transitions)
    hand.insert("Dip40")
    hand.put(hand.cell("Dip60", hand.page.sheet.sheet.next), "Dip1")
    hand.choose("Dip30")
    window.table.actions["seq.way"].trigger()
    settle()
    hand.condition("Dip30", "Dip1", "Fault")
    hand.choose("Dip30")
    window.runner.run_for(130_000)
    assert window.runner.session.stopped is None and "Dip58" in view.sheet.lasted
    assert view.cycle_text.startswith("cycle ") or window.runner.session.trace.windows("Sequence.Dip1.X")
    for face in ("chart", "code", "sheet"):
        window.show_face(face)
        settle()
        assert hand.page.editor.step() == "Dip30", face
    assert drawn(window)


@pytest.mark.parametrize("face", ["chart"])
def test_a_handle_is_pressed_with_the_mouse(qtbot, opened, face):
    window = opened(Document(new_sequence(Project("Mouse", 10, signals=SIGNALS))))
    hand = InChart(qtbot, window)
    hand.page.show_face(face)
    hand.choose("Working")
    chart = hand.page.chart
    handle = next(h for h in chart.editing.handles if h.kind == "simultaneous")
    at = chart.mapFromScene(handle.scenePos())
    QCursor.setPos(chart.viewport().mapToGlobal(at))
    QTest.mouseClick(chart.viewport(), Qt.MouseButton.LeftButton, Mod.NoModifier, at)
    settle()
    assert any(len(t.targets) == 2 for t in hand.q.transitions)


def test_a_killed_program_loses_no_edit(qtbot, opened, tmp_path):
    file = tmp_path / "line.spoke"
    write(new_sequence(Project("Killed", 10, signals=SIGNALS)), file)
    state = tmp_path / "state"
    code = (
        "import sys; from pathlib import Path; from PySide6.QtCore import QTimer\n"
        "from PySide6.QtWidgets import QApplication\n"
        "from spokeshave.desktop.start import run_desktop\n"
        "from spokeshave.model import edits\n"
        "def edit():\n"
        "    w = next(w for w in QApplication.topLevelWidgets() if hasattr(w, 'document'))\n"
        "    w.document.edit('note', lambda p: edits.change_step(p, 'Sequence', 'Working', comment='not saved'))\n"
        "from spokeshave.desktop.application import make_app\n"
        "make_app(); QTimer.singleShot(800, edit)\n"
        f"run_desktop(Path({str(file)!r}))\n"
    )
    program = subprocess.Popen([sys.executable, "-c", code], env={**os.environ, "XDG_STATE_HOME": str(state)})
    try:
        folder = state / "spokeshave" / "kept"
        end = time.monotonic() + 30
        while not list(folder.glob("*.kept")) and time.monotonic() < end:
            time.sleep(0.1)
        assert program.poll() is None
    finally:
        program.send_signal(signal.SIGKILL)
        program.wait(10)
    left = Recovery(folder).left_over()
    assert [k.project.sequence("Sequence").step("Working").comment for k in left] == ["not saved"]
    window = opened(Document(Project("Other")))
    assert window.recover(left[0]) and window.document.path == file
    assert window.document.project.sequence("Sequence").step("Working").comment == "not saved"
    assert window.document.dirty and read(file).sequence("Sequence").step("Working").comment == "", "not saved yet"
