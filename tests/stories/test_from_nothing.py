"""A machine from an empty file to a proven one, and a planted mistake found, in a real window."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication, QComboBox

from spokeshave.desktop.document import Document
from spokeshave.desktop.sequence.sheet import FIRST_MARK, STEP
from spokeshave.desktop.tables import ItemView
from spokeshave.formats import spoke
from spokeshave.formats.files import read_project
from spokeshave.model.edits import new_sequence
from spokeshave.model.project import Project
from tests.conftest import EXAMPLES
from tests.looks import drawn

pytestmark = pytest.mark.window
Key = Qt.Key


def typed(qtbot, view, row: int, column: int, text: str) -> None:
    """Types into a cell of a table and presses Return, then waits until the table shows it."""
    index = view.model().index(row, column)
    view.setCurrentIndex(index)
    view.setFocus()
    qtbot.keyClick(view, Key.Key_F2)
    editor = QApplication.focusWidget()
    assert editor is not view, "no editor opened"
    qtbot.keyClick(editor, Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    qtbot.keyClicks(editor, text)
    popup = getattr(editor, "words", None)
    if popup is not None:
        popup.popup().hide()
    qtbot.keyClick(editor, Key.Key_Return)
    qtbot.waitUntil(lambda: QApplication.focusWidget() in (view, getattr(view, "next_step", view)), timeout=5000)
    qtbot.waitUntil(
        lambda: str(view.model().index(row, column).data()).lower() == text.lower().removeprefix("t#"), timeout=5000
    )


def chosen(view: ItemView, row: int, column: int, text: str) -> None:
    view.model().setData(view.model().index(row, column), text)


def test_a_lock_gate_from_an_empty_file_to_a_passing_scenario(qtbot, opened, tmp_path):
    project = new_sequence(Project("Lock gate"))
    window = opened(Document(project))
    document = window.document

    # The brief: one sentence.
    window.show_stage(0)
    window.brief.add()
    qtbot.keyClick(QApplication.focusWidget(), Key.Key_Escape)
    typed(qtbot, window.brief.view, 0, 1, "The gate opens on the button and is confirmed open within 3 s.")

    # Signals before any logic.
    window.show_stage(1)
    table = window.signals.view
    for row, (name, cls, address) in enumerate(
        (
            ("OpenButton", "input", "%IX0.0"),
            ("GateOpen", "input", "%IX0.1"),
            ("GateShut", "input", "%IX0.2"),
            ("GateDrive", "output", "%QX0.0"),
        )
    ):
        window.signals.list.add()
        qtbot.keyClick(QApplication.focusWidget(), Key.Key_Escape)
        typed(qtbot, table, row, 0, name)
        chosen(table, row, 1, cls)
        typed(qtbot, table, row, 3, address)
    document.check()
    assert window.ribbon.buttons[1].state == "open", "signals that nothing uses yet are open points"

    # The machine: a gate and a button, wired in the details.
    window.show_stage(3)
    for kind, wires in (
        ("actuator", {"extend": "GateDrive", "extended": "GateOpen", "retracted": "GateShut"}),
        ("button", {"contact": "OpenButton"}),
    ):
        window.machine.kind.setCurrentIndex(window.machine.kind.findData(kind))
        window.machine.add()
        for terminal, signal in wires.items():
            box = window.details.fields[terminal]
            assert isinstance(box, QComboBox)
            box.setCurrentText(signal)
            box.activated.emit(box.currentIndex())
    names = [d.name for d in document.project.devices]
    assert names == ["Slide", "Button"]

    # The sequence: mark, conditions, longest time; the first text is wrong and said to be.
    window.show_stage(2)
    sheet = window.sequence.sheets["Sequence"]
    typed(qtbot, sheet, 1, STEP, "Opening")
    typed(qtbot, sheet, 0, sheet.sheet.awaits, "RISING(OpenButon)")
    document.check()
    assert "did you mean OpenButton" in sheet.sheet.problem_at(0, sheet.sheet.awaits)
    typed(qtbot, sheet, 0, sheet.sheet.awaits, "RISING(OpenButton)")
    sheet.setCurrentIndex(sheet.sheet.index(1, FIRST_MARK))
    qtbot.keyClick(sheet, Key.Key_Space)
    typed(qtbot, sheet, 1, sheet.sheet.awaits, "GateOpen AND Opening.T >= T#2s")
    typed(qtbot, sheet, 1, sheet.sheet.window, "3s")
    document.check()
    assert [d.code for d in document.findings] == ["movement-unconfirmed"], "nothing awaits that the gate came back"

    # The bench: the gate moves when the button is pressed.
    window.show_stage(4)
    window.runner.run_for(100)
    board = window.bench.board
    at = board.cell(document.project.device("Button")).center().toPoint()
    qtbot.mousePress(board, Qt.MouseButton.LeftButton, pos=QPoint(at))
    window.runner.run_for(1500)
    qtbot.mouseRelease(board, Qt.MouseButton.LeftButton, pos=QPoint(at))
    assert window.runner.session.trace.at("GateOpen", window.runner.session.k - 1) is True

    # The proof: a scenario for the sentence, linked in the brief.
    window.show_stage(5)
    window.proof.scenarios.add()
    window.proof.scenarios.text.setPlainText(
        "at 100 ms: press Button\nrun for 10 s\nexpect reach Sequence.Waiting within 3 s of Sequence.Opening\nexpect no alarms"
    )
    window.proof.scenarios.apply_text()
    window.show_stage(0)
    typed(qtbot, window.brief.view, 0, 3, "Scenario")
    window.run_proof()
    qtbot.waitUntil(lambda: window.proof.worker is None and bool(document.results), timeout=20_000)
    assert window.proof.status.text() == "1 of 1 passed"
    assert window.ribbon.buttons[0].state == "proven"

    # Saved, and read back whole; as IEC text too.
    path = tmp_path / "lock-gate.spoke"
    assert window._save_to(path) and spoke.read(path) == document.project
    assert window._save_to(tmp_path / "lock-gate.st")
    assert read_project(tmp_path / "lock-gate.st") == document.project


def test_a_planted_mistake_is_found_and_its_place_shown(qtbot, opened):
    mistaken = EXAMPLES / "roastery-mistake.spoke"
    window = opened(Document(spoke.read(mistaken), mistaken))
    window.run_proof()
    qtbot.waitUntil(lambda: window.proof.worker is None and len(window.document.results) == 19, timeout=300_000)
    assert window.proof.status.text() == "17 of 19 passed"
    window.proof.list.setCurrentRow(0)
    panel = window.proof.scenarios
    assert panel.view.currentIndex().data() == "it lasted 0.3 s", "the row that failed is chosen"
    qtbot.mouseClick(panel.show_button, Qt.MouseButton.LeftButton)
    window.tasks.finish()
    assert window.stage == 4 and window.bench.strip.cursors[0] == 13_030
    assert "Light roast in order, at 13.03 s" in window.message.text()

    # Mended in the sheet, it passes.
    window.show_stage(2)
    sheet = window.sequence.sheets["Roast"]
    rows = range(sheet.sheet.rowCount())
    charge = next(i for i in rows if sheet.sheet.step_at(i).name == "Charge")
    typed(qtbot, sheet, charge, sheet.sheet.awaits, "GateOpened AND Charge.T >= T#3s")
    assert "Light roast in order" not in window.document.results, "old verdicts do not stand beside a new machine file"
    window.run_proof()
    qtbot.waitUntil(lambda: window.proof.worker is None and len(window.document.results) == 19, timeout=300_000)
    assert window.proof.status.text() == "19 of 19 passed"


def test_a_hand_written_chart_is_opened_run_and_looked_at(qtbot, opened):
    path = Path(EXAMPLES / "paddle.st")
    window = opened(Document(read_project(path), path))
    assert window.windowTitle() == "Paddle (paddle.st) - Spokeshave"
    window.runner.run_for(100)
    window.runner.do("set", "Raise", True)
    window.runner.run_for(500)
    assert [w.step for w in window.runner.waiting()] == ["Raising2"]
    text = window.waiting.text_of(window.runner.waiting()[0])
    assert "waits on AtTop (FALSE) or waits on Raising2.T >= T#10s (Raising2.T = T#490ms)" in text
    window.show_face("chart")
    assert set(window.sequence.charts["Paddle"].items_by_step) == {"Down1", "Raising2", "Up3", "Lowering4"}
    assert drawn(window)
