"""A step that runs another sequence, in the desktop: by menu, command, typed mark and action block; seen as active on the bench."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QInputDialog, QMenu

from spokeshave.desktop.sequence.sheet import FIRST_MARK
from spokeshave.language.sub_sequences import put_block, with_end
from spokeshave.model.diagnostics import Place
from spokeshave.model.flow_edits import change_transition
from spokeshave.model.project import Action, Project, Qualifier
from tests.core.test_sub_sequences import washing

RUN = Action(Qualifier.RUN, "Wash")


def bare() -> Project:
    """Without the mark of Again, and with a Wash that goes round."""
    project = change_transition(put_block(washing(), "Main", "Again", 0, ""), "Wash", 2, targets=("Rest",))
    main, wash = project.sequences
    main = replace(main, steps=tuple(replace(s, actions=s.actions[:1]) if s.name == "Clean" else s for s in main.steps))
    return replace(project, sequences=(main, replace(wash, steps=wash.steps[:3])))


def show(window, project: Project):
    window.document.replace(project, None)
    window.runner.reset()
    window.show_stage(2)
    window.sequence.show_sequence("Main")
    window.show_face("sheet")
    window.selection.set(Place("step", "Main", "Again"))
    return window.sequence


def again(window):
    q = window.document.project.sequence("Main")
    return q.step("Again").actions, next(t for _, t in q.leaving("Again")).condition


def test_a_sequence_is_run_by_menu_and_command_and_one_undo_takes_it_back(qtbot, window, monkeypatch):
    page = show(window, bare())
    sheet = page.sheets["Main"]
    row = next(i for i in range(sheet.sheet.rowCount()) if sheet.sheet.step_at(i).name == "Again")
    menu = sheet.menu(sheet.sheet.index(row, 2))
    runs = next(m for m in menu.findChildren(QMenu) if m.title() == "Run a sequence")
    (entry,) = runs.actions()
    assert entry.text() == "Wash" and entry.isEnabled() and "goes on when" in entry.toolTip()
    entry.trigger()
    menu.deleteLater()
    assert again(window) == ((RUN,), "Wash.Done.X"), "a round is given its end, and the way out says what it awaits"
    assert [s.name for s in window.document.project.sequence("Wash").steps][-1] == "Done"
    window.document.undo()
    assert window.document.project == bare()
    chosen = []
    monkeypatch.setattr(
        QInputDialog,
        "open",
        lambda dialog: chosen.append(dialog.comboBoxItems()) or dialog.textValueSelected.emit("Wash"),
    )
    window.table.actions["seq.run"].trigger()
    assert chosen == [["Wash"]] and again(window)[0] == (RUN,)
    window.table.actions["seq.run"].trigger()
    assert "runs Wash already" in window.message.text()


def test_a_mark_in_the_column_of_a_sequence_runs_it_and_shows_as_active(qtbot, window):
    page = show(window, with_end(bare(), "Wash"))
    sheet = page.sheets["Main"].sheet
    sheet.ask_column("Wash")
    column = FIRST_MARK + sheet.targets.index("Wash")
    row = next(i for i in range(sheet.rowCount()) if sheet.step_at(i).name == "Again")
    assert sheet.setData(sheet.index(row, column), "x", Qt.ItemDataRole.EditRole)
    assert again(window) == ((RUN,), "Wash.Done.X") and sheet.text(row, column) == "RUN"
    sheet.setData(sheet.index(row, column), "S", Qt.ItemDataRole.EditRole)
    assert again(window)[0] == (RUN,) and "can RUN it" in window.message.text()
    project = put_block(bare(), "Main", "Again", 0, "run Wash")
    assert project.sequence("Main").step("Again").actions == (RUN,)
    window.document.replace(project, None)
    window.show_face("chart")
    chart = window.sequence.charts["Main"]
    assert [a.target for a in chart.items_by_step["Again"].step.actions] == ["Wash"]
    calm = chart.grab().toImage()
    window.runner.reset()
    window.runner.do("set", "Go", True)
    window.runner.one_scan()
    window.runner.one_scan()
    assert chart.grab().toImage() != calm, "where it is, is seen"
