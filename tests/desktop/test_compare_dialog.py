"""The present file beside another version: what differs, drawn in one chart, taken over one by one."""

from __future__ import annotations

import pytest

from spokeshave.desktop.compare_dialog import both
from spokeshave.desktop.document import Document
from spokeshave.desktop.window import MainWindow
from spokeshave.formats.spoke import dumps
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
