"""The code face while the machine runs, what it offers, and how an edit looks before it is taken over."""

from __future__ import annotations

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from spokeshave.desktop.document import Document
from spokeshave.desktop.sequence.chart_small import marks
from spokeshave.desktop.sequence.code_changes import looked_at
from spokeshave.desktop.window import MainWindow
from spokeshave.formats.code.write import generate
from spokeshave.formats.iec_read import parse_iec

TEXT = """
PROGRAM Dip
  VAR_INPUT Go, Low : BOOL; Level : INT; END_VAR
  VAR_OUTPUT Down : BOOL; END_VAR
  VAR Wait : TON; END_VAR
  INITIAL_STEP S10: END_STEP
  STEP S20: Down(N); Look(N); END_STEP
  TRANSITION FROM S10 TO S20 := Go AND Level > 3; END_TRANSITION
  TRANSITION FROM S20 TO S10 := Low; END_TRANSITION
  ACTION Look: Wait(IN := Low, PT := T#1s); END_ACTION
END_PROGRAM
"""


@pytest.fixture
def window(qtbot) -> MainWindow:
    made = MainWindow(Document(parse_iec(TEXT), None))
    made.asks_before_closing = False
    qtbot.addWidget(made)
    made.resize(1280, 800)
    made.show()
    made.show_stage(2)
    made.show_face("code")
    return made


def test_values_and_what_is_awaited_stand_behind_the_lines_also_of_an_edited_text(window, qtbot):
    face, run = window.sequence.codes["Dip"], window.runner
    assert face.text.values == {}
    run.do("set", "Go", True)
    run.run_for(50)

    def of(part: str) -> str:
        line = next(n for n, text in enumerate(face.text.toPlainText().split("\n"), 1) if part in text)
        return face.text.awaited.get(line) or face.text.values.get(line, "")

    assert of("IF Go AND Level > 3") == "Go TRUE   Level 0" and of("CASE Dip OF") == "Dip 10"
    assert of("10: (* S10 *)") == "waits on Level > 3 (Level = 0)"
    face.text.setPlainText("(* mine *)\n" + face.text.toPlainText())
    run.do("set", "Level", 7)
    run.run_for(50)
    assert of("IF Go AND Level > 3") == "Go TRUE   Level 7" and of("20: (* S20 *)") == "waits on Low (FALSE)"
    assert "Wait" not in of("mine") and of("Wait(") == "Low FALSE"


def test_states_are_offered_by_number_and_by_name(window, qtbot):
    face = window.sequence.codes["Dip"]
    text = face.text
    line = next(n for n, t in enumerate(text.toPlainText().split("\n"), 1) if "Dip := 20" in t)
    at = text.document().findBlockByNumber(line - 1).text().index("20;") + 1
    text.go_to(line, at)
    text.setFocus()
    QTest.keyClick(text, Qt.Key.Key_Delete)
    QTest.keyClick(text, Qt.Key.Key_Delete)
    assert face._states("  IF Go THEN Dip := ") == [("10 S10", "10"), ("20 S20", "20")] and face._states("x := ") == []
    QTest.keyClicks(text, "s2")
    popup = text.words.popup()
    assert popup.isVisible() and popup.model().index(0, 0).data() == "20 S20"
    QTest.keyClick(text, Qt.Key.Key_Return)
    assert "Dip := 20;" in text.toPlainText() and not face.typed
    QTest.keyClicks(text, " Go")  # words again
    assert text.words.model() is text._known


def test_an_edit_is_drawn_beside_the_chart_before_it_is_taken_over(window, qtbot):
    face = window.sequence.codes["Dip"]
    text = face.text.toPlainText()
    label = next(line for line in text.split("\n") if "20: (* S20 *)" in line)
    new = f"{label.replace('20: (* S20 *)', '15: (* Check *)')}\n        IF Low THEN Dip := 20; END_IF;\n{label}"
    face.text.setPlainText(text.replace("Dip := 20;", "Dip := 15;", 1).replace(label, new))
    face.apply()
    assert face.charts.isVisible() and face.charts.then.marked == {"S10": "changed", "Check": "new"}
    assert face.charts.now.marked == {"S10": "changed"} and "new: Check" in face.charts.then.accessibleDescription()
    assert face.charts.then.grab().toImage() != face.charts.now.grab().toImage()
    before = window.document.project.sequence("Dip")
    face.apply()
    after = window.document.project.sequence("Dip")
    assert [s.number for s in after.steps] == [10, 15, 20] and not face.charts.isVisible()
    assert marks(after, before) == ({"S10": "changed", "Check": "gone"}, {"S10": "changed"}) and marks(
        after, after
    ) == ({}, {})


@pytest.mark.parametrize(
    ("old", "new", "faults", "doubts"),
    [
        ("Dip := 20;", "Dip := 45;", ["4:41 there is no state 45"], ["nothing leads to state 20"]),
        ("Dip := 20;", "Dip = 20;", ["4:38 this compares, a statement assigns"], []),
        ("Dip := 20; END_IF;", "Dip := 20 END_IF;", ["4:43 a semicolon is missing behind 20"], []),
        (
            "Dip := 20;",
            "Dip := TRUE;",
            ["4:41 Dip is the number of a state, this is BOOL"],
            ["nothing leads to state 20"],
        ),
        ("END_CASE;", "", ["8:3 the CASE of line 2 is not closed before END_IF"], []),
        (
            "IF Go AND Level > 3 THEN Dip := 20; END_IF;",
            "IF Goo AND Level > 3 THEN Dip := 45; END_IF;",
            ["4:12 there is no Goo", "4:42 there is no state 45"],
            ["nothing leads to state 20"],
        ),
        ("      20: (* S20 *)", "      10:", ["4:41 there is no state 20", "5:7 the state 10 has two labels"], []),
    ],
)
def test_typed_mistakes_are_told_at_once_each_at_its_place(
    old: str, new: str, faults: list[str], doubts: list[str]
) -> None:
    project = parse_iec(TEXT)
    text = generate(project, "plain").text
    assert old in text
    untouched = looked_at(text, project, "plain")
    assert (untouched.wrong, untouched.doubts) == ([], [])
    looked = looked_at(text.replace(old, new, 1), project, "plain")
    wrong, doubted = looked.wrong, looked.doubts
    assert [f"{p.line}:{p.column} {p.message}" for p in wrong][: len(faults)] == faults
    assert [p.message for p in doubted] == doubts
