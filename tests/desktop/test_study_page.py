"""The reachability study in the desktop: what is asked as lines of text, answers, ways on the bench and as scenarios."""

from __future__ import annotations

from dataclasses import replace

import pytest
from PySide6.QtCore import Qt

from spokeshave.model.project import Project, Scenario
from spokeshave.verify.processes import let_go
from spokeshave.verify.reach.answers import GROUP
from spokeshave.verify.reach.questions import examples, parse_plan, print_plan
from tests.core.test_reach import changed, hatch


@pytest.fixture
def panel(qtbot, window):
    window.document.replace(changed(hatch(), 3, "Closed AND Done"), None)
    window.show_proof(window.proof.study)
    panel = window.proof.study
    yield panel
    panel.stop()
    let_go()


def run(qtbot, panel) -> None:
    panel.start_button.click()
    qtbot.waitUntil(lambda: not panel.elsewhere.busy, timeout=20_000)


def rows(panel) -> dict[str, str]:
    items = [panel.answers.topLevelItem(i) for i in range(panel.answers.topLevelItemCount())]
    return {item.text(1): item.text(0) for item in items}


def test_what_is_asked_is_lines_of_text_with_located_faults(roastery):
    plan, problems = parse_plan(roastery, examples(roastery))
    assert not problems and len(print_plan(plan).splitlines()) == 6
    assert examples(Project()).count("\n") == 5
    assert parse_plan(roastery, print_plan(plan)) == (plan, ())
    assert parse_plan(roastery, print_plan(roastery.study)) == (roastery.study, ())
    wrong = "// a word\nassume Batches > 1\ntogether Gate\nbefore Roast.Gone, Roast.Drop\nsetting Gone 1\nsetting BatchGoal x\nperhaps"
    _, problems = parse_plan(roastery, wrong)
    assert [p.line for p in problems] == [2, 3, 4, 5, 6, 7]
    assert "there is no step Roast.Gone" in problems[2].message and "is not known" in problems[-1].message


def test_what_is_asked_stays_while_the_file_cannot_be_linked(window, panel):
    """A condition that is being typed elsewhere says nothing against the lines of the study."""
    panel.text.setPlainText("assume NOT Go")
    assert panel.apply_text() and window.document.project.study.assumptions == ("NOT Go",)
    window.document.edit("broken", lambda p: changed(p, 0, "Gone AND"))
    assert panel.text.toPlainText() == "assume NOT Go" and panel.fault.text() == ""
    panel.text.setPlainText("assume Up")
    assert panel.fault.text() == "" and panel.apply_button.isEnabled()
    window.document.undo()
    panel.text.setPlainText("assume Up")
    assert "Up" in panel.fault.text() and not panel.apply_button.isEnabled()


def test_answers_come_with_the_way_to_what_is_bad_and_it_plays_on_the_bench(qtbot, window, panel):
    panel.text.setPlainText("together Up, Down\nbefore Main.Opens, Main.Closes")
    run(qtbot, panel)
    assert window.document.project.study.together == (("Up", "Down"),), "what was typed is taken"
    said = rows(panel)
    assert (
        said["It never gets stuck: Main"] == "✕ no"
        and said["Never on together: Up and Down, after interlocks"] == "✓ proven"
    )
    assert panel.way.toPlainText().startswith(f"// {panel.chosen().text}"), "whole, however narrow the column is"
    row = next(n for n, a in enumerate(panel.found.answers) if a.way is not None)
    panel.answers.setCurrentItem(panel.answers.topLevelItem(row))
    assert "expect finally Main" in panel.way.toPlainText()
    assert panel.limits.textFormat() == Qt.TextFormat.RichText and "<li>inputs are free" in panel.limits.text()
    assert "answers are bad" in panel.status.text()
    panel.show_button.click()
    window.tasks.finish()
    assert window.stage == 4
    session = window.runner.session
    active = {
        f"{q.name}.{q.steps[a].name}" for q in session.program.sequences for a in session.situation.active[q.index]
    }
    assert active == set(panel.chosen().way.steps)
    window.show_proof(window.proof.study)
    panel.keep_button.click()
    kept = [s for s in window.document.project.scenarios if s.group == GROUP]
    assert kept and window.table.actions["edit.undo"].isEnabled()
    window.document.edit("mended", lambda p: changed(p, 3, "Closed"))
    assert "before the change of" in panel.status.text() and not panel.show_button.isEnabled()
    run(qtbot, panel)
    assert set(rows(panel).values()) == {"✓ proven"} and not panel.keep_button.isEnabled()


def test_faulty_lines_and_files_are_told_and_a_study_can_be_left(qtbot, window, panel):
    panel.text.setPlainText("together Up")
    assert (
        panel.fault.text() == "Line 1: write two outputs with a comma between them"
        and not panel.apply_button.isEnabled()
    )
    panel.start_button.click()
    assert not panel.elsewhere.busy, "it does not begin"
    panel.text.setPlainText("")
    panel.start_button.click()
    panel.cancel_button.click()
    assert not panel.elsewhere.busy and panel.status.text() == "cancelled"
    window.document.edit("broken", lambda p: changed(p, 0, "Gone"))
    run(qtbot, panel)
    assert panel.status.text().startswith("Cannot be studied.") and "Gone" in panel.status.text()


def test_rows_of_scenarios_become_lines_and_are_answered(qtbot, window, panel):
    panel.rows_button.click()
    assert "not asked yet" in panel.fault.text()
    panel.stored_button.click()
    assert "No step stores anything" in panel.fault.text()
    rows_said = Scenario("s", "run for 1 s\nexpect never Up AND Down\nexpect while Up: NOT Down")
    window.document.edit("rows", lambda p: replace(p, scenarios=(rows_said,)))
    panel.text.setPlainText("together Up, Down")
    panel.rows_button.click()
    assert (
        panel.text.toPlainText() == "together Up, Down\nnever Up AND Down\nwhile Up: NOT Down"
        and not panel.fault.text()
    )
    panel.rows_button.click()
    assert panel.text.toPlainText().count("never") == 1, "each once"
    run(qtbot, panel)
    assert window.document.project.study.never == ("Up AND Down", "while Up: NOT Down")
    told = {about: sign for about, sign in rows(panel).items() if about.startswith("What must never be: ")}
    assert len(told) == 4 and set(told.values()) == {"✓ proven"}, told
