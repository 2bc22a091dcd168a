"""Tables, functions and blocks in the signals stage: made, typed, pasted, renamed, and read while the machine runs."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from spokeshave.desktop.document import Document
from spokeshave.desktop.window import MainWindow
from spokeshave.engine.link import link_problems
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project, Sequence, Signal, SignalClass, Step, Transition, Type

STEPS = (Step("Rest", 10), Step("Work", 20))
WAYS = (Transition(("Rest",), ("Work",), "Go"), Transition(("Work",), ("Rest",), "Work.T >= Pattern[Row].Lasts"))
MACHINE = Project(
    "Dipper",
    signals=(
        Signal("Go", SignalClass.INPUT),
        Signal("Down", SignalClass.OUTPUT),
        Signal("Row", SignalClass.INTERNAL, Type.INT, initial=1),
    ),
    sequences=(Sequence("Dip", "Rest", STEPS, WAYS),),
)


def window(qapp: QApplication) -> MainWindow:
    made = MainWindow(Document(MACHINE, None))
    made.asks_before_closing = False
    made.resize(1280, 800)
    made.show()
    made.show_stage(1)
    qapp.processEvents()
    return made


def test_a_table_is_made_typed_pasted_and_read_while_it_runs(qapp):
    w = window(qapp)
    panel, document = w.signals.tables, w.document
    w.signals.show_part(4)
    assert panel.empty.isVisible() and not panel.right.isVisible() and not panel.side.isVisible()
    QTest.mouseClick(panel.empty.buttons[0], Qt.MouseButton.LeftButton)
    assert panel.right.isVisible() and document.project.tables[0].rows == ((False, 1000),) * 3
    panel.title.setText("Pattern")
    panel.title.editingFinished.emit()
    panel.columns.setText("Out BOOL, Lasts TIME, Turns INT")
    panel.columns.editingFinished.emit()
    panel.grid.setCurrentIndex(panel.model.index(0, 0))
    QTest.keyClick(panel.grid, Qt.Key.Key_Return)
    assert panel.grid.currentIndex() == panel.model.index(1, 0), "Return goes down"
    QTest.keyClick(panel.grid, Qt.Key.Key_Space)
    QApplication.clipboard().setText("x\t2,5s\t4\n\t300ms\t7\nx\t1s\t0")
    refused = []
    document.refused.connect(refused.append)
    panel.grid.setCurrentIndex(panel.model.index(2, 0))
    panel.paste()
    assert "line 1 of what is pasted" in refused.pop()  # a decimal comma is no time here
    QApplication.clipboard().setText("x\t2.5s\t4\n\t300ms\t7\nx\t1s\t0")
    panel.paste()
    table = document.project.table("Pattern")
    assert table.rows == ((False, 1000, 0), (True, 1000, 0), (True, 2500, 4), (False, 300, 7), (True, 1000, 0))
    document.undo()
    assert len(document.project.table("Pattern").rows) == 3
    document.redo()
    assert not panel.model.setData(panel.model.index(0, 2), "99999") and "Pattern[1].Turns" in refused.pop()
    assert panel.model.setData(panel.model.index(0, 1), "0.2")
    assert link_problems(document.project) == []
    w.runner.do("set", "Go", True)
    w.runner.run_for(100)
    assert w.runner.session.trace.at("Dip.Work.X", w.runner.session.k - 1)
    panel.model.setData(panel.model.index(0, 1), "50ms")  # a setting, changed while it runs
    w.runner.do("set", "Go", False)
    w.runner.run_for(30)
    assert not w.runner.session.trace.at("Dip.Work.X", w.runner.session.k - 1)
    QTest.keyClick(panel.grid, Qt.Key.Key_Insert)
    assert len(document.project.table("Pattern").rows) == 6
    panel.listed.click()
    assert "6 rows" in refused.pop() and panel.listed.isChecked()
    panel.kept.click()
    panel.kind.setText("Stage")
    panel.kind.editingFinished.emit()
    assert document.project.table("Pattern").retain and document.project.table("Pattern").row_type == "Stage"
    panel.columns.setText("Out BOOL, Out TIME")
    panel.columns.editingFinished.emit()
    assert "two columns have one name" in refused.pop() and panel.columns.text().startswith("Out BOOL, Lasts")


def test_a_block_is_written_declared_and_called_and_a_fault_is_told_at_its_line(qapp):
    w = window(qapp)
    panel, document = w.signals.routines, w.document
    w.signals.show_part(6)
    assert panel.empty.isVisible()
    QTest.mouseClick(panel.empty.buttons[0], Qt.MouseButton.LeftButton)
    assert document.project.routines[0].name == "Block1" and panel.declare.isVisible()
    text = (
        panel.text.toPlainText().replace("Block1", "Motor").replace("On := Wanted;", "On := Wanted;\n  Twice := TRUE;")
    )
    panel.text.setPlainText(text)
    panel.look()
    line = text.split("\n").index("  Twice := TRUE;") + 1
    assert panel.note.text().startswith(f"line {line}: there is no Twice")
    panel.text.setPlainText(text.replace("Twice", "On"))
    panel.apply()
    assert (
        document.project.routine("Motor").text == "On := Wanted;\nOn := TRUE;"
        and panel.list.item(0).text() == "Motor  block"
    )
    panel.instance()
    assert document.project.instances[0].kind == "Motor" and w.selection.place == Place("instance", item="Motor1")
    document.edit("logic", lambda p: p.__class__(**{**{f: getattr(p, f) for f in p.__dataclass_fields__},
                                                    "opening": "Motor1(Wanted := Go, On => Down);"}))  # fmt: skip
    refused = []
    document.refused.connect(refused.append)
    panel.remove()
    assert "Motor1 is of the kind Motor" in refused.pop()
    panel.text.setPlainText("FUNCTION_BLOCK Motor\n  On := \nEND_FUNCTION_BLOCK\n")
    panel.leave()  # what cannot be read stays as it is typed
    assert document.project.routine("Motor").text == "On := Wanted;\nOn := TRUE;" and document.drafts
    panel.apply()
    assert "line 3" in refused.pop() and panel.text.toPlainText().startswith("FUNCTION_BLOCK Motor\n  On := ")
