"""The whole file is looked through beside the work, and where something is used is listed."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import change_item


def rows(panel) -> list[tuple[str, str]]:
    items = [panel.list.topLevelItem(i) for i in range(panel.list.topLevelItemCount())]
    return [tuple(i.text(0).split("\n")) for i in items]


def test_a_word_is_looked_for_from_any_stage_and_each_line_is_shown_at_its_place(qtbot, window):
    window.show_stage(3)
    window.table.actions["edit.everywhere"].trigger()
    panel = window.program.found
    assert panel.isVisible() and window.focusWidget() is panel.line and panel.empty.isVisible()
    QTest.keyClicks(panel.line, "DropOpened")
    qtbot.waitUntil(lambda: panel.list.topLevelItemCount() > 3)
    assert rows(panel)[0] == ("signal DropOpened  (input)", "DropOpened") and "found in" in panel.count.text()
    QTest.keyClick(panel.line, Qt.Key.Key_Return)
    assert window.stage == 1 and window.selection.place == Place("signal", item="DropOpened")
    for _ in range(panel.list.topLevelItemCount() - 1):
        QTest.keyClick(panel.line, Qt.Key.Key_Return)
    assert window.selection.place.kind == "scenario" and window.stage == 5 and panel.isVisible()
    panel.line.setText("no such word")
    qtbot.waitUntil(lambda: panel.list.topLevelItemCount() == 0)
    assert panel.empty.isVisible() and "stands nowhere" in panel.empty.says.text()
    QTest.keyClick(panel, Qt.Key.Key_Escape)
    assert not panel.isVisible()


def test_uses_of_a_step_come_from_its_menu_and_follow_edits(qtbot, window):
    sheet = window.sequence.sheet
    index = sheet.model().index(2, 1)
    menu = sheet.menu(index)
    action = next(a for a in menu.actions() if a.text().startswith("Where it is used"))
    action.trigger()
    panel = window.program.found
    found = rows(panel)
    assert panel.isVisible() and "is used in" in panel.count.text() and not panel.whole.isVisible()
    step = window.selection.place.step
    assert found[0][1] == step and found[0][0].startswith(f"Roast, step {step}  (step ")
    text = f"expect reach Roast.{step} within 5 s"
    window.document.edit("a row", lambda p: change_item(p, "scenarios", 0, text=f"{p.scenarios[0].text}\n{text}"))
    qtbot.waitUntil(lambda: len(rows(panel)) == len(found) + 1)
    window.selection.set(Place("trip", item="Emergency"))
    assert not window.program.can_show_uses()
