"""What one begins with, likes otherwise, and looks up: the start page, recent files, preferences, the manual, more windows."""

from __future__ import annotations

import json
import os
import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import settings as settings_of_properties
from hypothesis import strategies as st
from PySide6.QtCore import QPoint, QSettings, Qt
from PySide6.QtNetwork import QLocalSocket
from PySide6.QtWidgets import QDialog, QFileDialog, QMenu, QPushButton, QTextBrowser

from spokeshave.desktop import start, windows
from spokeshave.desktop.first_window import take_size
from spokeshave.desktop.preferences import SIZES, Preferences, PreferencesDialog
from spokeshave.desktop.recent import MOST, RecentFiles
from spokeshave.desktop.start_page import OWN
from spokeshave.desktop.theme import theme
from spokeshave.examples import EXAMPLES
from spokeshave.examples import FOLDER as EXAMPLE_FOLDER
from spokeshave.formats import spoke
from spokeshave.formats.files import write_project
from spokeshave.model import edits, flow_edits
from spokeshave.model.project import Action, Device, Qualifier, Scenario, Signal, SignalClass, Type
from spokeshave.verify.scenarios import run_scenario
from tests.windows import windows_with


@pytest.fixture
def settings(tmp_path) -> QSettings:
    return QSettings(str(tmp_path / "sizes.ini"), QSettings.Format.IniFormat)


@pytest.fixture
def opened(settings):
    with windows_with(settings) as window:
        yield window


def test_the_start_page_begins_opens_and_gives_way(qtbot, opened, tmp_path, monkeypatch, roastery):
    window = opened()
    window.show_start()
    page = window.start
    assert (
        window.stage == -1 and not window.outline.isVisible() and not any(b.isChecked() for b in window.ribbon.buttons)
    )
    assert window.focusWidget() is page.new and page.nothing.isVisible() and not page.cards
    assert not window.table.actions["file.pdf"].isEnabled(), "there is no stage to print"
    file = tmp_path / "Mine & yours.spoke"
    write_project(roastery, file)
    asked = []
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a: (asked.append(a[3]), (str(file), ""))[1])
    page.open.click()
    assert window.stage == 2 and window.document.project == roastery and window.outline.isVisible()
    window.show_start()
    assert [c.title for c in page.cards] == [file.name] and page.cards[0].isEnabled()
    qtbot.waitUntil(lambda: page.cards[0].picture is not None and all(c.picture is not None for c in page.examples))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a: (asked.append(a[3]), ("", ""))[1])
    for button in page.own:
        button.click()
    assert asked[1:] == [kinds for _, _, kinds in OWN] and window.stage == -1
    page.new.setFocus()
    qtbot.keyClick(page.new, Qt.Key.Key_Return)
    assert window.stage == 2 and len(window.document.project.sequences) == 1 and window.document.path is None
    window.show_start()
    page.cards[0].setFocus()
    qtbot.keyClick(page.cards[0], Qt.Key.Key_Return)
    assert window.document.path == file and window.stage == 2


@pytest.mark.parametrize("number", range(len(EXAMPLES)))
def test_an_example_is_a_copy_without_a_file(opened, number):
    window = opened()
    window.show_start()
    window.start.examples[number].click()
    assert window.stage == 2 and window.document.path is None and not window.document.dirty
    assert window.document.project.sequences and not window.recent.files
    assert (EXAMPLE_FOLDER / EXAMPLES[number][0]).exists()


def test_recent_files_are_few_the_last_first_and_survive_a_broken_list(settings, tmp_path):
    recent = RecentFiles(settings)
    for n in range(MOST + 3):
        recent.add(tmp_path / f"{n}.spoke")
    recent.add(tmp_path / "7.spoke")
    names = [f.path.name for f in RecentFiles(settings).files]
    assert names[:2] == ["7.spoke", f"{MOST + 2}.spoke"] and len(names) == len(set(names)) == MOST
    recent.remove(tmp_path / "7.spoke")
    assert "7.spoke" not in [f.path.name for f in RecentFiles(settings).files]
    settings.setValue("recent/1/when", "yesterday")
    settings.setValue("recent/size", 9_000_000)
    assert 0 < len(RecentFiles(settings).files) < MOST


