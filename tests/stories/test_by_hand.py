"""What hands do without thinking: a right click, Ctrl+S in the middle of a word, Tab out of a field, closing with a text half typed."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QContextMenuEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLineEdit, QMenu, QMessageBox, QWidget

from spokeshave.desktop.document import Document
from spokeshave.desktop.sequence.sheet import STEP
from spokeshave.formats import spoke
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import new_sequence
from spokeshave.model.project import Project, Signal, SignalClass

pytestmark = pytest.mark.window
Key, Mod = Qt.Key, Qt.KeyboardModifier
LEFT = Qt.MouseButton.LeftButton
SIGNALS = (Signal("Go", SignalClass.INPUT), Signal("Shut", SignalClass.INPUT), Signal("Drive", SignalClass.OUTPUT))


def choose_of_menu(qtbot, widget: QWidget, at: QPoint, text: str) -> None:
    """A right click on a widget, as the system tells it, and a click on an entry of the menu that comes."""
    event = QContextMenuEvent(QContextMenuEvent.Reason.Mouse, at, widget.mapToGlobal(at))
    QApplication.sendEvent(widget, event)
    qtbot.waitUntil(lambda: isinstance(QApplication.activePopupWidget(), QMenu))
    menu = QApplication.activePopupWidget()
    action = next(a for a in menu.actions() if text in a.text())
    qtbot.mouseClick(menu, LEFT, pos=menu.actionGeometry(action).center())
    qtbot.waitUntil(lambda: QApplication.activePopupWidget() is None)


@pytest.fixture
def window(opened, tmp_path):
    path = tmp_path / "own.spoke"
    project = new_sequence(Project("Own", signals=SIGNALS))
    spoke.write(project, path)
    made = opened(Document(project, path))
    made.show_stage(2)
    return made


def test_a_right_click_on_a_step_of_the_chart_leads_to_its_edits(qtbot, window):
    window.show_face("chart")
    QApplication.processEvents()
    chart = window.sequence.charts["Sequence"]
    item = chart.items_by_step["Working"]
    at = chart.mapFromScene(item.mapToScene(item.box_area().center()))
    choose_of_menu(qtbot, chart.viewport(), at, "Insert a step after")
    q = window.document.project.sequence("Sequence")
    assert len(q.steps) == 3 and any(t.sources == ("Working",) and t.targets != ("Waiting",) for t in q.transitions)


def test_ctrl_s_in_the_middle_of_a_word_saves_the_word(qtbot, window):
    view = window.sequence.sheets["Sequence"]
    view.setFocus()
    view.setCurrentIndex(view.sheet.index(0, view.sheet.awaits))
    qtbot.keyClick(view, Key.Key_F2)
    editor = QApplication.focusWidget()
    assert isinstance(editor, QLineEdit)
    editor.selectAll()
    qtbot.keyClicks(editor, "Go AND Shut")
    qtbot.keyClick(window, Key.Key_S, Mod.ControlModifier)
    saved = spoke.read(window.document.path).sequence("Sequence")
    assert saved.transitions[0].condition == "Go AND Shut" and not window.document.dirty


def test_tab_out_of_a_field_of_the_details_takes_the_text_and_goes_to_the_next(qtbot, window):
    window.selection.go(Place("step", "Sequence", "Working"))
    if not window.details.isVisible():
        window.toggle_details()
    labels = list(window.details.fields)
    comment = window.details.fields["Comment"]
    comment.setFocus()
    qtbot.keyClicks(comment, "pushes")
    QTest.keyClick(window.windowHandle(), Key.Key_Tab)
    QApplication.processEvents()
    assert window.document.project.sequence("Sequence").step("Working").comment == "pushes"
    focus = QApplication.focusWidget()
    assert focus is not comment and window.details.isAncestorOf(focus), labels


def test_closing_with_a_text_half_typed_asks_and_cancel_keeps_it(qtbot, window, monkeypatch):
    window.asks_before_closing = True
    window.selection.go(Place("opening"))
    panel = window.signals.opening
    panel.text.setFocus()
    qtbot.keyClicks(panel.text, "Drive := Go AND")
    asked: list[str] = []

    def answer(_: QWidget, title: str, *more: object) -> QMessageBox.StandardButton:
        asked.append(title)
        return answers.pop(0)

    monkeypatch.setattr(QMessageBox, "question", answer)
    buttons = QMessageBox.StandardButton
    answers = [buttons.Cancel]
    assert not window.close() and window.isVisible() and asked == ["Unsaved edits"]
    assert panel.text.toPlainText() == "Drive := Go AND" and window.document.dirty
    answers = [buttons.Save]
    assert window.close() and spoke.read(window.document.path).opening == "Drive := Go AND", (
        "half a text is kept as it is"
    )


def test_a_name_that_is_typed_over_and_given_up_is_as_it_was(qtbot, window):
    view = window.sequence.sheets["Sequence"]
    view.setFocus()
    view.setCurrentIndex(view.sheet.index(1, STEP))
    qtbot.keyClicks(view, "Wrong")
    qtbot.keyClick(QApplication.focusWidget(), Key.Key_Escape)
    assert window.document.project.sequence("Sequence").step("Working") is not None and not window.document.dirty
