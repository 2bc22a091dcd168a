"""Pictures of the main views, made from a machine file in a run: for the documentation and for a demo without display."""

from __future__ import annotations

import sys
from pathlib import Path

from PySide6.QtCore import QCoreApplication, QMessageLogContext, QtMsgType, qInstallMessageHandler
from PySide6.QtWidgets import QApplication, QWidget

from spokeshave.desktop.application import make_app
from spokeshave.desktop.compare_dialog import CompareDialog
from spokeshave.desktop.document import Document
from spokeshave.desktop.theme import theme
from spokeshave.desktop.window import MainWindow
from spokeshave.model import edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.flow_edits import insert_step
from spokeshave.model.project import Project, Type
from spokeshave.reading import read_project
from spokeshave.verify.reach.answers import Study, study
from spokeshave.verify.room.work import RoomReport
from spokeshave.verify.scenarios import Result, run_all, run_scenario
from spokeshave.verify.strength.report import Report
from spokeshave.verify.sweep.cycle import cycles_of
from spokeshave.verify.sweep.matrix import Matrix
from spokeshave.verify.sweep.work import sweep


def _show_differences(window: MainWindow, project: Project) -> None:
    """Accepts the runs, then changes the first TIME setting by a sixth: what the comparison is for."""
    window.proof.accepted.accept_passed()
    row = next((i for i, s in enumerate(project.signals) if s.cls.value == "setting" and s.type is Type.TIME), -1)
    if row >= 0 and project.scenarios:
        longer = int(project.signals[row].start) * 7 // 6
        window.document.edit("longer", lambda p: edits.change_item(p, "signals", row, initial=longer))
        window.document.take_results([run_scenario(window.document.project, project.scenarios[0])])
    window.show_proof(window.proof.accepted)


def _show_faults(window: MainWindow, project: Project, swept: Matrix | str) -> None:
    """The fault sweep with one of its bad cells chosen, if it can be swept."""
    panel = window.proof.sweep
    window.show_proof(panel)
    if isinstance(swept, str) and not cycles_of(project):
        return
    matrix = sweep(project) if isinstance(swept, str) else swept
    panel.take(matrix, project)
    bad = next((c for c in matrix.in_order() if c.verdict.is_bad), None)
    if bad is not None:
        panel.view.setCurrentIndex(panel.model.index(matrix.faults.index(bad.fault), matrix.steps.index(bad.step)))


def _settle() -> None:
    for _ in range(6):
        QCoreApplication.processEvents()


def take_pictures(
    file: Path, folder: Path, size: tuple[int, int] = (1280, 800), results: list[Result] | None = None,
    swept: Matrix | str = "", studied: Study | str = "", judged: Report | None = None,
    measured: RoomReport | None = None,
) -> list[Path]:  # fmt: skip
    """Writes one PNG of each stage, and of the chart and the dark theme, and gives their paths.

    `results` are those of the file's scenarios, `swept` and `studied` its sweep and study, where they were done already; with `judged`
    there is one of the mistakes that were planted, with `measured` one of the room.
    """
    before = qInstallMessageHandler(_pass_on)
    try:
        return _take(file, folder, size, results, swept, studied, judged, measured)
    finally:
        qInstallMessageHandler(before)


def _show_versions(window: MainWindow, project: Project) -> CompareDialog:
    """The file beside a version of it in which a step, a time and a device are otherwise."""
    q = project.sequences[0]
    step = q.steps[len(q.steps) // 2].name
    other = edits.change_step(insert_step(project, q.name, step), q.name, step, longest="T#90s")
    other = edits.change_item(other, "devices", 0, at=(0, 0)) if other.devices else other
    dialog = CompareDialog(window.document, window.selection, other, "monday.spoke", window)
    dialog.show()
    return dialog


def _pass_on(kind: QtMsgType, context: QMessageLogContext, text: str) -> None:
    """Qt's messages, but for those in which the drawing without a display tells what it does not support."""
    if not text.startswith("This plugin does not support"):
        print(f"spokeshave: {text}", file=sys.stderr)


def _take(
    file: Path,
    folder: Path,
    size: tuple[int, int],
    results: list[Result] | None,
    swept: Matrix | str,
    studied: Study | str,
    judged: Report | None,
    measured: RoomReport | None,
) -> list[Path]:
    app = make_app()
    folder.mkdir(parents=True, exist_ok=True)
    project = read_project(file)
    document = Document(project, file)
    window = MainWindow(document)
    window.asks_before_closing = False
    window.resize(*size)
    window.show()
    _settle()
    written = []

    def take(name: str, what: QWidget = window) -> None:
        _settle()
        path = folder / f"{name}.png"
        what.grab().save(str(path))
        written.append(path)

    window.show_start()
    take("0-start")
    window.runner.run_for(500)
    start = next((d.name for d in project.devices if d.kind == "button"), "")
    if start:
        window.runner.do("hand", start, 1)
        window.runner.run_for(300)
        window.runner.do("hand", start, 0)
    window.runner.run_for(21_000)
    first = project.sequences[0].name
    active = next((w for w in window.runner.waiting() if w.sequence == first), None)
    window.show_stage(2)
    window.selection.set(Place("step", first, active.step if active else ""))
    take("3-sequence-sheet")
    window.show_face("chart")
    take("3-sequence-chart")
    window.show_face("code")
    take("3-sequence-code")
    window.show_face("sheet")
    window.show_stage(3)
    window.selection.set(Place("device", item=project.devices[0].name if project.devices else ""))
    take("4-machine")
    window.show_stage(4)
    window.bench.strip.show_span(0, window.runner.session.time_ms if window.runner.session else 1000)
    take("5-bench")
    page = window.bench_commands.show_operator(full=False)
    page.resize(1280, 800)
    _settle()
    take("5-operator", page)
    page.close()
    window.toggle_dark()
    window.bench.looks.setCurrentIndex(1 if project.scene else 0)
    take("5-bench-dark")
    window.toggle_dark()
    window.show_stage(1)
    take("2-signals")
    dialog = _show_versions(window, project)
    take("0-versions", dialog)
    dialog.close()
    document.take_results(run_all(project) if results is None else results)
    window.show_stage(0)
    window.brief.view.select_row(3, 1)
    take("1-brief")
    window.show_stage(5)
    take("6-proof")
    window.show_proof(window.proof.matrix)
    window.proof.matrix.go_to(Place("trip", item=project.trips[-1].name if project.trips else ""))
    take("6-proof-cause-effect")
    window.show_proof(window.proof.alarms)
    window.proof.alarms.table.select_row(max(0, len(window.proof.alarms.model.rows) - 1), 2)
    take("6-proof-alarms")
    _show_faults(window, project, swept)
    take("6-proof-faults")
    window.show_proof(window.proof.study)
    window.proof.study.take(studied if isinstance(studied, Study) else study(project), project)
    take("6-proof-reachability")
    if judged is not None:
        window.show_proof(window.proof.strength)
        window.proof.strength.take(judged, project)
        take("6-proof-strength")
    if measured is not None:
        window.show_proof(window.proof.room)
        window.proof.room.take(measured, project)
        take("6-proof-room")
    _show_differences(window, project)
    take("6-proof-accepted")
    window.close()
    window.deleteLater()
    _settle()
    if isinstance(app, QApplication):
        theme.apply(app)
    return sorted(written)