@settings_of_properties(max_examples=40)
@given(st.lists(st.tuples(st.sampled_from(["add", "remove", "other"]), st.integers(0, 15)), max_size=40))
def test_the_list_of_recent_files_is_the_last_ones_whatever_two_windows_do(tmp_path_factory, deeds):
    """Against a plain list; the other window adds to the same one."""
    folder = tmp_path_factory.mktemp("recent")
    kept = QSettings(str(folder / "sizes.ini"), QSettings.Format.IniFormat)
    mine, other = RecentFiles(kept), RecentFiles(QSettings(str(folder / "sizes.ini"), QSettings.Format.IniFormat))
    wanted: list[str] = []
    for what, number in deeds:
        name = f"{number}.spoke"
        wanted = [n for n in wanted if n != name]
        if what == "remove":
            mine.remove(folder / name)
        else:
            (mine if what == "add" else other).add(folder / name)
            wanted.insert(0, name)
        del wanted[MOST:]
        assert [f.path.name for f in mine.files] == [f.path.name for f in other.files] == wanted


@given(st.text(max_size=8), st.text(max_size=8), st.integers(-5, 3000), st.booleans())
def test_preferences_that_make_sense_are_kept_and_no_others(tmp_path_factory, colours, size, period, saves):
    kept = QSettings(str(tmp_path_factory.mktemp("kept") / "sizes.ini"), QSettings.Format.IniFormat)
    for name, value in (("colours", colours), ("size", size), ("period_ms", period), ("saves_ms", int(saves) * 500)):
        kept.setValue(f"preferences/{name}", value)
    found = Preferences.read(kept)
    assert found.colours in ("light", "dark", "system") and found.size in SIZES
    assert found.period_ms == (period if 1 <= period <= 1000 else 10) and found.saves_ms == 500 * saves
    found.write(kept)
    assert Preferences.read(kept) == found


def test_the_file_menu_lists_recent_files_and_a_gone_one_is_grey(opened, tmp_path, roastery):
    window = opened()
    for name in ("gone.spoke", "there.spoke"):
        window.recent.add(tmp_path / name)
    write_project(roastery, tmp_path / "there.spoke")
    menu = next(m for m in window.findChildren(QMenu) if m.title() == "Recent files")
    menu.aboutToShow.emit()
    assert [(a.text().split("  ")[0], a.isEnabled()) for a in menu.actions()] == [
        ("there.spoke", True),
        ("gone.spoke", False),
    ]
    menu.actions()[0].trigger()
    assert window.document.path == tmp_path / "there.spoke"
    window.show_start()
    assert [c.isEnabled() for c in window.start.cards] == [True, False]


def test_preferences_are_chosen_kept_and_nonsense_is_passed_over(opened, settings, monkeypatch):
    window = opened()
    dialog = window.program.ask_preferences()
    assert isinstance(dialog, PreferencesDialog) and dialog.chosen == Preferences()
    dialog.colours.setCurrentIndex(1)
    dialog.scale.setCurrentIndex(3)
    dialog.period.setValue(20)
    dialog.accept()
    assert theme.dark and "150 %" in window.message.text()
    window.new_file()
    assert window.document.project.period_ms == 20
    assert Preferences.read(settings) == Preferences("dark", 150, 20) == opened().preferences
    monkeypatch.delenv("QT_SCALE_FACTOR", raising=False)
    take_size(settings)
    assert os.environ.pop("QT_SCALE_FACTOR") == "1.5"
    window.toggle_dark()
    assert not theme.dark and Preferences.read(settings).colours == "light", "the command is the same choice"
    for name, value in (("colours", "pink"), ("size", "much"), ("period_ms", "-4"), ("saves_ms", "?")):
        settings.setValue(f"preferences/{name}", value)
    assert Preferences.read(settings) == Preferences()


def test_a_file_with_a_name_saves_itself_when_that_is_preferred(qtbot, opened, tmp_path, roastery):
    file = tmp_path / "mine.spoke"
    write_project(roastery, file)
    window = opened()
    window.open_path(file)
    window.program.take(Preferences(saves_ms=30))
    window.document.edit("c", lambda p: edits.change_step(p, "Roast", "Idle", comment="new"))
    qtbot.waitUntil(lambda: spoke.read(file).sequence("Roast").step("Idle").comment == "new")
    assert not window.document.dirty
    window.program.take(Preferences())
    window.document.edit("c", lambda p: edits.change_step(p, "Roast", "Idle", comment="newer"))
    qtbot.wait(60)
    assert window.document.dirty
    file.write_text("somebody else\n")
    window.program.save_by_itself()
    assert "Not saved by itself" in window.message.text() and file.read_text() == "somebody else\n"


