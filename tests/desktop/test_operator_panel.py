"""The operator's page laid out by hand: tiles are drafted, added, moved, made larger, named and taken away; each shows the run and works it."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton

from spokeshave.desktop.operator_panel.tiles import TILES
from spokeshave.formats.spoke import dumps, loads
from spokeshave.language.rename import rename_device, rename_sequence, rename_signal
from spokeshave.model.panel import (
    HIGH,
    KINDS,
    WIDE,
    PanelError,
    Tile,
    drafted,
    fits,
    offered,
    put_tile,
    with_tile,
    without_tile,
)
from spokeshave.model.project import Project, Signal, SignalClass, Type
from spokeshave.verify.check import findings

Left = Qt.MouseButton.LeftButton


@pytest.fixture
def page(qtbot, window):
    made = window.bench_commands.show_operator(full=False)
    made.resize(1280, 800)
    qtbot.waitExposed(made)
    yield made
    made.close()


def place(page, name: str) -> QPoint:
    grid = page.panel.grid
    return grid.place(next(t for t in grid.document.project.panel if t.name == name)).center().toPoint()


def test_a_page_is_drafted_laid_out_by_mouse_and_keys_and_taken_back(qtbot, window, page):
    grid, document = page.panel.grid, window.document
    before = document.project
    assert not page.own and page.lay.isVisible()
    QTest.mouseClick(page.lay, Left)
    assert page.own and page.panel.empty.isVisible() and not page.lay.isVisible()
    QTest.mouseClick(page.panel.empty.buttons[0], Left)
    panel = document.project.panel
    assert {"Roast", "Cool", "alarms", "scene", "Start", "Degree"} <= {t.name for t in panel}
    assert all(fits(t, panel) for t in panel) and set(grid.tiles) == {t.name for t in panel}
    start = next(t for t in panel if t.name == "Start")
    centre, field = place(page, "Start"), QPoint(page.width() // WIDE, page.height() // HIGH)
    QTest.mousePress(grid, Left, pos=centre)
    QTest.mouseMove(grid, centre + QPoint(field.x() * 6, field.y() * 4))
    QTest.mouseRelease(grid, Left, pos=centre + QPoint(field.x() * 6, field.y() * 4))
    moved = next(t for t in document.project.panel if t.name == "Start")
    assert moved == start or moved.at != start.at, "where there is something else it stays"
    page.panel.text.setText("Go on")
    page.panel.text.editingFinished.emit()
    assert next(t for t in document.project.panel if t.name == "Start").text == "Go on"
    grid.setFocus()
    page.panel.what.setCurrentIndex(page.panel.what.findData("lamp Burner"))
    QTest.mouseClick(page.panel.add, Left)
    lamp = grid.tile()
    assert lamp is not None and lamp.of == "Burner" and page.panel.what.findData("lamp Burner") < 0
    for key, more in (
        (Qt.Key.Key_Left, Qt.KeyboardModifier.NoModifier),
        (Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier),
    ):
        QTest.keyClick(grid, key, more)
    assert grid.tile() != lamp
    QTest.keyClick(grid, Qt.Key.Key_Delete)
    assert "Burner" not in {t.of for t in document.project.panel}
    QTest.mouseClick(page.panel.done, Left)
    assert page.own and page.lay.isVisible() and not page.panel.tools.isVisible()
    assert loads(dumps(document.project)) == document.project
    while document.project is not before and document.history.present.before is not None:
        document.undo()
    assert not document.project.panel and not page.own


def test_every_kind_of_tile_shows_the_run_and_works_it(window, page):
    document, runner = window.document, window.runner
    signals = (*document.project.signals, Signal("Knock", SignalClass.INPUT), Signal("Soak", SignalClass.SETTING, Type.TIME, initial=2000),
               Signal("Careful", SignalClass.SETTING))  # fmt: skip
    project = replace(document.project, signals=signals, panel=())
    for kind, of in (("sequence", "Roast"), ("alarms", ""), ("button", "Start"), ("button", "Emergency"), ("button", "Knock"), ("selector", "Degree"),
                     ("setting", "ChargeTemp"), ("setting", "Soak"), ("setting", "Careful"), ("value", "Temp"), ("lamp", "DrumMotor"),
                     ("text", ""), ("scene", "")):  # fmt: skip
        if of in ("Temp", "DrumMotor"):
            of = next(s.name for s in signals if (s.type is Type.REAL and s.cls is SignalClass.INPUT) is (of == "Temp")
                      and (s.cls is SignalClass.OUTPUT) is (of != "Temp"))  # fmt: skip
        project = with_tile(project, kind, of)
    document.replace(project, None)
    runner.reset()
    runner.run_for(100)
    tiles = page.panel.grid.tiles
    assert {type(t) for t in tiles.values()} <= set(TILES.values()) and set(TILES) == set(KINDS)
    assert "10 Idle" in tiles["Roast"].step.text() and tiles["Roast"].waits.text().startswith("waits on")
    QTest.mousePress(tiles["Start"].button, Left)
    runner.one_scan()
    slots = runner.session.program.slots
    assert tiles["Start"].button.property("handDown") is True
    QTest.mouseRelease(tiles["Start"].button, Left)
    runner.one_scan()
    assert tiles["Start"].button.property("handDown") is False
    QTest.mousePress(tiles["Knock"].button, Left)
    runner.one_scan()
    assert runner.session.situation.v[slots["knock"]] is True
    QTest.mouseRelease(tiles["Knock"].button, Left)
    QTest.mouseClick(tiles["Degree"].buttons[1], Left)
    QTest.mouseClick(tiles["ChargeTemp"].more, Left)
    QTest.mouseClick(tiles["Soak"].less, Left)
    QTest.mouseClick(tiles["Careful"].more, Left)
    before = tiles["ChargeTemp"].number.text()
    runner.one_scan()
    now = runner.session.situation.v
    assert now[slots["soak"]] == 1000 and now[slots["careful"]] is True and now[slots["knock"]] is False
    assert (
        float(tiles["ChargeTemp"].number.text()) == float(before) + 1
        and tiles["Degree"].buttons[1].objectName() == "primary"
    )
    QTest.mouseClick(tiles["Emergency"].button, Left)
    runner.run_for(50)
    assert "tripped" in tiles["Roast"].waits.text() and "Alarms: 1" in tiles["alarms"].title.text()
    assert "●" in tiles["alarms"].list.item(0).text() and tiles["alarms"].all.isEnabled()
    QTest.mouseClick(tiles["Emergency"].button, Left)
    runner.run_for(50)
    tiles["alarms"].all.click()
    runner.one_scan()
    assert all(b.height() >= 40 for t in tiles.values() for b in t.findChildren(QPushButton) if b.isVisible()), (
        "by touch"
    )


def test_a_tile_follows_its_name_and_one_of_nothing_is_told(roastery):
    project = drafted(roastery)
    for rename, old, new, name in ((rename_device, "Start", "Begin", "Start"), (rename_signal, "ChargeTemp", "Warm", "ChargeTemp"),
                                   (rename_sequence, "Cool", "Tray", "Cool")):  # fmt: skip
        project = rename(project, old, new)
        assert next(t for t in project.panel if t.name == name).of == new
    wrong = replace(roastery, panel=(Tile("x", "lamp", "Brner"),))
    (found,) = [d for d in findings(wrong) if d.code == "tile-of-nothing"]
    assert "Brner" in found.message and "Burner" in found.advice


@given(
    st.lists(
        st.tuples(
            st.integers(-1, WIDE), st.integers(-1, HIGH), st.integers(0, 5), st.integers(0, 5), st.integers(0, 40)
        ),
        max_size=30,
    )
)
def test_no_tile_ever_lies_on_another_or_beside_the_grid(roastery, moves):
    project = Project(signals=tuple(Signal(f"Y{i}", SignalClass.OUTPUT) for i in range(4)))
    choices = list(offered(roastery))
    for x, y, w, h, n in moves:
        try:
            if n % 3 and project.panel:
                project = put_tile(project, replace(project.panel[n % len(project.panel)], at=(x, y), size=(w, h)))
            else:
                project = with_tile(project, *choices[n % len(choices)])
        except PanelError:
            continue
        assert all(fits(t, project.panel) for t in project.panel) and len({t.name for t in project.panel}) == len(
            project.panel
        )
    for t in project.panel:
        project = without_tile(project, t.name)
    assert not project.panel
