"""A spreadsheet becomes a sequence: opened, imported, dropped and pasted, with what each column is taken as shown first."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QApplication, QDialog, QFileDialog

from spokeshave.desktop.document import Document
from spokeshave.desktop.table_dialog import TableDialog
from spokeshave.desktop.window import MainWindow
from spokeshave.formats.tables.book import read_book
from spokeshave.model.edits import new_sequence
from spokeshave.model.project import Project, Signal, SignalClass

TABLE = "Plan of the tub\nNo;Step;Valve;Level;Awaits;Go to\n10;Rest;0;;Start AND NOT Jam;\n20;Fill;1;;Full;\n30;Drain;0;;Empty;10\n"


@pytest.fixture
def window(qtbot, tmp_path) -> MainWindow:
    made = MainWindow(Document(new_sequence(Project("Tub")), None))
    made.asks_before_closing = False
    qtbot.addWidget(made)
    made.show()
    return made


@pytest.fixture
def file(tmp_path) -> Path:
    path = tmp_path / "tub.csv"
    path.write_text(TABLE)
    return path


def test_what_is_guessed_is_shown_chosen_otherwise_and_taken_in(qtbot, window, file):
    dialog = TableDialog(read_book(file), window.document.project, window)
    qtbot.addWidget(dialog)
    dialog.show()
    assert [dialog.boxes[c].currentData() for c in range(6)] == ["number", "name", "output", "", "condition", "next"]
    assert dialog.heading.value() == 2 and dialog.says.text() == "3 steps; new: 1 output, 4 inputs"
    asked = [dialog.told.item(i).text() for i in range(dialog.told.count())]
    assert (
        asked[0] == "Valve: new output Valve, BOOL: taken as an output; it may be an input"
        and "the column Level is left out: it is empty" in asked
    )
    dialog._go(dialog.told.item(0))
    assert dialog.cells.currentColumn() == 2
    dialog.boxes[2].setCurrentIndex(dialog.boxes[2].findData("input"))
    dialog.boxes[2].activated.emit(0)
    assert dialog.says.text() == "3 steps; new: 5 inputs" and not dialog.plan.questions
    dialog.heading.setValue(1)
    assert not dialog.take.isEnabled() and "no column is the step's number or name" in dialog.told.item(0).text()
    dialog.heading.setValue(2)
    dialog.name.setText("Tub cycle")
    dialog.look()
    assert dialog.take.isEnabled() and dialog.chart.sequence.name == "TubCycle"
    assert window.take_table(dialog, alone=False)
    project = window.document.project
    assert [q.name for q in project.sequences] == ["TubCycle"], "a sequence that nobody has written in gives way"
    assert window.document.history.undo_name == "Import tub.csv" and project.signal("Valve").cls is SignalClass.OUTPUT
    window.document.undo()
    assert [q.name for q in window.document.project.sequences] == ["Sequence"]


def test_a_table_is_opened_dropped_and_left(window, file, monkeypatch):
    answers = [QDialog.DialogCode.Rejected, QDialog.DialogCode.Accepted, QDialog.DialogCode.Accepted]
    monkeypatch.setattr(TableDialog, "exec", lambda self: answers.pop(0))
    before = window.document.project
    assert not window.open_path(file) and window.document.project is before
    assert window.open_path(file) and window.document.path is None and window.document.dirty
    assert [s.name for s in window.document.project.sequences[0].steps] == [
        "Rest",
        "Fill",
        "Drain",
    ] and window.stage == 2
    window.document.replace(new_sequence(Project()), None)
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(file))])
    drop = QDropEvent(
        QPointF(5, 5), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    window.dropEvent(drop)
    assert not answers and window.document.project.sequences[0].name == "PlanOfTheTub"
    said = []
    monkeypatch.setattr(window, "say_fault", said.append)
    file.with_suffix(".xlsx").write_bytes(b"no workbook")
    assert not window.open_path(file.with_suffix(".xlsx")) and "no XLSX workbook" in said[0]
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(file.with_suffix(".xlsx")), ""))
    window.import_table()
    assert len(said) == 2


def test_a_foreign_table_is_pasted_into_the_sheet_with_the_signals_that_are_there(window, monkeypatch):
    window.document.edit("s", lambda p: p.__class__(**{f: getattr(p, f) for f in p.__dataclass_fields__ if f != "signals"},
                                                    signals=(Signal("Full", SignalClass.INPUT, comment="Tub full"),)))  # fmt: skip
    shown = []
    monkeypatch.setattr(TableDialog, "exec", lambda self: shown.append(self) or QDialog.DialogCode.Accepted)
    QApplication.clipboard().setText(
        "Ablauf\n\nNr.\tBezeichnung\tVentil\tTub full\tDauer\n1\tRuhe\t\t\t2\n2\tLauf\tX\t1\t\n"
    )
    window.show_stage(2)
    window.sequence.sheets["Sequence"].paste()
    q = window.document.project.sequences[-1]
    assert shown and [s.name for s in q.steps] == ["Ruhe", "Lauf"] and q.transitions[1].condition == "Full"
    assert [s.name for s in window.document.project.signals] == ["Full", "Ventil"]