def test_a_window_comes_back_as_it_was_left(opened, settings):
    window = opened()
    window.resize(1100, 700)
    window.across.setSizes([240, 700, 160])
    sizes = window.across.sizes()
    window.show_stage(4)
    window.close()
    again = opened()
    again.program.restore_stage(settings)
    assert again.stage == 4
    settings.setValue("window/stage", "-1")
    again.program.restore_stage(settings)
    assert again.stage == 4
    assert again.height() == 700, "a screen of 800 pixels takes the rest of the width"
    assert again.across.sizes()[0] == sizes[0]


def test_about_names_what_the_program_is_made_with(window):
    window.table.actions["help.about"].trigger()
    box = window.findChild(QDialog)
    text = box.findChild(QTextBrowser).toPlainText()
    project = (Path(__file__).parents[2] / "pyproject.toml").read_text()
    wanted = re.findall(r'^  "([\w-]+)[>=]', project[project.index("dependencies") :].split("]")[0], re.M)
    assert len(wanted) > 6 and all(name.lower() in text.lower() for name in [*wanted, "PySide6", "LGPL", "Apache"])
    box.close()


def test_a_second_start_hands_its_file_over_and_strangers_are_turned_away(qtbot, tmp_path, monkeypatch):
    heard = []
    door = windows.Doorkeeper(tmp_path, lambda file, copy: heard.append((file, copy)))
    socket = QLocalSocket()
    socket.connectToServer(door.server.serverName())
    assert socket.waitForConnected(1000)
    socket.write(json.dumps({"version": "?", "file": "/etc/x", "copy": False}).encode() + b"\n")
    socket.flush()
    qtbot.waitUntil(lambda: socket.state() == QLocalSocket.LocalSocketState.UnconnectedState)
    other = QLocalSocket()
    other.connectToServer(door.server.serverName())
    other.write(b"no json\n")
    other.flush()
    qtbot.waitUntil(lambda: other.state() == QLocalSocket.LocalSocketState.UnconnectedState)
    assert heard == []
    second = windows.Doorkeeper(tmp_path, lambda file, copy: None)
    assert door.server.isListening() and not second.server.isListening(), "the name stays with the one that has it"
    door.server.close()
    assert not windows.hand_over(tmp_path, None, False), "nobody is there"


def test_windows_of_one_program(qtbot, tmp_path, monkeypatch, roastery):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    file = tmp_path / "mine.spoke"
    write_project(roastery, file)
    all_open = start.Windows()
    first = all_open.new(None)
    first.asks_before_closing = False
    assert first.stage == -1
    first.open_beside(file)
    second = all_open.open[1]
    assert second.document.project == roastery and second.runner is not first.runner
    first.open_beside(file)
    assert len(all_open.open) == 2, "the window that has the file comes to the front"
    first.open_beside(tmp_path / "nothing.spoke")
    assert len(all_open.open) == 2 and "nothing.spoke" in second.message.text()
    second.document.edit("c", lambda p: edits.change_step(p, "Roast", "Idle", comment="new"))
    assert first.document.project.sequence("Roast") is None and first.document.history.undo_name == ""
    second.asks_before_closing = False
    for window in (first, second):
        window.close()
    qtbot.waitUntil(lambda: all_open.open == [])


def test_the_tour_ticks_what_is_done_in_ones_own_file(qtbot, opened, tmp_path):
    window = opened()
    window.show_start()
    window.start.tour.click()
    tour = window.program.tour
    assert window.stage == 2 and tour.isVisible() and not window.outline.isVisible()

    def ticked() -> list[int]:
        return [n for n, mark in enumerate(tour.marks) if mark.text().startswith("✓")]

    def edit(change) -> None:
        assert window.document.edit("x", change)

    assert ticked() == [] and tour.hints[0].isVisible() and not tour.hints[1].isVisible()
    tour.shows[0].click()
    assert window.stage == 1
    edit(lambda p: edits.add_item(p, "signals", Signal("AtTop", SignalClass.INPUT, Type.BOOL)))
    assert ticked() == [], "an output is wanted too"
    edit(lambda p: edits.add_item(p, "signals", Signal("Hoist", SignalClass.OUTPUT, Type.BOOL)))
    assert ticked() == [0] and tour.shows[1].isVisible()
    edit(lambda p: flow_edits.insert_step(p, "Sequence", "Waiting"))
    q = window.document.project.sequences[0]
    new = next(s.name for s in q.steps if s.name not in ("Waiting", "Working"))
    edit(lambda p: edits.change_step(p, "Sequence", new, actions=(Action(Qualifier.N, "Hoist"),), longest="T#5s"))
    edit(lambda p: edits.change_step(p, "Sequence", "Working", longest="T#5s"))
    assert ticked() == [0, 1, 2, 4]
    for n, condition in enumerate(("Waiting.T >= T#100ms", "AtTop", "NOT AtTop")):
        index = next(i for i, t in enumerate(q.transitions) if t.sources == (("Waiting", new, "Working")[n],))
        edit(lambda p, i=index, c=condition: flow_edits.change_transition(p, "Sequence", i, condition=c))
    device = Device("Car", "actuator", wires=(("extend", "Hoist"), ("extended", "AtTop")), at=(0, 0))
    edit(lambda p: edits.add_item(p, "devices", device))
    window.document.check()
    assert ticked() == [0, 1, 2, 3, 4, 5, 6], [str(d) for d in window.document.findings]
    window.runner.run_for(300)
    assert 7 in ticked()
    window.runner.reset()
    assert 7 in ticked(), "what was seen stays seen"
    edit(
        lambda p: edits.add_item(p, "scenarios", Scenario("Up", "run for 3 s\nexpect order Sequence: Waiting, Working"))
    )
    window.document.take_results([run_scenario(window.document.project, window.document.project.scenarios[0])])
    assert 8 in ticked() and window.document.has_passed
    window._save_to(tmp_path / "first.spoke")
    assert len(ticked()) == 10 and "all is done" in tour.count.text()
    tour.leave()
    assert window.outline.isVisible()


