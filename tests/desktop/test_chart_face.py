"""The chart: edited on the drawing by handles, keys, menu and mouse; folded, zoomed, exported; large ones stay quick."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QImage, QMouseEvent, QPainter
from PySide6.QtWidgets import QApplication, QFileDialog

from spokeshave.chart.layout import layout
from spokeshave.desktop.document import Document
from spokeshave.desktop.sequence.chart_items import Part
from spokeshave.desktop.sequence.condition_editor import ConditionEdit
from spokeshave.desktop.sequence.export import pages_of
from spokeshave.desktop.window import MainWindow
from spokeshave.model import branch_edits, edits, flow_edits
from spokeshave.model.diagnostics import Place
from tests.clock import pieces, seconds, within
from tests.core.test_large import long_table

Key = Qt.Key
Mod = Qt.KeyboardModifier


def chart_of(window, step=""):
    window.show_stage(2)
    window.show_face("chart")
    chart = window.sequence.charts[window.sequence.current]
    if step:
        window.selection.set(Place("step", chart.name, step))
    QApplication.processEvents()
    return chart


def ways(window, name="Roast"):
    q = window.document.project.sequence(name)
    return [(t.sources, t.targets) for t in q.transitions]


def typed(qtbot, chart, text):
    line = chart.editing.line
    assert line is not None
    line.selectAll()
    qtbot.keyClicks(line, text)
    if isinstance(line, ConditionEdit):
        line.words.popup().hide()
    qtbot.keyClick(line, Key.Key_Return)
    assert chart.editing.line is None


def mouse(view, kind, at, button=Qt.MouseButton.LeftButton, keys=Mod.NoModifier):
    """A mouse event at a point of the scene."""
    place = QPointF(view.mapFromScene(at))
    buttons = Qt.MouseButton.NoButton if kind is QEvent.Type.MouseButtonRelease else button
    event = QMouseEvent(kind, place, QPointF(view.viewport().mapToGlobal(place.toPoint())), button, buttons, keys)
    QApplication.sendEvent(view.viewport(), event)


def click(view, at, keys=Mod.NoModifier):
    mouse(view, QEvent.Type.MouseButtonPress, at, keys=keys)
    mouse(view, QEvent.Type.MouseButtonRelease, at, keys=keys)


def middle(item):
    return item.mapToScene(item.box_area().center())


def test_handles_stand_where_an_edit_is_legal_and_make_it(qtbot, window):
    chart = chart_of(window, "Charge")
    assert {h.kind for h in chart.editing.handles} == {"before", "after", "alternative", "simultaneous"}
    chart_of(window, "Idle")
    assert {h.kind for h in chart.editing.handles} == {"after", "alternative"}, "nothing comes before the initial step"
    chart_of(window, "SpinUp")
    assert "alternative" not in {h.kind for h in chart.editing.handles}, "it waits in a join"
    chart_of(window, "Charge")
    chart.centerOn(chart.items_by_step["Charge"])
    handle = next(h for h in chart.editing.handles if h.kind == "after")
    click(chart, handle.scenePos())
    assert (("Charge",), ("Step55",)) in ways(window) and (("Step55",), ("CloseGate",)) in ways(window)
    assert window.sequence.editor.step() == "Step55"


def test_branches_are_added_closed_and_deleted_by_keys(qtbot, window):
    chart = chart_of(window, "Preheat")
    actions = window.table.actions
    actions["seq.simultaneous"].trigger()
    q = window.document.project.sequence("Roast")
    assert not any(len(t.targets) > 1 and "Preheat" in t.targets for t in q.transitions)
    assert "entered by 2 transitions" in window.message.text()
    chart_of(window, "Charge")
    actions["seq.simultaneous"].trigger()
    beside = window.sequence.editor.step()
    assert (("Preheat",), ("Charge", beside)) in ways(window) and (("Charge", beside), ("CloseGate",)) in ways(window)
    assert beside in chart.items_by_step
    actions["seq.branch"].trigger()
    assert beside not in chart.items_by_step and (("Charge",), ("CloseGate",)) in ways(window)
    chart_of(window, "Charge")
    actions["seq.alternative"].trigger()
    other = window.sequence.editor.step()
    assert chart.items_by_step[other].box.x > chart.items_by_step["CloseGate"].box.x, "branches stand side by side"
    while window.document.history.undo_name:
        window.document.undo()
    assert other not in chart.items_by_step


def test_names_conditions_actions_and_windows_are_typed_on_the_drawing(qtbot, window):
    chart = chart_of(window, "Drop")
    qtbot.keyClick(chart, Key.Key_F2)
    typed(qtbot, chart, "Empty2")
    q = window.document.project.sequence("Roast")
    assert q.step("Empty2") is not None and any("Empty2.T >= T#3s" in t.condition for t in q.transitions)
    chart_of(window, "Charge")
    qtbot.keyClick(chart, Key.Key_C)
    typed(qtbot, chart, "GateOpened AND Charge.T >= T#4s")
    qtbot.keyClick(chart, Key.Key_A)
    typed(qtbot, chart, "L 2s Drum")
    qtbot.keyClick(chart, Key.Key_T)
    typed(qtbot, chart, "1s to 9s")
    qtbot.keyClick(chart, Key.Key_J)
    typed(qtbot, chart, "70")
    q = window.document.project.sequence("Roast")
    step = q.step("Charge")
    assert [(str(a.qualifier), a.target) for a in step.actions] == [("N", "Gate"), ("L", "Drum")]
    assert (step.shortest, step.longest) == ("T#1s", "T#9s")
    way = next(t for _, t in q.leaving("Charge"))
    assert way.condition == "GateOpened AND Charge.T >= T#4s" and way.targets == ("RoastLight",)
    item = chart.items_by_step["Charge"]
    chart.editing.edit(item, Part("action", 1, item.action_area(1)))
    typed(qtbot, chart, " ")
    assert len(window.document.project.sequence("Roast").step("Charge").actions) == 1
    before = window.document.project
    chart.editing.edit_window()
    typed(qtbot, chart, "soon enough")
    assert window.document.project is before and "is not a time" in window.message.text()
    chart.editing.edit(item, item.part_at(item.box_area().center()))
    qtbot.keyClicks(chart.editing.line, "x")
    chart.editing.close()
    assert window.document.project is before, "closing the line takes nothing"


def test_a_step_is_dragged_behind_another_and_refused_where_it_cannot_go(qtbot, window):
    chart = chart_of(window, "CoolDown")
    chart.fit_all()
    item, goal = chart.items_by_step["CoolDown"], chart.items_by_step["Preheat"]
    mouse(chart, QEvent.Type.MouseButtonPress, middle(item))
    mouse(chart, QEvent.Type.MouseMove, middle(goal) + QPointF(2, 2))
    assert chart.drop == ("Preheat", "")
    mouse(chart, QEvent.Type.MouseButtonRelease, middle(goal))
    assert (("Preheat",), ("CoolDown",)) in ways(window) and (("CoolDown",), ("Charge",)) in ways(window)
    assert (("CloseDoor",), ("Stop",)) in ways(window)
    chart.fit_all()
    before = window.document.project
    item, goal = chart.items_by_step["CloseDoor"], chart.items_by_step["Preheat"]
    mouse(chart, QEvent.Type.MouseButtonPress, middle(item))
    mouse(chart, QEvent.Type.MouseMove, middle(goal) + QPointF(2, 2))
    assert "has 2 ways out" in chart.drop[1]
    mouse(chart, QEvent.Type.MouseButtonRelease, middle(goal))
    assert window.document.project is before and "has 2 ways out" in window.message.text()


def test_clicks_select_steps_ways_and_several(qtbot, window):
    chart = chart_of(window, "Charge")
    chart.fit_all()
    editor = window.sequence.editor
    click(chart, middle(chart.items_by_step["Preheat"]))
    assert editor.steps() == ("Preheat",)
    click(chart, middle(chart.items_by_step["CloseGate"]), Mod.ShiftModifier)
    assert editor.steps() == ("Preheat", "Charge", "CloseGate")
    click(chart, middle(chart.items_by_step["Charge"]), Mod.ControlModifier)
    assert editor.steps() == ("Preheat", "CloseGate")
    window.show_face("sheet")
    rows = {i.row() for i in window.sequence.sheet.selectionModel().selectedIndexes()}
    assert {window.sequence.sheet.sheet.step_at(r).name for r in rows} == {"Preheat", "CloseGate"}
    window.show_face("chart")
    item = chart.items_by_step["Charge"]
    click(chart, item.mapToScene(item.way_area(0).center()))
    assert window.selection.place.kind == "transition" and chart.selected_way() == item.bars[0].transition
    qtbot.keyClick(chart, Key.Key_Down)
    assert editor.steps() == ("CloseGate",)
    qtbot.keyClick(chart, Key.Key_Up)
    assert editor.steps() == ("Charge",)


def test_the_menu_of_a_step_has_every_edit_and_says_why_one_is_not_legal(qtbot, window):
    chart = chart_of(window, "Idle")
    menu = chart.editing.menu(chart.items_by_step["Idle"])
    found = {a.text().split("\t")[0]: a for a in menu.actions() if a.text()}
    assert not found["Insert a step before"].isEnabled()
    assert "initial step" in found["Insert a step before"].toolTip()
    assert found["Insert a step after"].isEnabled() and not found["Fold the branch"].isEnabled()
    found["Duplicate"].trigger()
    assert "Idle2" in chart.items_by_step


def test_a_branch_folds_into_one_step_and_opens_again(qtbot, window):
    chart = chart_of(window, "RoastDark")
    count = len(chart.items_by_step)
    height = chart.plan.height
    qtbot.keyClick(chart, Key.Key_F)
    assert len(chart.items_by_step) == count - 1 and chart.hidden_in("RoastDark") == 2
    assert chart.plan.height <= height
    window.selection.set(Place("step", "Roast", "Rest"))
    assert chart.items_by_step["RoastDark"].isSelected(), "a folded step is shown by its branch"
    window.selection.set(Place("step", "Roast", "RoastDark"))
    mouse(chart, QEvent.Type.MouseButtonDblClick, middle(chart.items_by_step["RoastDark"]))
    assert len(chart.items_by_step) == count
    window.selection.set(Place("step", "Roast", "Charge"))
    window.chart_commands.fold_branch()
    assert "begins no branch" in window.message.text()


def test_an_edit_moves_only_what_it_must(qtbot, window):
    chart = chart_of(window, "CoolDown")
    before = {n: (i, i.pos()) for n, i in chart.items_by_step.items()}
    window.document.edit("x", lambda p: flow_edits.insert_step(p, "Roast", "CoolDown"))
    above = [n for n in before if n not in ("Stop",)]
    assert all(chart.items_by_step[n] is before[n][0] and chart.items_by_step[n].pos() == before[n][1] for n in above)
    window.document.edit("x", lambda p: edits.change_step(p, "Roast", "Idle", comment="waits"))
    assert chart.items_by_step["Idle"] is before["Idle"][0] and chart.items_by_step["Idle"].toolTip() == "waits"


def test_the_overview_shows_where_one_is_and_goes_there(qtbot, window):
    chart = chart_of(window, "Idle")
    assert chart.overview.isVisible()
    top = chart.verticalScrollBar().value()
    qtbot.mouseClick(chart.overview, Qt.MouseButton.LeftButton, pos=chart.overview.rect().center())
    assert chart.verticalScrollBar().value() > top
    window.chart_commands.toggle_overview()
    assert not chart.overview.isVisible()
    chart.fit_all()
    window.chart_commands.toggle_overview()
    assert not chart.overview.isVisible(), "the whole chart is in sight"
    chart.zoom(1.5)
    assert chart.transform().m11() > 0.1


def test_the_chart_follows_the_active_step_until_it_is_told_not_to(qtbot, window):
    chart = chart_of(window, "Idle")
    window.chart_commands.toggle_follow()
    assert not chart.follows
    at = chart.verticalScrollBar().value()
    window.runner.run_for(500)
    window.runner.do("hand", "Start", 1)
    window.runner.run_for(26_500)
    assert chart.verticalScrollBar().value() == at
    window.chart_commands.toggle_follow()
    window.runner.run_for(8_000)
    active = next(iter(chart.live.waiting))
    assert (
        chart.mapToScene(chart.viewport().rect())
        .boundingRect()
        .intersects(chart.items_by_step[active].sceneBoundingRect())
    )


def test_the_chart_goes_to_svg_and_pdf_and_a_bad_folder_is_told(qtbot, window, tmp_path, monkeypatch):
    window.show_stage(2)
    for ask, name in ((window.chart_commands.ask_svg, "roast.svg"), (window.chart_commands.ask_pdf, "roast.pdf")):
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, name=name, **k: (str(tmp_path / name), ""))
        ask()
    svg = (tmp_path / "roast.svg").read_text()
    assert svg.startswith("<?xml") and "RISING(StartButton) AND Home" in svg and "SpinUp" in svg
    assert (tmp_path / "roast.pdf").read_bytes().startswith(b"%PDF")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "no" / "x.svg"), ""))
    window.chart_commands.ask_svg()
    assert "could not be written" in window.message.text()


@pytest.mark.parametrize("size", [(300, 400), (3000, 900), (700, 9000), (2500, 9000)])
def test_pages_cover_the_whole_chart_without_gaps(size):
    area = QRectF(0, 0, *size)
    scale, parts = pages_of(area, QSize(700, 1000))
    assert 0.7 <= scale <= 1
    assert max(p.right() for p in parts) >= size[0] and max(p.bottom() for p in parts) >= size[1]
    assert len({(p.x(), p.y()) for p in parts}) == len(parts)
    rows = {p.y() for p in parts}
    assert len(parts) == len(rows) * len({p.x() for p in parts})


# -- large ones


@pytest.fixture
def large(qtbot):
    project = long_table(2000)
    window = MainWindow(Document(project))
    window.asks_before_closing = False
    window.show()
    qtbot.waitExposed(window)
    yield window
    window.close()
    window.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


DRAWN, WORDS, INSERTED, SKETCHED = 80, 5, 40, 40
"""Pieces of ordinary work, some four times what was measured (`tests/clock.py`)."""


@pytest.mark.quiet
def test_two_thousand_steps_are_drawn_and_edited_without_waiting(qtbot, large):
    """Limits are several times what it takes, as a ratio: the machine may be slow or shared."""
    within(DRAWN, lambda: chart_of(large, "S100"))
    chart = chart_of(large, "S100")
    assert len(chart.items_by_step) == 2000
    numbers = iter(range(1000))
    document = large.document
    within(
        WORDS,
        lambda: document.edit("c", lambda p: edits.change_step(p, "Main", "S100", comment=f"note {next(numbers)}")),
    )
    within(
        INSERTED,
        lambda: document.edit("i", lambda p: flow_edits.insert_step(p, "Main", f"S{200 + 10 * next(numbers)}")),
    )
    picture = QImage(1280, 800, QImage.Format.Format_RGB32)

    def paint(area):
        painter = QPainter(picture)
        chart.scene().render(painter, QRectF(0, 0, 1280, 800), area)
        painter.end()

    item = chart.items_by_step["S500"]
    one = min(seconds(lambda: paint(item.sceneBoundingRect())) for _ in range(3))
    page = QRectF(0, 0, 1280, 800)
    pages = int(chart.sceneRect().height() // 800) + 1
    whole = seconds(lambda: [paint(page.translated(0, 800 * n)) for n in range(0, pages, 40)]) * 40
    assert one * 100 < whole, "recolouring a step costs less than a hundredth of painting everything"


def test_a_large_file_catches_up_before_it_runs(qtbot, large):
    before = large.runner.session
    large.document.edit("c", lambda p: flow_edits.change_transition(p, "Main", 0, condition="In0"))
    assert large.runner.session is before, "it is made ready when nobody types any more"
    large.runner.one_scan()
    assert large.runner.session.program.project is large.document.project


@pytest.mark.quiet
def test_a_step_in_a_large_chart_is_sketched_at_once_and_laid_out_a_moment_later(qtbot, large):
    chart = chart_of(large, "S500")
    document = large.document
    assert pieces(lambda: document.edit("i", lambda p: flow_edits.insert_step(p, "Main", "S500"))) < SKETCHED
    new = next(n for n in chart.items_by_step if n.startswith("Step"))
    above, sketched, below = (chart.items_by_step[n].y() for n in ("S500", new, "S510"))
    assert above < sketched < below, "there is room between them"
    chart.finish()
    plan = layout(document.project.sequence("Main"))
    steps = document.project.sequence("Main").steps
    assert {steps[b.step].name: (b.x, b.y) for b in plan.boxes} == {
        n: (i.x(), i.y()) for n, i in chart.items_by_step.items()
    }
    document.edit(
        "c", lambda p: flow_edits.change_transition(p, "Main", 60, condition="In1 AND NOT In2 AND NOT In3 AND In4")
    )
    assert chart.carrier[60].ways[0].condition.startswith("In1 AND NOT In2 AND NOT In3")
    document.undo()
    document.undo()
    chart.finish()
    assert new not in chart.items_by_step and len(chart.items_by_step) == 2000


def test_a_jump_in_a_large_chart_is_sketched_and_routed_a_moment_later(qtbot, large):
    chart = chart_of(large, "S500")
    lines = len(chart.plan.lines)
    large.document.edit("j", lambda p: branch_edits.add_transition(p, "Main", "S600", "S300"))
    assert len(chart.plan.lines) == lines, "not laid out yet"
    chart.viewport().repaint()
    chart.finish()
    assert len(chart.plan.lines) > lines
    way = next(i for i, t in enumerate(chart.sequence.transitions) if t.sources == ("S600",) and t.targets == ("S300",))
    assert any(b.transition == way and b.back for b in chart.plan.bars)
    large.document.edit("d", lambda p: flow_edits.delete_step(p, "Main", "S700"))
    assert "S700" not in chart.items_by_step
    chart.finish()
    assert chart.items_by_step["S710"].y() == next(
        b.y for b in chart.plan.boxes if chart.sequence.steps[b.step].name == "S710"
    )


def test_a_section_is_copied_cut_and_pasted_in_the_chart(qtbot, window):
    chart = chart_of(window, "Charge")
    window.selection.set(Place("step", "Roast", "Charge"), ("Charge", "CloseGate"))
    window.selection.set(Place("step", "Roast", "AwaitTray"), ("AwaitTray", "Drop"))
    qtbot.keyClick(chart, Key.Key_C, Mod.ControlModifier)
    window.selection.set(Place("step", "Roast", "CoolDown"))
    qtbot.keyClick(chart, Key.Key_V, Mod.ControlModifier)
    assert (("CoolDown",), ("AwaitTray2",)) in ways(window) and (("AwaitTray2",), ("Drop2",)) in ways(window)
    assert (("Drop2",), ("Stop",)) in ways(window)
    qtbot.keyClick(chart, Key.Key_X, Mod.ControlModifier)
    assert "AwaitTray2" not in chart.items_by_step and (("CoolDown",), ("Stop",)) in ways(window)
    window.selection.set(Place("step", "Roast", "Charge"))
    qtbot.keyClick(chart, Key.Key_V, Mod.ControlModifier)
    assert (("Charge",), ("AwaitTray2",)) in ways(window) and (("Drop2",), ("CloseGate",)) in ways(window)


def test_a_sketched_edit_that_is_taken_back_at_once_leaves_nothing_behind(qtbot, large):
    chart = chart_of(large, "S500")
    document = large.document
    before = {n: (i.x(), i.y()) for n, i in chart.items_by_step.items()}
    changes = (
        lambda p: flow_edits.insert_step(p, "Main", "S500"),
        lambda p: flow_edits.delete_step(p, "Main", "S520"),
        lambda p: branch_edits.add_transition(p, "Main", "S600", "S300"),
    )
    for change in changes:
        document.edit("e", change)
        document.undo()
        chart.finish()
        assert {n: (i.x(), i.y()) for n, i in chart.items_by_step.items()} == before
