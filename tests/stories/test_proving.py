"""A proof by hand: a sentence, its number, a rule in the matrix, a scenario in rows, an accepted run, a change that shows."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt

from spokeshave.desktop.document import Document
from spokeshave.desktop.proof.row_line import RowLine
from spokeshave.formats import spoke
from spokeshave.model import edits
from tests.looks import drawn
from tests.stories.test_first_job import press
from tests.stories.test_from_nothing import typed

Key, Ctrl, Shift = Qt.Key, Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


def type_row(qtbot, view, row: int, head: str, rest: str) -> None:
    """Types a moment, and in the cell that opens then what is done."""
    view.go_to(row, 0)
    qtbot.keyClick(view, Key.Key_F2)
    for column, text in ((0, head), (1, rest)):
        qtbot.waitUntil(
            lambda c=column: view.currentIndex().column() == c and view.indexWidget(view.currentIndex()) is not None
        )
        line = view.indexWidget(view.currentIndex())
        assert isinstance(line, RowLine)
        line.setText(text)
        line.popup.hide()
        qtbot.keyClick(line, Key.Key_Return)
    qtbot.waitUntil(lambda: view.rows.lines[row] == f"{head} {rest}")


def test_a_new_rule_is_written_shown_accepted_and_a_later_change_is_seen(qtbot, opened, roastery, tmp_path: Path):
    window = opened(Document(roastery))
    document = window.document

    # The sentence, with a number that becomes a setting.
    press(qtbot, window, Key.Key_1, Ctrl)
    path = tmp_path / "more.txt"
    path.write_text("R30: The stirrer turns only with the flap closed or after 2 s of opening.")
    assert window.brief.take_in(path)
    about = window.brief.about
    assert about.number.currentText() == "2 s"
    about.name.setText("ShakeTime")
    qtbot.mouseClick(about.make_button, Qt.MouseButton.LeftButton)
    assert document.project.signal("ShakeTime").start == 2000

    # The rule in the matrix: nothing shows it yet.
    press(qtbot, window, Key.Key_M, Ctrl | Shift)
    matrix = window.proof.matrix
    matrix.kind.setCurrentText("interlock")
    matrix.guards.setCurrentText("Stirrer")
    qtbot.keyClicks(matrix.text, "FlapClosed OR Cool.Empty.T >= ShakeTime")
    qtbot.keyClick(matrix.text, Key.Key_Return)
    row = next(i for i, c in enumerate(matrix.model.matrix.causes) if "interlock Stirrer" in c.names)
    assert matrix.model.index(row, 2).data() == "◔ not run"

    # A scenario in rows, from a situation of another one.
    window.table.actions["proof.new"].trigger()
    panel = window.proof.scenarios
    panel.view.selectAll()
    qtbot.keyClick(panel.view, Key.Key_Delete)
    for at, (head, rest) in enumerate([
        ("shows", "R30"), ("start", 'at "dropping"'), ("run", "for 25 s"), ("expect", "count Cool.Empty.X AND NOT Stirrer: 1 times"),
        ("expect", "while Cool.Empty.X AND Cool.Empty.T > T#2s: Stirrer"),
    ]):  # fmt: skip
        type_row(qtbot, panel.view, at, head, rest)
    assert not panel.rows.problems, panel.rows.problems
    name = panel.scenario.name
    press(qtbot, window, Key.Key_R, Ctrl | Shift)
    qtbot.waitUntil(lambda: window.proof.worker is None and name in document.results, timeout=300_000)
    assert window.proof.status.text().startswith("1 of")
    assert panel.rows.index(4, 2).data() == "✓ pass", [panel.rows.index(4, c).data() for c in range(5)]
    press(qtbot, window, Key.Key_M, Ctrl | Shift)
    assert matrix.model.index(row, 2).data() == f"✓ {name}"
    assert "shown by nothing yet" in matrix.summary.text()
    window.show_proof(window.proof.scenarios)

    # Accepted; a change of the setting is seen as what it is, and drawn.
    window.table.actions["proof.accept"].trigger()
    number = [s.name for s in document.project.signals].index("ShakeTime")
    document.edit("longer", lambda p: edits.change_item(p, "signals", number, initial=2500))
    press(qtbot, window, Key.Key_R, Ctrl | Shift)
    qtbot.waitUntil(lambda: window.proof.worker is None and name in document.results, timeout=300_000)
    window.table.actions["proof.runs"].trigger()
    accepted = window.proof.accepted
    rows = [[accepted.table.topLevelItem(i).text(c) for c in (2, 3)] for i in range(accepted.table.topLevelItemCount())]
    assert ["Stirrer", "on 0.5 s later"] in rows, rows
    accepted.show_difference(rows.index(["Stirrer", "on 0.5 s later"]))
    window.tasks.finish()
    assert window.stage == 4 and window.bench.strip.beside.spans("Stirrer", False)
    assert drawn(window)

    # Saved with all of it.
    assert window._save_to(tmp_path / "proven.spoke") and spoke.read(tmp_path / "proven.spoke") == document.project
    press(qtbot, window, Key.Key_1, Ctrl)
    typed(qtbot, window.brief.view, len(document.project.requirements) - 1, 3, f"{name}, interlock Stirrer")
    assert document.project.requirements[-1].shown_by == ("interlock Stirrer",)
