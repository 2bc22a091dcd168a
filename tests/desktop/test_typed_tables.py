"""Lists are typed like a spreadsheet: Return and Tab lead on to a row that is no item yet, and nothing typed is written over."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QFocusEvent
from PySide6.QtWidgets import QApplication

from spokeshave.desktop.sequence.sheet import STEP
from spokeshave.desktop.signals.columns import CONTACT, NAME
from spokeshave.model.edits import new_sequence
from spokeshave.model.project import Project, SignalClass, Type
from tests.windows import cell_line

Key = Qt.Key


@pytest.fixture
def empty(window):
    window.document.replace(new_sequence(Project()), None)
    QApplication.processEvents()
    return window


def typed(qtbot, view, text: str, key: Key) -> None:
    """Types into the current cell and ends it by a key."""
    if cell_line(view) is None:
        view.edit(view.currentIndex())
    line = cell_line(view)
    qtbot.keyClicks(line, text)
    qtbot.keyClick(line, key)
    QApplication.processEvents()


def test_sentences_follow_each_other_by_return(qtbot, empty):
    empty.show_stage(0)
    view = empty.brief.view
    empty.brief.add()
    for sentence in ("The arm goes down only over the bath.", "A round takes 40 s at most."):
        typed(qtbot, view, sentence, Key.Key_Return)
    found = empty.document.project.requirements
    assert [(r.ident, r.text, r.kind) for r in found] == [
        ("R01", "The arm goes down only over the bath.", "interlock"),
        ("R02", "A round takes 40 s at most.", "time"),
    ]
    assert view.currentIndex().row() == 2 and view.current_row() == -1
    typed(qtbot, view, "   ", Key.Key_Return)
    assert len(empty.document.project.requirements) == 2, "nothing typed is no sentence"


def test_a_signal_is_typed_across_and_the_next_one_takes_its_class(qtbot, empty):
    empty.show_stage(1)
    view = empty.signals.list.view
    empty.signals.list.add()
    typed(qtbot, view, "Advance", Key.Key_Tab)
    typed(qtbot, view, "out", Key.Key_Return)
    empty.signals.list.add()
    typed(qtbot, view, "Frame", Key.Key_Tab)
    typed(qtbot, view, "internal", Key.Key_Tab)
    typed(qtbot, view, "in", Key.Key_Tab)
    typed(qtbot, view, "%MW3", Key.Key_Tab)
    typed(qtbot, view, "7", Key.Key_Tab)
    first, second = empty.document.project.signals
    assert (first.name, first.cls, first.type) == ("Advance", SignalClass.OUTPUT, Type.BOOL)
    assert (second.name, second.cls, second.type) == ("Frame", SignalClass.INTERNAL, Type.INT)
    assert (second.address, second.initial) == ("%MW3", 7), "Tab passes what has no contact"
    assert not view.items.index(1, CONTACT).flags() & Qt.ItemFlag.ItemIsEditable
    view.items.setData(view.items.index(1, 1), "machine")
    assert "machine is none of input" in empty.message.text()
    view.items.setData(view.items.index(2, NAME), "Frame")
    assert len(empty.document.project.signals) == 2 and "Frame" in empty.message.text()


def test_what_is_typed_stays_when_a_check_comes_meanwhile(qtbot, empty):
    empty.show_stage(1)
    view, table = empty.signals.list.view, empty.signals.list.table
    table.setData(table.index(0, NAME), "Gate")
    view.select_row(0, 10)
    view.edit(view.currentIndex())
    line = cell_line(view)
    qtbot.keyClicks(line, "limit sw")
    empty.document.checked.emit()
    table.set_marks({(0, NAME): "something"})
    QApplication.processEvents()
    QApplication.sendEvent(line, QFocusEvent(QEvent.Type.FocusOut, Qt.FocusReason.ActiveWindowFocusReason))
    assert cell_line(view) is line, "another window in front does not end the typing"
    qtbot.keyClicks(line, "itch")
    qtbot.keyClick(line, Key.Key_Return)
    QApplication.processEvents()
    assert empty.document.project.signals[0].comment == "limit switch"


def test_steps_follow_each_other_in_the_sheet(qtbot, empty):
    empty.show_stage(2)
    name = empty.document.project.sequences[0].name
    view = empty.sequence.sheets[name]
    for row, text in enumerate(("Rest", "Lower")):
        view.setCurrentIndex(view.sheet.index(row, STEP))
        typed(qtbot, view, text, Key.Key_Return)
    line = view.next_step
    for text in ("Soak", "", "Lower"):
        line.setText(text)
        qtbot.keyClick(line, Key.Key_Return)
    q = empty.document.project.sequences[0]
    assert [s.name for s in q.steps] == ["Rest", "Lower", "Soak"] and line.text() == "Lower", (
        "a taken name stays to be changed"
    )
    assert [t.targets for t in q.transitions] == [("Lower",), ("Soak",), ("Rest",)]
    line.setText("Raise")
    qtbot.keyClick(line, Key.Key_Tab)
    assert view.currentIndex().row() == 3 and view.currentIndex().column() == STEP + 1
    empty.document.undo()
    assert len(empty.document.project.sequences[0].steps) == 3
    line.setFocus()
    for n in range(40):
        line.setText(f"Round{n}")
        qtbot.keyClick(line, Key.Key_Return)
        QApplication.processEvents()
        assert view.viewport().rect().contains(line.geometry()), "nobody types where he does not see it"
