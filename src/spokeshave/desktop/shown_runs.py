"""Runs that come to the bench, and the record that leaves the window: what takes longer than a moment, as tasks."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QFileDialog

from spokeshave.desktop.bench.diagram_beside import Beside
from spokeshave.desktop.bench.recording_dialog import RecordingDialog
from spokeshave.desktop.record import record_bytes
from spokeshave.desktop.run_to import CHUNK
from spokeshave.engine.link import link_problems
from spokeshave.formats.disk import write_bytes_atomically
from spokeshave.formats.errors import FormatError
from spokeshave.formats.recording import read_recording
from spokeshave.formats.tables.pages import write_pages
from spokeshave.model.diagnostics import errors
from spokeshave.model.project import Accepted
from spokeshave.verify.accepted import compared_runs
from spokeshave.verify.recorded import Beside as LaidBeside
from spokeshave.verify.recorded import lay_beside_elsewhere
from spokeshave.verify.results_table import results_tables
from spokeshave.verify.scenarios import Replay, Run

if TYPE_CHECKING:
    from spokeshave.desktop.window import MainWindow


class Showing:
    """Of one window."""

    def __init__(self, window: MainWindow) -> None:
        self.window = window

    def run(self, run: Run, name: str, time_ms: int) -> None:
        """Puts a scenario's run on the bench, at a time of it, beside the accepted one if there is one."""
        strip, accepted = self.window.bench.strip, self.window.document.project.accepted
        beside = next((a for a in accepted if (a.scenario, a.label) == (name, run.label)), None)

        def shown() -> None:
            strip.beside = Beside.of(beside, run) if beside is not None else None
            strip.show_moment(time_ms)
            label = f" [{run.label}]" if run.label else ""
            tail = "" if beside is None else " Hatched where it was otherwise than accepted."
            self.window.say(f"The run of {name}{label}, at {time_ms / 1000:.2f} s. Reset begins a new run.{tail}")

        self._bring(run, f"Brings the run of {name} to the bench", shown)

    def fault(self, run: Run, reference: Accepted, name: str, time_ms: int) -> None:
        """Puts the run behind a cell of the fault sweep on the bench, beside its reference cycle."""

        def shown() -> None:
            self.window.bench.strip.beside = Beside.of(reference, run)
            self.window.bench.strip.show_moment(time_ms)
            self.window.say(
                f"{name}, at {time_ms / 1000:.2f} s. Hatched where it was otherwise than in the reference cycle. "
                "Reset begins a new run."
            )

        self._bring(run, f"Brings {name} to the bench", shown)

    def against(self, run: Run, alone: Accepted | None, name: str, time_ms: int) -> None:
        """Puts a run against a controller outside on the bench, beside what the model does by itself."""

        def shown() -> None:
            if alone is not None:
                self.window.bench.strip.beside = Beside.of(alone, run)
            self.window.bench.strip.show_moment(time_ms)
            hatched = "" if alone is None else "Hatched where it was otherwise than in the model. "
            self.window.say(
                f"{name}, against the controller: forced is what it gave out. {hatched}Reset begins a new run."
            )

        self._bring(run, f"Brings {name} to the bench", shown)

    def ask_recording(self) -> None:
        """Asks for a recording of a real machine, and what its names are."""
        start = str(self.window.document.path or Path.cwd())
        kinds = "Recordings (*.csv *.vcd *.xlsx *.ods *.tsv *.txt);;All files (*)"
        name, _ = QFileDialog.getOpenFileName(self.window, "Lay a recording beside the run", start, kinds)
        if not name:
            return
        dialog = self.recording_dialog(Path(name))
        if dialog is not None and dialog.exec() == RecordingDialog.DialogCode.Accepted:
            self.lay_beside(dialog, Path(name).name)

    def recording_dialog(self, path: Path) -> RecordingDialog | None:
        """What a recording has, to be chosen from; a bad one is told."""
        try:
            recording = read_recording(path)
        except FormatError as error:
            self.window.say_fault(str(error))
            return None
        return RecordingDialog(self.window.document.project, recording, path.name, self.window)

    def lay_beside(self, dialog: RecordingDialog, name: str) -> None:
        """Runs with the recorded inputs, in a process, and shows both in the timing diagram."""

        def laid(found: LaidBeside) -> None:
            first = min((max(d.time_ms, d.accepted_ms) for d in found.differences), default=0)

            def shown() -> None:
                self.window.bench.strip.beside = Beside.of(found.recorded, found.run)
                self.window.bench.strip.show_moment(first)
                n = len(found.differences)
                d = found.differences[0] if found.differences else None
                said = (
                    "all is as recorded"
                    if d is None
                    else f"{n} difference{'s' * (n != 1)}, the first: {d.lane} {d.text}"
                )
                self.window.say(f"{name}: {said}. Hatched where it was otherwise. Reset begins a new run.")

            if found.run.stopped:
                self.window.say_fault(found.run.stopped)
            self._bring(found.run, f"Brings the run beside {name} to the bench", shown)

        project = self.window.document.project
        if bad := errors(link_problems(project)):
            self.window.say_fault(f"it cannot run: {bad[0].place}: {bad[0].message}")
            return
        within = (round(dialog.within_ms.value()), dialog.within.value())
        self.window.tasks.in_process(
            f"Runs with the inputs of {name}",
            laid,
            lay_beside_elsewhere,
            project,
            dialog.lanes(),
            dialog.length_ms,
            *within,
        )

    def _bring(self, run: Run, title: str, shown: Callable[[], None]) -> None:
        """Runs a run again for the bench, while the window answers; the present run stays until it is whole."""
        replay = Replay(run)

        def steps() -> Iterator[float]:
            while replay.advance(CHUNK):
                yield replay.part

        def whole() -> None:
            self.window.runner.show(replay.session)
            self.window.show_stage(4)
            shown()

        self.window.tasks.in_slices(title, steps(), whole)

    def ask_table(self) -> None:
        """Writes what was run since the last edit as a spreadsheet."""
        start = (self.window.document.path or Path.cwd() / "machine").with_name("results.xlsx")
        name, _ = QFileDialog.getSaveFileName(
            self.window, "Write the results as a table", str(start), "Workbook (*.xlsx);;CSV of the scenarios (*.csv)"
        )
        if name:
            path = Path(name)
            self.write_table(path if path.suffix.lower() in (".xlsx", ".csv") else path.with_suffix(".xlsx"))

    def write_table(self, path: Path) -> None:
        """The results so far: scenarios, rows, requirements, accepted runs, findings."""
        document = self.window.document
        results = [found for s in document.project.scenarios if (found := document.results.get(s.name)) is not None]
        tables = results_tables(
            results, document.coverage(), document.findings, compared_runs(document.project, results)
        )
        try:
            write_pages(tables, path)
        except FormatError as error:
            self.window.say_fault(str(error))
            return
        left = len(document.project.scenarios) - len(results)
        self.window.say(f"Wrote {path.name}" + (f"; not in it: {left} scenarios that were not run" if left else ""))

    def ask_record(self) -> None:
        """Writes the record of what was run, swept and studied since the last edit; what was not is said in it."""
        start = (self.window.document.path or Path.cwd() / "machine").with_suffix(".html")
        kinds = "HTML (*.html);;PDF (*.pdf)"
        name, chosen = QFileDialog.getSaveFileName(self.window, "Write the acceptance record", str(start), kinds)
        if not name:
            return
        path = Path(name)
        if path.suffix.lower() not in (".html", ".pdf"):
            path = path.with_suffix(".pdf" if "pdf" in chosen else ".html")
        told, missing = self.window.proof.told()

        def written(data: bytes) -> None:
            try:
                write_bytes_atomically(data, path)
            except FormatError as error:
                self.window.say_fault(str(error))
            else:
                self.window.say(f"Wrote {path.name}" + (f"; not in it: {', '.join(missing)}" if missing else ""))

        self.window.tasks.in_process(f"Writes {path.name}", written, record_bytes, path.suffix, *told)
