"""What the bench's commands do beyond the run itself: snapshots, films, scenarios, the operator's page."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QFileDialog

from spokeshave.desktop.bench.operator_page import OperatorPage
from spokeshave.desktop.bench.snapshots import gif_of, save_snapshot
from spokeshave.fieldbus.address_map import Role
from spokeshave.formats.disk import write_bytes_atomically
from spokeshave.formats.errors import FormatError
from spokeshave.formats.stimuli_csv import write_stimuli
from spokeshave.verify.keep import keep

if TYPE_CHECKING:
    from spokeshave.desktop.against import AgainstWindow
    from spokeshave.desktop.serving import ServingWindow
    from spokeshave.desktop.window import MainWindow


class BenchCommands:
    """What the bench does by command: pictures, films, the operator page, serving."""

    def __init__(self, window: MainWindow) -> None:
        self.window = window
        self.operator: OperatorPage | None = None
        self.serving: ServingWindow | None = None
        self.against: AgainstWindow | None = None

    def go_to_bar(self) -> None:
        """The line for a condition or a time."""
        self.window.show_stage(4)
        self.window.bench.bar.target.setFocus()
        self.window.bench.bar.target.selectAll()

    def keep_scenario(self) -> bool:
        """What was done so far becomes a scenario of the machine file."""
        w = self.window
        session = w.runner.session
        if session is None or not session.trace.scan_count:
            w.say_fault("Nothing has run yet that could be kept")
            return False
        if not w.document.edit("Keep as scenario", lambda p: keep(p, session)):
            return False
        name = w.document.project.scenarios[-1].name
        w.say(f"Kept as scenario {name!r}. It is in stage 6.")
        return True

    def ask_stimuli(self) -> None:
        path = self._ask("Stimuli of the run", "stimuli.csv", "Stimuli (*.csv)")
        if path is not None:
            self.save_stimuli(path)

    def save_stimuli(self, path: Path) -> bool:
        """What the inputs and settings were so far, to run the machine file with again."""
        session = self.window.runner.session
        if session is None or not session.trace.scan_count:
            self.window.say_fault("Nothing has run yet that could be written")
            return False
        return self._written(path, lambda: write_stimuli(session.trace, session.program.project, path))

    def ask_snapshot(self) -> None:
        path = self._ask("Snapshot of the timing diagram", "timing.png", "Picture (*.png);;Table (*.csv)")
        if path is not None:
            self.save_snapshot(path)

    def save_snapshot(self, path: Path) -> bool:
        return self._written(path, lambda: save_snapshot(self.window.bench.strip, path))

    def toggle_film(self) -> None:
        """Begins to record the board, or ends it and asks where the animated picture goes."""
        film = self.window.bench.film
        if not film.on and not film.frames:
            self.window.show_stage(4)
            film.start()
            self.window.say("Recording the board. The same command ends it and writes the animated picture.")
            return
        film.stop()
        path = self._ask("Animated picture of the board", "board.gif", "Animated picture (*.gif)")
        if path is not None:
            self.save_film(path)
        film.frames = []

    def save_film(self, path: Path) -> None:
        """Makes the animated picture in a process, and writes it when it is there."""

        def made(data: bytes) -> None:
            self._written(path, lambda: write_bytes_atomically(data, path))

        frames = self.window.bench.film.frames
        if frames:
            self.window.tasks.in_process(f"Makes {path.name} of {len(frames)} pictures", made, gif_of, list(frames))

    def show_operator(self, full: bool = True) -> OperatorPage:
        page = OperatorPage(self.window.runner, self.window.document.project.name)
        self.operator = page
        page.destroyed.connect(self._forget)
        page.showFullScreen() if full else page.show()
        return page

    def show_serving(self) -> ServingWindow:
        """The window that serves the run over Modbus TCP."""
        from spokeshave.desktop.serving import ServingWindow

        if self.serving is None:
            self.serving = ServingWindow(self.window.runner, self.window)
        self.serving.show()
        self.serving.raise_()
        return self.serving

    def show_against(self) -> AgainstWindow:
        """The window that runs scenarios against a controller outside."""
        from spokeshave.desktop.against import AgainstWindow

        if self.against is None:
            self.against = AgainstWindow(self.window.document, self.show_map, self.window)
            self.against.show_asked.connect(self.window.showing.against)
        self.against.show()
        self.against.raise_()
        return self.against

    def show_map(self) -> None:
        """The address map of a controller, to be edited."""
        self.show_serving().show_role(Role.CONTROLLER)

    def close(self) -> None:
        """With the window: ends the serving and closes the operator's page."""
        if self.serving is not None:
            self.serving.close()
        if self.against is not None:
            self.against.close()
        if self.operator is not None:
            self.operator.close()

    def _forget(self) -> None:
        self.operator = None

    def _ask(self, title: str, name: str, kinds: str) -> Path | None:
        start = (self.window.document.path or Path.cwd() / "machine").with_name(name)
        chosen, _ = QFileDialog.getSaveFileName(self.window, title, str(start), kinds)
        return Path(chosen) if chosen else None

    def _written(self, path: Path, write: object) -> bool:
        try:
            write()  # type: ignore[operator]
        except FormatError as error:
            self.window.say_fault(str(error))
            return False
        self.window.say(f"Wrote {path.name}")
        return True
