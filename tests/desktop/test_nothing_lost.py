"""Nothing typed is lost: drafts in the document, files that others write, messages that go, kinds of files."""

from __future__ import annotations

from dataclasses import replace

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QFileDialog, QLineEdit, QMessageBox

from spokeshave.desktop.document import Document
from spokeshave.desktop.kept_edits import KEEP_AFTER_MS
from spokeshave.desktop.window import MainWindow
from spokeshave.formats import spoke
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.recovery import Recovery
from spokeshave.model import edits
from spokeshave.model.diagnostics import Place
from tests.desktop.test_window import cell, sheet_of

Key = Qt.Key


def elsewhere(window) -> None:
    """An edit that has nothing to do with what is typed."""
    assert window.document.edit("elsewhere", lambda p: edits.change_step(p, "Cool", "Stir", comment="elsewhere"))
    QApplication.processEvents()


def opening_of(window):
    window.selection.go(Place("opening"))
    assert window.signals.opening.isVisible()
    return window.signals.opening


def typed_in(window, place):
    draft = window.document.drafts.of(place)
    return draft.text if draft else None


def test_opening_logic_survives_an_edit_and_a_save_is_asked_to_take_it(window, tmp_path):
    panel = opening_of(window)
    mine = panel.own + "\n// mine"
    panel.text.setPlainText(mine)
    elsewhere(window)
    assert panel.text.toPlainText() == mine and window.document.dirty
    window.document.path = tmp_path / "a.spoke"
    assert window.save()
    assert spoke.read(tmp_path / "a.spoke").opening == mine and not window.document.dirty


def test_a_draft_whose_base_changed_under_it_shows_both_and_loses_neither(window):
    panel = opening_of(window)
    panel.text.setPlainText("// mine")
    window.document.edit("theirs", lambda p: replace(p, opening="// theirs"))
    assert (
        panel.both.isVisible()
        and panel.both.other.toPlainText() == "// theirs"
        and panel.text.toPlainText() == "// mine"
    )
    panel.leave()
    assert window.document.project.opening == "// theirs", "leaving decides nothing"
    panel.both.theirs.click()
    assert panel.text.toPlainText() == "// theirs" and not panel.both.isVisible()
    panel.text.undo()
    assert panel.text.toPlainText() == "// mine" and typed_in(window, "opening") == "// mine"
    window.document.edit("theirs", lambda p: replace(p, opening="// theirs again"))
    panel.both.mine.click()
    assert window.document.project.opening == "// mine" and not panel.both.isVisible()
    window.document.undo()
    assert window.document.project.opening == "// theirs again"


def test_scenario_and_study_texts_survive_edits_and_results(window):
    window.show_proof(window.proof.scenarios)
    panel = window.proof.scenarios
    panel.list.setCurrentRow(1)
    name, text = panel.scenario.name, panel.scenario.text + "\nexpect no hazards"
    panel.text.setPlainText(text)
    elsewhere(window)
    assert panel.text.toPlainText() == text
    panel.list.setCurrentRow(0)
    panel.list.setCurrentRow(1)
    assert panel.text.toPlainText() == text, "looking at another scenario throws nothing away"
    window.proof.scenarios.refresh()
    window.show_proof(window.proof.study)
    study = window.proof.study
    study.text.setPlainText(study.text.toPlainText() + "\nassume NOT StartButton")
    kept = study.text.toPlainText()
    elsewhere(window)
    assert study.text.toPlainText() == kept
    assert {d.place for d in window.document.drafts.all()} == {f"scenario {name}", "study"}
    assert window.take_over() == []
    assert window.document.project.scenario(name).text == text
    assert "NOT StartButton" in window.document.project.study.assumptions


def test_code_survives_a_new_sequence_and_another_choice(window):
    window.show_stage(2)
    window.sequence.show_sequence("Roast")
    window.show_face("code")
    QApplication.processEvents()
    code = window.sequence.codes["Roast"]
    code.choice.setCurrentText("Body CountBatch")
    code.text.setPlainText("Batches := Batches + ")
    code.choice.setCurrentIndex(0)
    assert "CASE Roast OF" in code.text.toPlainText() and not code.typed
    window.new_sequence()
    window.sequence.show_sequence("Roast")
    window.show_face("code")
    QApplication.processEvents()
    code = window.sequence.codes["Roast"]
    code.choice.setCurrentText("Body CountBatch")
    assert code.text.toPlainText() == "Batches := Batches + " and code.typed
    code.restore_button.click()
    assert not code.typed and not window.document.drafts


