"""How work begins: from the start page by keyboard, from a file manager, with a second start, and as it was left."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from pathlib import Path

import pytest
from PySide6.QtCore import QSettings, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog

from spokeshave.desktop.theme import theme
from spokeshave.desktop.window import MainWindow
from spokeshave.formats.files import write_project
from spokeshave.formats.spoke import read
from spokeshave.model.edits import new_sequence
from spokeshave.model.project import Project, Signal, SignalClass
from tests.windows import cell_line, windows_with

PATIENCE_S = 40
TELLS = """
import json, sys
from pathlib import Path
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication
from spokeshave.desktop.application import make_app
from spokeshave.desktop.start import run_desktop
from spokeshave.desktop.window import MainWindow

def tell():
    windows = [w for w in QApplication.topLevelWidgets() if isinstance(w, MainWindow) and w.isVisible()]
    told = sorted((w.document.project.name, w.stage, str(w.document.path or "")) for w in windows)
    new = Path(sys.argv[1] + ".new")  # whole when it is read
    new.write_text(json.dumps(told))
    new.replace(sys.argv[1])

make_app()
timer = QTimer()
timer.timeout.connect(tell)
timer.start(100)
run_desktop(Path(sys.argv[2]) if len(sys.argv) > 2 else None)
"""


class Running:
    """A program of its own that tells which windows it has."""

    def __init__(self, folder: Path, *files: Path) -> None:
        self.told = folder / "told.json"
        self.told.unlink(missing_ok=True)
        self.env = {**os.environ, "XDG_STATE_HOME": str(folder / "state")}
        words = [sys.executable, "-c", TELLS, str(self.told), *map(str, files)]
        self.process = subprocess.Popen(words, env=self.env)

    def windows(self) -> list[list[object]]:
        try:
            found: list[list[object]] = json.loads(self.told.read_text())
        except OSError:  # not yet
            return []
        return found

    def wait_for(self, wanted: object) -> None:
        end = time.monotonic() + PATIENCE_S
        while not wanted(self.windows()) and time.monotonic() < end:
            assert self.process.poll() is None, "it has ended"
            time.sleep(0.1)
        assert wanted(self.windows()), self.windows()

    def start_again(self, *words: str) -> subprocess.CompletedProcess[str]:
        """A second start, as from a menu or a file manager."""
        command = [sys.executable, "-m", "spokeshave", *words]
        return subprocess.run(command, env=self.env, capture_output=True, text=True, timeout=PATIENCE_S)

    def end(self) -> None:
        self.process.kill()
        self.process.wait(10)


@pytest.fixture
def running(tmp_path):
    made: list[Running] = []

    def start(*files: Path) -> Running:
        made.append(Running(tmp_path, *files))
        return made[-1]

    yield start
    for one in made:
        if one.process.poll() is None:
            one.end()


def machine(folder: Path, name: str) -> Path:
    file = folder / f"{name}.spoke"
    write_project(new_sequence(Project(name, signals=(Signal("Full", SignalClass.INPUT),))), file)
    return file


def test_a_second_start_opens_its_file_in_the_program_that_runs(running, tmp_path):
    one, two = machine(tmp_path, "Silo"), machine(tmp_path, "Sieve")
    program = running()
    program.wait_for(lambda windows: [w[1] for w in windows] == [-1])
    assert (program.start_again(str(one)).returncode, program.start_again("open", str(two)).returncode) == (0, 0)
    program.wait_for(lambda windows: {w[0] for w in windows} == {"Silo", "Sieve", "Untitled"})
    assert program.start_again(str(one)).returncode == 0
    time.sleep(0.5)
    assert len(program.windows()) == 3, "a file that is open comes to the front"
    wrong = program.start_again(str(tmp_path / "gone.spoke"))
    assert wrong.returncode == 2 and "gone.spoke" in wrong.stderr and "Traceback" not in wrong.stderr
    assert len(program.windows()) == 3
    program.end()
    again = running(two)
    again.wait_for(lambda windows: [w[2] for w in windows] == [str(two)])
    settings = QSettings(str(tmp_path / "state" / "spokeshave" / "sizes.ini"), QSettings.Format.IniFormat)
    size = settings.beginReadArray("recent")
    names = []
    for i in range(size):
        settings.setArrayIndex(i)
        names.append(Path(str(settings.value("path"))).name)
    assert names == ["Sieve.spoke", "Silo.spoke"]


@pytest.fixture
def opened(qtbot, tmp_path):
    """A window as the program opens it without a file."""
    with windows_with(QSettings(str(tmp_path / "sizes.ini"), QSettings.Format.IniFormat)) as make:

        def window() -> MainWindow:
            one = make()
            one.show_start()
            qtbot.waitExposed(one)
            one.activateWindow()
            return one

        yield window


def test_a_first_machine_is_begun_by_keyboard_with_the_manual_beside_it(qtbot, opened, tmp_path, monkeypatch):
    window = opened()
    page = window.start
    qtbot.waitUntil(lambda: window.focusWidget() is page.new)
    QTest.keyClick(page.new, Qt.Key.Key_Tab)
    assert window.focusWidget() is page.tour
    QTest.keyClick(page.tour, Qt.Key.Key_Return)
    tour = window.program.tour
    assert window.stage == 2 and tour.isVisible() and "0 of 10" in tour.count.text()
    window.program.show_manual()
    manual = window.program.manual
    assert manual.isVisible() and not tour.isVisible() and manual.at.startswith("desktop#Sequence")
    QTest.keyClicks(manual.line, "window longest")
    QTest.keyClick(manual.line, Qt.Key.Key_Return)
    assert manual.at and window.width() <= 1280
    QTest.keyClick(manual.line, Qt.Key.Key_Escape)
    assert not manual.isVisible() and window.outline.isVisible()
    window.table.actions["help.tour"].trigger()
    tour.shows[0].click()
    assert window.stage == 1
    window.signals.list.add()
    for keys in (("Full", "inp"), ("Screw", "out")):
        for text, end in zip(keys, (Qt.Key.Key_Tab, Qt.Key.Key_Return)):
            view = window.signals.list.view
            if cell_line(view) is None:
                view.edit(view.currentIndex())
            line = cell_line(view)
            QTest.keyClicks(line, text)
            QTest.keyClick(line, end)
            QApplication.processEvents()
    assert "1 of 10" in tour.count.text() and tour.marks[0].text().startswith("✓")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(tmp_path / "first.spoke"), ""))
    window.table.actions["file.save"].trigger()
    assert "2 of 10" in tour.count.text() and [s.name for s in read(tmp_path / "first.spoke").signals] == [
        "Full",
        "Screw",
    ]
    QTest.keyClick(tour, Qt.Key.Key_Escape)
    assert not tour.isVisible()
    window.show_start()
    assert [c.title for c in page.cards] == ["first.spoke"]


def test_what_one_prefers_is_there_the_next_time(qtbot, opened):
    window = opened()
    dialog = window.program.ask_preferences()
    dialog.colours.setCurrentIndex(1)
    dialog.period.setValue(50)
    QTest.keyClick(dialog, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: theme.dark)
    window.grab()
    window.start.new.click()
    assert window.document.project.period_ms == 50
    window.close()
    assert opened().preferences.period_ms == 50
