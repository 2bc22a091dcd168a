"""What the proof does in other processes, and what it says when that does not work: faults are told, nothing is lost."""

from __future__ import annotations

import os
import sys
from concurrent.futures import Future
from dataclasses import replace

import pytest
from PySide6.QtCore import QObject, Qt
from PySide6.QtWidgets import QLabel
from typer.testing import CliRunner

from spokeshave.cli import whole_app
from spokeshave.desktop.process_work import Elsewhere
from spokeshave.formats import spoke
from spokeshave.model.project import Requirement, Scenario
from spokeshave.verify.equivalence import Run as Beside
from spokeshave.verify.equivalence import compare, runs_of
from spokeshave.verify.processes import executor, let_go
from spokeshave.verify.sweep.work import Sent, Sweep, play
from tests.core.test_reach import hatch
from tests.core.test_sweep import slide


@pytest.fixture(autouse=True)
def processes():
    yield
    let_go()


def divide(a: int, b: int) -> float:
    return a / b


def die() -> None:
    os._exit(3)


def test_results_faults_and_dead_processes_come_back_as_values(qtbot):
    owner = QObject()
    there = Elsewhere(owner)
    said: list[object] = []
    there.ask(said.append, divide, 6, 3)
    assert there.busy
    qtbot.waitUntil(lambda: not there.busy, timeout=20_000)
    there.ask(said.append, divide, 6, 0)
    qtbot.waitUntil(lambda: not there.busy, timeout=20_000)
    assert said == [2.0, "ZeroDivisionError: division by zero"]
    there.ask(said.append, die)
    qtbot.waitUntil(lambda: not there.busy, timeout=20_000)
    assert isinstance(said[-1], str) and said[-1].startswith("BrokenProcessPool")
    let_go()
    there.ask(said.append, divide, 1, 1)
    there.forget()
    assert not there.busy and len(said) == 3


def test_a_sweep_whose_processes_die_says_so_and_keeps_its_cells():
    class Dying:
        """An executor that gives some cells and then dies."""

        def __init__(self) -> None:
            self.count = 0

        def submit(self, work, *arguments):
            self.count += 1
            future: Future[object] = Future()
            if self.count == 6:
                future.set_exception(RuntimeError("gone"))
            else:
                future.set_result(work(*arguments))
            return future

    run = Sweep(slide(), executor=Dying())
    while not run.done:
        run.poll()
    assert run.problem == "a cell could not be run: RuntimeError: gone"
    assert 0 < len(run.matrix.cells) < len(run.matrix.faults) * len(run.matrix.steps)


def test_the_run_behind_a_cell_is_the_one_that_was_judged():
    project = slide()
    run = Sweep(project)
    while not run.done:
        run.poll()
    cell = run.matrix.cells["Carriage jammed", "Main.Away"]
    played = play(Sent(project), "", "", cell.fault, cell.step)
    assert played.scans * 10 == cell.end_ms and played.reference_scans == 800
    failing = [s for s in played.done if s.do == "fail"]
    assert [(s.target, s.value, s.time_ms) for s in failing] == [("Carriage", "jammed", cell.injected_ms)]
    assert not [s for s in played.reference_done if s.do == "fail"]


def test_commands_of_the_menu_lead_to_the_parts_of_the_proof(qtbot, window):
    window.document.replace(slide(), None)
    for command, part in (
        ("proof.faults", window.proof.sweep),
        ("proof.reach", window.proof.study),
        ("proof.runs", window.proof.accepted),
        ("proof.matrix", window.proof.matrix),
    ):
        window.table.actions[command].trigger()
        assert window.stage == 5 and window.proof.parts.currentWidget() is part
    window.table.actions["proof.sweep"].trigger()
    assert window.proof.sweep.sweep is not None
    qtbot.waitUntil(lambda: window.proof.sweep.sweep is None, timeout=20_000)
    window.table.actions["proof.study"].trigger()
    qtbot.waitUntil(lambda: window.proof.study.found is not None, timeout=20_000)
    window.proof.recolour()
    window.proof.sweep.view.setCurrentIndex(window.proof.sweep.model.index(0, 0))
    for label in window.findChildren(QLabel):
        assert label.textFormat() == Qt.TextFormat.RichText or "</" not in label.text(), (
            "its own tags are shown as text"
        )
    assert window.proof.sweep.model.matrix.whole
    window.document.replace(hatch(), None)
    window.show_proof(window.proof.sweep)
    assert not window.proof.sweep.start_button.isEnabled(), "there is no cycle"
    assert "before the change of" in window.proof.sweep.status.text()


def test_a_record_says_why_something_is_not_in_it(tmp_path, monkeypatch):
    file = tmp_path / "hatch.spoke"
    bare = hatch(requirements=(Requirement("R1", "It opens."),))
    spoke.write(bare, file)
    report = tmp_path / "r.html"
    said = CliRunner().invoke(whole_app(), ["verify", str(file), "--report", str(report)])
    assert said.exit_code == 0, said.output
    html = report.read_text()
    assert "The faults were not swept: there is no scenario that could be a reference cycle" in html
    assert "can always get back to the initial steps" in html and "<svg" in html

    # Without Qt there is HTML, but for charts, and no PDF.
    monkeypatch.setitem(sys.modules, "spokeshave.desktop.record", None)
    plain = tmp_path / "plain.html"
    assert CliRunner().invoke(whole_app(), ["verify", str(file), "--report", str(plain)]).exit_code == 0
    assert plain.read_text().count("<svg") == 0 and "It opens." in plain.read_text()
    said = CliRunner().invoke(whole_app(), ["verify", str(file), "--report", str(tmp_path / "r.pdf")])
    assert said.exit_code == 2 and "PDF needs Qt" in said.output
    assert not (tmp_path / "r.pdf").exists()


def test_code_is_compared_in_every_run_of_a_list_and_with_the_devices_it_gives():
    lists = Scenario(
        "Slow and fast",
        "for each T in 0.3, 0.6\ngiven Carriage.extend_s is T\nat 100 ms: press GoButton\nrun for 3 s\nexpect finally Main.Rest.X OR TRUE\n",
    )
    project = slide(scenarios=(*slide().scenarios, lists))
    runs = [r for r in runs_of(project, random_runs=0) if r.name.startswith("scenario Slow")]
    assert [r.name for r in runs] == ["scenario Slow and fast [T = 0.3]", "scenario Slow and fast [T = 0.6]"]
    travels = [dict(r.machine(project).device("Carriage").parameters)["extend_s"] for r in runs]
    assert travels == [0.3, 0.6]
    same = compare(project, project, {}, iter(runs))
    assert same.runs == 2 and same.difference is None and same.scans == 600
    other = replace(project, sequences=slide(out="SlideOut AND Away.T >= T#1s").sequences)
    found = compare(project, other, {}, iter(runs))
    assert found.difference is not None and found.difference.run == runs[0].name
    assert isinstance(runs[0], Beside) and runs[0].of(project).session().time_ms == 3000


def test_the_pool_is_the_one_of_the_scenarios():
    assert executor() is executor()
    assert executor().submit(divide, 9, 3).result() == 3