SCREEN = (1920, 1080)


@pytest.mark.parametrize("size", [s for s in SIZES if s <= 175])
def test_every_stage_has_room_on_a_usual_screen_whatever_the_size_of_everything(window, size):
    """What does not fit would be cut, or push the window over the edge of the screen."""
    room = tuple(n * 100 // size for n in SCREEN)
    window.resize(*room)
    for stage in range(6):
        window.show_stage(stage)
        for beside in (window.program.show_manual, window.program.show_tour, None):
            if beside is not None:
                beside()
            least = window.minimumSizeHint()
            assert least.width() <= room[0] and least.height() <= room[1], (stage, size, least)
        window.program.tour.leave()
        for button in window.pages.currentWidget().findChildren(QPushButton):
            if button.isVisible() and button.text():
                assert button.width() >= button.minimumSizeHint().width(), (stage, button.text())
    window.show_start()
    assert window.minimumSizeHint().width() <= room[0]
    page = window.start
    assert all(card.width() >= card.minimumSizeHint().width() for card in page.examples)


def test_a_large_chart_and_a_wrong_file_have_no_picture_and_keep_nobody_waiting(qtbot, opened, tmp_path):
    broken, large = tmp_path / "broken.spoke", tmp_path / "large.st"
    broken.write_text('{"format": "spokeshave machine file", "version": 5, "name":')
    large.write_text("(* much *)\n" * 60_000)
    window = opened()
    for file in (large, broken):
        window.recent.add(file)
    window.show_start()
    page = window.start
    qtbot.waitUntil(lambda: not page._to_draw)
    assert [(c.title, c.picture) for c in page.cards] == [("broken.spoke", None), ("large.st", None)]
    page.cards[0].click()
    assert window.stage == -1 and "✕" in window.message.text() and "broken.spoke" in window.message.text()
    assert [f.path.name for f in window.recent.files] == ["broken.spoke", "large.st"], "it stays on the list"


def test_the_menu_of_a_card_takes_a_file_off_the_list_and_leaves_it_where_it_is(opened, tmp_path, roastery):
    file = tmp_path / "mine.spoke"
    write_project(roastery, file)
    window = opened()
    window.recent.add(file)
    window.show_start()
    (card,) = window.start.cards
    card.customContextMenuRequested.emit(QPoint(5, 5))
    menu = next(
        m for m in window.start.findChildren(QMenu) if m.actions() and m.actions()[0].text() == "Take off the list"
    )
    menu.actions()[0].trigger()
    assert not window.recent.files and not window.start.cards and window.start.nothing.isVisible() and file.exists()
    menu.close()


def test_colours_of_the_desktop_are_followed_by_who_prefers_them(opened, monkeypatch):
    window = opened()
    monkeypatch.setattr(Preferences, "dark", property(lambda self: self.colours != "light"))
    window.program.take(Preferences("system"))
    assert theme.dark, "the desktop is dark"
    all_open = start.Windows()
    all_open.open.append(window)
    monkeypatch.setattr(Preferences, "dark", property(lambda self: self.colours == "dark"))
    all_open.follow_colours()
    assert not theme.dark, "the desktop has become light"
    window.program.take(Preferences("dark"))
    all_open.follow_colours()
    assert theme.dark, "who prefers a colour keeps it"
    assert all_open.front() is window