def test_an_open_cell_is_taken_over_by_save(qtbot, window, tmp_path):
    window.document.path = tmp_path / "a.spoke"
    window.activateWindow()
    view = sheet_of(window)
    index = cell(view, "Charge", view.sheet.awaits)
    view.setCurrentIndex(index)
    view.edit(index)
    editor = view.viewport().findChildren(QLineEdit)[-1]
    editor.selectAll()
    qtbot.keyClicks(editor, "GateOpened")
    window.table.actions["file.save"].trigger()
    q = spoke.read(tmp_path / "a.spoke").sequence("Roast")
    assert next(t for _, t in q.leaving("Charge")).condition == "GateOpened"


def test_what_is_typed_counts_as_unsaved_and_is_kept_while_typing_goes_on(qtbot, roastery, tmp_path, monkeypatch):
    window = MainWindow(Document(roastery), Recovery(tmp_path))
    window.document.saved = roastery
    window.show()
    qtbot.waitExposed(window)
    panel = opening_of(window)
    times = []
    monkeypatch.setattr(window.keeper.recovery, "keep", lambda *a: times.append(a[2]))
    for n in range(12):
        panel.text.setPlainText(f"// {n}")
        qtbot.wait(KEEP_AFTER_MS // 2)
    assert len(times) >= 4, "also while somebody goes on typing"
    assert window.document.dirty and "•" in window.windowTitle()
    answers = []

    def asked(*args: object) -> QMessageBox.StandardButton:
        answers.append(args[2])
        return QMessageBox.StandardButton.Cancel

    monkeypatch.setattr(QMessageBox, "question", asked)
    assert not window.close() and "not saved" in answers[0]
    window.asks_before_closing = False
    window.close()


def test_another_programs_change_is_never_written_over_unasked(window, tmp_path):
    file = tmp_path / "a.spoke"
    window.document.path = file
    assert window.save()
    other = replace(window.document.project, comment="theirs")
    spoke.write(other, file)
    elsewhere(window)
    mine = window.document.project
    assert not window.save() and "changed by another program" in window.message.text()
    assert spoke.read(file) == other and window.disk_bar.isVisible()
    window.disk_bar.beside.click()
    assert spoke.read(tmp_path / "a-mine.spoke") == mine and spoke.read(file) == other
    window.document.open(file)
    spoke.write(mine, file)
    elsewhere(window)
    window.disk_bar.look()
    assert window.disk_bar.isVisible()
    edited = window.document.project
    window.disk_bar.reload.click()
    assert window.document.project == mine and not window.disk_bar.isVisible()
    assert spoke.read(tmp_path / "a-mine-2.spoke") == edited, "what was edited here is kept beside it"


def test_recovered_edits_do_not_write_over_a_file_that_was_saved_later(window, tmp_path, monkeypatch):
    file = tmp_path / "a.spoke"
    spoke.write(window.document.project, file)
    window.document.open(file)
    elsewhere(window)
    recovery = Recovery(tmp_path / "kept")
    recovery.keep(window.document.project, file, (), window.document.stamp)
    later = replace(window.document.project, comment="saved later")
    spoke.write(later, file)
    monkeypatch.setattr("spokeshave.formats.recovery.is_running", lambda kept: False)
    (left,) = Recovery(tmp_path / "kept").left_over()
    assert window.recover(left) and not window.save()
    assert spoke.read(file) == later


@pytest.mark.parametrize(
    ("typed", "kind", "written"),
    [
        ("b", "IEC text (*.st)", "b.st"), ("b", "Machine files (*.spoke)", "b.spoke"), ("b.st", "Machine files (*.spoke)", "b.st"),
        ("my.machine", "All files (*)", "my.machine"),
    ],
)  # fmt: skip
def test_save_as_obeys_the_chosen_kind(window, tmp_path, monkeypatch, typed, kind, written):
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(tmp_path / typed), kind))
    done = window.ask_save()
    assert done is (written != "my.machine"), "an unknown kind is refused"
    if done:
        path = tmp_path / written
        read = parse_iec(path.read_text()) if path.suffix == ".st" else spoke.read(path)
        assert read == window.document.project


def test_the_message_of_a_refused_edit_goes_with_the_next_edit_that_succeeds(window):
    window.document.edit("x", lambda p: edits.change_step(p, "Nowhere", "Charge", comment="x"))
    assert window.message.text().startswith("✕")
    elsewhere(window)
    assert not window.message.text()
