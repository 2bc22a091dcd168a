"""A program written by hand, opened in the desktop: what became of it, and its file that stays."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest
from PySide6.QtWidgets import QApplication

from spokeshave.desktop.document import Document
from spokeshave.desktop.reading_bar import ReadingDialog
from spokeshave.desktop.window import MainWindow
from spokeshave.model.edits import new_sequence
from spokeshave.model.project import Project

STATE_PROGRAMS = Path(__file__).parent.parent / "core" / "state_programs"
PROGRAM = (STATE_PROGRAMS / "42-alarm-latch.st").read_text()


@pytest.fixture
def window(qtbot) -> MainWindow:
    made = MainWindow(Document(new_sequence(Project()), None))
    made.asks_before_closing = False
    qtbot.addWidget(made)
    made.show()
    return made


def read(window: MainWindow, qtbot) -> None:
    """Waits until what is read elsewhere is here."""
    qtbot.waitUntil(lambda: not window.tasks.busy, timeout=60_000)


def test_a_program_is_opened_as_a_chart_and_its_file_is_never_written_over(window, tmp_path, monkeypatch, qtbot):
    file = tmp_path / "Feeder.st"
    file.write_text(PROGRAM)
    assert not window.reading_bar.isVisible()
    assert window.open_path(file) and window.tasks.title.startswith("Reads Feeder.st")
    read(window, qtbot)
    assert window.reading_bar.isVisible()
    assert (
        "Feeder.st was read: it became a chart" in window.reading_bar.says.toolTip()
        or "Feeder.st was read" in window.reading_bar.says.text()
    )
    assert (
        window.document.path is None
        and window.document.dirty
        and window.document.project.sequence("Feeder") is not None
    )
    asked = []
    monkeypatch.setattr(window, "ask_save", lambda: asked.append(True) or False)
    window.save()
    assert asked and file.read_text() == PROGRAM
    window.new_file()
    assert not window.reading_bar.isVisible()


def test_the_text_stands_beside_what_became_of_it_with_the_lines_linked(window, tmp_path, qtbot):
    file = tmp_path / "Feeder.st"
    file.write_text(PROGRAM)
    window.open_path(file)
    read(window, qtbot)
    dialog = ReadingDialog(window.document.reading, file.name, window)
    qtbot.addWidget(dialog)
    dialog.show()
    rows = {dialog.notes.topLevelItem(i).text(1): i for i in range(dialog.notes.topLevelItemCount())}
    assert {"Drive follows the state: on in S1", "stays, as closing logic", "state 2 is step S2"} <= rows.keys()
    dialog.notes.setCurrentItem(dialog.notes.topLevelItem(rows["state 2 is step S2"]))
    assert dialog.text.line == 10
    dialog.text.setFocus()
    qtbot.waitUntil(dialog.text.hasFocus)
    dialog.text.go_to(12)
    assert dialog.notes.currentItem().text(0) == "12"


def test_a_program_is_pasted_into_an_empty_file_and_beside_what_is_there(window, qtbot):
    window.show_stage(2)
    QApplication.clipboard().setText(PROGRAM)
    sheet = window.sequence.sheets["Sequence"]
    sheet.paste()
    read(window, qtbot)
    project = window.document.project
    assert [q.name for q in project.sequences] == ["Feeder"], "a sequence that nobody has written in gives way"
    assert project.signal("Siren").cls == "output" and "Ack" in project.closing and window.reading_bar.isVisible()
    QApplication.clipboard().setText(PROGRAM.replace("PROGRAM Feeder", "PROGRAM Second"))
    window.sequence.sheets["Feeder"].paste()
    read(window, qtbot)
    assert [q.name for q in window.document.project.sequences] == ["Feeder", "Second"]
    said = []
    window.document.refused.connect(said.append)
    QApplication.clipboard().setText(PROGRAM.replace("State := 2", "State := 7"))
    window.sequence.sheets["Second"].paste()
    read(window, qtbot)
    assert said and "there is no state 7" in said[0] and len(window.document.project.sequences) == 2
    window.document.undo()
    assert [q.name for q in window.document.project.sequences] == ["Feeder"]
    QApplication.clipboard().setText((STATE_PROGRAMS / "59-two-of-one-block.st").read_text())
    window.sequence.sheets["Feeder"].paste()
    read(window, qtbot)
    assert [q.name for q in window.document.project.sequences] == ["Feeder", "Left", "Right"], (
        "one for each instance of a block"
    )
    assert "TYPE E_Tray" in window.document.reading.text and not window.document.project.routines


def test_reading_is_cancelled_and_what_is_edited_meanwhile_is_asked_for(window, tmp_path, qtbot, monkeypatch):
    file = tmp_path / "Feeder.st"
    file.write_text(PROGRAM)
    before = window.document.project
    window.open_path(file)
    window.tasks.cancel()
    assert not window.tasks.busy and window.document.project is before
    asked = []
    monkeypatch.setattr(window, "_may_leave", lambda: asked.append(True) or False)
    window.open_path(file)
    window.document.edit("Name", lambda p: replace(p, name="Mine"))
    read(window, qtbot)
    assert asked and window.document.project.name == "Mine" and window.document.reading is None
    said = []
    monkeypatch.setattr(window, "say_fault", said.append)
    file.write_text(PROGRAM.replace("State := 2", "State := 7"))
    window.open_path(file)
    read(window, qtbot)
    assert "there is no state 7" in said[0] and str(file) in said[0]
