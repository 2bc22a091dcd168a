"""The present file beside another version: what differs, drawn in one chart, taken over one by one."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPoint, Qt

from spokeshave.desktop.compare_dialog import both
from spokeshave.desktop.document import Document
from spokeshave.desktop.window import MainWindow
from spokeshave.formats.spoke import dumps
from spokeshave.language.rename import rename_step
from spokeshave.model.edits import change_step
from spokeshave.model.flow_edits import delete_step
from spokeshave.versions.merge import merge
from tests.core.test_versions import EDITS, ROASTERY


@pytest.fixture
def window(qtbot) -> MainWindow:
    made = MainWindow(Document(ROASTERY, None))
    made.asks_before_closing = False
    qtbot.addWidget(made)
    made.show()
    return made


def test_differences_are_listed_drawn_taken_over_and_gone_to(qtbot, window, tmp_path):
    other = delete_step(EDITS["step"](EDITS["setting"](EDITS["place"](ROASTERY))), "Roast", "Preheat")
    path = tmp_path / "other.spoke"
    path.write_text(dumps(other), encoding="utf-8")
    dialog = window.compare_with(path)
    qtbot.addWidget(dialog)
    stages = [dialog.list.topLevelItem(i) for i in range(dialog.list.topLevelItemCount())]
    assert [s.text(0) for s in stages] == ["Signals", "Sequence", "Machine"]
    assert stages[0].child(0).text(0) == "≠ signal ChargeTemp: initial value is 170.0, was 160.0"
    marked = dialog.chart.marked
    assert marked["Preheat"] == "gone" and "new" in marked.values() and len(dialog.chart.sequence.steps) == 16
    assert dialog.chart.grab().toImage().width() > 0 and "gone: Preheat" in dialog.chart.accessibleDescription()
    sheet = dialog.sheet
    heads = [sheet.verticalHeaderItem(r).text() for r in range(sheet.rowCount())]
    assert "− 40 Preheat" in heads and "   10 Idle" in heads and any(h.startswith("+ ") for h in heads)
    stages[0].child(0).setSelected(True)
    dialog.go()
    assert window.selection.place.item == "ChargeTemp" and window.stage == 1
    dialog.take()
    assert window.document.project.signal(
        "ChargeTemp"
    ).initial == 170.0 and window.document.history.undo_name.startswith("Take over: signal")
    assert [dialog.list.topLevelItem(i).text(0) for i in range(dialog.list.topLevelItemCount())] == [
        "Sequence",
        "Machine",
    ]
    dialog.list.selectAll()
    dialog.take()
    assert window.document.project == other and dialog.says.text() == "other.spoke is the same as the present file"
    window.document.undo()
    assert window.document.project.sequence("Roast").step("Preheat") is not None and len(dialog.found) > 5
    path.write_text("no machine file")
    assert window.compare_with(path) is None


def test_one_chart_of_two_versions_has_what_either_has():
    before = ROASTERY.sequence("Roast")
    after = delete_step(change_step(ROASTERY, "Roast", "Charge", longest="T#7s"), "Roast", "Preheat").sequence("Roast")
    made, marked = both(before, after)
    assert {s.name for s in made.steps} == {s.name for s in before.steps}
    assert (marked["Preheat"], marked["Charge"]) == ("gone", "changed")
    assert both(before, before) == (before, {})


def test_conflicts_of_a_merge_are_mended_or_mine_is_kept(qtbot, window):
    merged = merge(
        ROASTERY, EDITS["longest"](ROASTERY), change_step(ROASTERY, "Roast", "Preheat", longest="T#2m")
    ).project
    window.document.replace(merged, None)
    keep = window.table.commands["file.keep.mine"]
    assert keep.enabled()
    keep.run()
    assert window.document.project == EDITS["longest"](ROASTERY) and not keep.enabled()


def test_another_version_is_put_into_the_present_one_with_a_choice_for_each_conflict(qtbot, window, tmp_path):
    mine = rename_step(EDITS["place"](EDITS["longest"](ROASTERY)), "Roast", "Charge", "Load")
    theirs = change_step(EDITS["setting"](ROASTERY), "Roast", "Preheat", longest="T#2m")
    theirs = rename_step(theirs, "Roast", "Charge", "Fill")
    window.document.replace(mine, None)
    paths = [tmp_path / "theirs.spoke", tmp_path / "base.spoke"]
    for path, project in zip(paths, (theirs, ROASTERY), strict=True):
        path.write_text(dumps(project), encoding="utf-8")
    dialog = window.merge_with(*paths)
    qtbot.addWidget(dialog)
    both_changed, comes = (dialog.list.topLevelItem(i) for i in range(2))
    rows = [both_changed.child(i) for i in range(both_changed.childCount())]
    assert [(r.text(0), r.text(1), r.text(2)) for r in rows] == [
        ("Roast: step Load is called Fill now", "○ Load", "○ Fill"),
        ("Roast: step 40 Preheat: longest time", "○ T#90s", "○ T#2m"),
    ]
    assert [comes.child(i).text(0) for i in range(comes.childCount())] == [
        "≠ signal ChargeTemp: initial value is 170.0, was 160.0"
    ]
    assert "2 to choose" in dialog.says.text()
    place = dialog.list.visualItemRect(rows[0])
    at = QPoint(dialog.list.header().sectionPosition(2) + 20, place.center().y())
    qtbot.mouseClick(dialog.list.viewport(), Qt.MouseButton.LeftButton, pos=at)
    assert rows[0].text(2) == "● Fill" and "1 to choose" in dialog.says.text()
    dialog.list.clearSelection()
    rows[1].setSelected(True)
    dialog.choose(False)
    assert dialog.says.text() == "1 change of theirs comes in"
    dialog.put_together()
    wanted = rename_step(EDITS["setting"](EDITS["place"](EDITS["longest"](ROASTERY))), "Roast", "Charge", "Fill")
    assert window.document.project == wanted and window.document.history.undo_name == "Merge theirs.spoke"
    window.document.undo()
    assert window.document.project == mine


def test_a_merge_that_nobody_chose_in_leaves_findings_and_a_broken_result_is_told(qtbot, window, tmp_path):
    last = ROASTERY.sequence("Cool").steps[-1].name
    theirs, mine = delete_step(ROASTERY, "Cool", last), change_step(ROASTERY, "Cool", last, longest="T#7s")
    window.document.replace(mine, None)
    paths = [tmp_path / "theirs.spoke", tmp_path / "base.spoke"]
    for path, project in zip(paths, (theirs, ROASTERY), strict=True):
        path.write_text(dumps(project), encoding="utf-8")
    dialog = window.merge_with(*paths)
    qtbot.addWidget(dialog)
    assert f"neither version had this: Cool, step {last}: no way leads from Ready to {last}" in dialog.says.text()
    dialog.put_together()
    assert [c.theirs for c in window.document.project.conflicts] == ["gone"]
    assert window.document.project.sequence("Cool").step(last).longest == "T#7s"
    window.document.undo()
    dialog = window.merge_with(*paths)
    qtbot.addWidget(dialog)
    dialog.choose(True)
    assert "neither" not in dialog.says.text()
    window.document.edit("note", lambda p: change_step(p, "Roast", "Preheat", longest="T#9m"))
    before = window.document.project
    dialog.put_together()
    assert window.document.project is before and dialog.isVisible()
    paths[1].write_text("no machine file")
    assert window.merge_with(*paths) is None
