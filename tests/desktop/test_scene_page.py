"""The machine drawn: laid out by mouse and keys, bound in the form, moving on the bench and the operator's page, filmed."""

from __future__ import annotations

from dataclasses import replace

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QImage

from spokeshave.desktop.bench.operator_page import OperatorPage
from spokeshave.desktop.bench.snapshots import gif_of
from spokeshave.desktop.document import Document
from spokeshave.desktop.machine_scene.export import scene_svg
from spokeshave.desktop.machine_scene.painting import box_of, seen, transform_of
from spokeshave.desktop.record import charts_of
from spokeshave.desktop.window import MainWindow
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import new_sequence
from spokeshave.model.project import Project
from spokeshave.model.scene import Shape, shape_of
from spokeshave.verify.record import record_html
from tests.core.test_standing import gated

Key, Left = Qt.Key, Qt.MouseButton.LeftButton
SVG = ('<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 20 20"><rect id="leaf" width="10" height="10" fill="#ff0000"/>'
       '<circle id="wheel" cx="15" cy="15" r="5" fill="#00ff00"/></svg>')  # fmt: skip


@pytest.fixture
def opened(qtbot):
    made = MainWindow(Document(gated()))
    made.asks_before_closing = False
    qtbot.addWidget(made)
    made.resize(1280, 800)
    made.show()
    made.table.actions["go.scene"].trigger()
    return made


def spot(editor, at: tuple[float, float]) -> QPoint:
    return editor.placed().map(QPointF(*at)).toPoint()


def drag(qtbot, editor, start: tuple[float, float], to: tuple[float, float]) -> None:
    qtbot.mousePress(editor, Left, pos=spot(editor, start))
    qtbot.mouseMove(editor, spot(editor, to))
    qtbot.mouseRelease(editor, Left, pos=spot(editor, to))


def shape(window: MainWindow, name: str) -> Shape:
    found = shape_of(window.document.project.scene, name)
    assert found is not None
    return found


def test_a_scene_is_drawn_from_the_devices_then_laid_out_by_hand(qtbot, opened):
    panel = opened.machine.scene
    editor = panel.editor
    assert panel.empty.isVisible() and not opened.bench.looks.isTabVisible(1)
    qtbot.mouseClick(panel.empty.buttons[0], Left)
    assert not panel.empty.isVisible() and {s.follows for s in opened.document.project.scene} == {"", "Sluice", "Light"}
    before = shape(opened, "Sluice")
    middle = (before.at[0] + 2.5, before.at[1] + 2.5)
    drag(qtbot, editor, middle, (middle[0] + 5, middle[1] + 3))
    moved = shape(opened, "Sluice")
    assert moved.at == (before.at[0] + 5, before.at[1] + 3) and editor.chosen == "Sluice"
    corner = (moved.at[0] + moved.size[0], moved.at[1] + moved.size[1])
    drag(qtbot, editor, corner, (corner[0] + 4, corner[1] - 2))
    assert shape(opened, "Sluice").size == (before.size[0] + 4, before.size[1] - 2)
    qtbot.keyClick(editor, Key.Key_Left)
    qtbot.keyClick(editor, Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    assert shape(opened, "Sluice").at == (moved.at[0] - 1, moved.at[1])
    assert shape(opened, "Sluice").size == (before.size[0] + 4, before.size[1] - 1)
    for _ in range(4):
        opened.document.undo()
    assert shape(opened, "Sluice") == before
    qtbot.keyClick(editor, Key.Key_PageDown)
    assert editor.chosen not in ("", "Sluice")
    qtbot.mouseClick(panel.back, Left)
    assert opened.document.project.scene[0].name == editor.chosen
    gone = editor.chosen
    qtbot.keyClick(editor, Key.Key_Delete)
    assert shape_of(opened.document.project.scene, gone) is None and editor.chosen == ""
    panel.adds["round"].trigger()
    assert shape(opened, "Round").kind == "round" and panel.form.name.text() == "Round"
    qtbot.keyClick(editor, Key.Key_Escape)
    assert editor.chosen == "" and not panel.form.isEnabled() and not panel.remove_button.isEnabled()


def test_the_fields_bind_a_shape_and_what_cannot_be_is_told_beside_them(qtbot, opened):
    panel = opened.machine.scene
    for _ in range(2):
        panel.adds["box"].trigger()
    form = panel.form
    form.follows.setCurrentIndex(form.follows.findData("Sluice"))
    form.follows.activated.emit(0)
    assert shape(opened, "Box 2").follows == "Sluice" and form.number.itemText(0) == "position"
    form.act.setCurrentIndex(form.act.findData("turns"))
    form.act.activated.emit(0)
    form.by_x.setValue(90)
    qtbot.keyClick(form.by_x, Key.Key_Return)
    assert (shape(opened, "Box 2").act, shape(opened, "Box 2").by) == ("turns", (90, 0)) and form.by_x.suffix() == "°"
    assert "degrees" in form.says.text() and form.hinge.isEnabled() and not form.by_y.isEnabled()
    form.name.setText("Box")
    form.name.editingFinished.emit()
    assert "there is a shape Box already" in form.fault.text() and shape_of(opened.document.project.scene, "Box 2")
    form.name.setText("Door")
    form.name.editingFinished.emit()
    assert form.fault.text() == "" and shape(opened, "Door").follows == "Sluice"
    opened.document.edit("other", lambda p: replace(p, scene=tuple(replace(s, follows="Gone") for s in p.scene)))
    assert form.follows.currentText() == "Gone"  # what is not there any more is still said
    opened.selection.set(Place(item="scene, Box"))
    opened.machine.go_to(Place(item="scene, Box"))
    assert panel.editor.chosen == "Box"


def test_shapes_move_with_the_run_on_the_bench_and_on_the_operators_page(qtbot, opened):
    arm = Shape("Leaf", at=(4, 4), size=(6, 4), follows="Sluice", act="moves", by=(20, 0))
    on_it = Shape("Knob", "round", (5, 5), (2, 2), "red", follows="Lamp", act="lights", rides="Leaf")
    spinner = Shape("Wheel", "box", (4, 20), (10, 2), follows="Sluice", act="turns", by=(90, 0), hinge="left")
    told = Shape("Counted", "text", (4, 30), (12, 3), "ink", "times", follows="Count", act="shows")
    opened.document.edit("draw", lambda p: replace(p, scene=(arm, on_it, spinner, told)))
    opened.show_stage(4)
    bench = opened.bench
    bench.looks.setCurrentWidget(bench.scene)
    assert bench.watched() is bench.scene
    opened.runner.run_for(100)
    opened.runner.do("hand", "Button", 1)
    opened.runner.run_for(700)
    scene, now = opened.document.project.scene, bench.scene.now()
    assert 0.3 < now["Leaf"].value < 0.9 and now["Leaf"].driven and not now["Leaf"].troubled
    way = transform_of(scene, on_it, now).mapRect(box_of(on_it)).left() - 5
    assert way == pytest.approx(20 * now["Leaf"].value)
    turned = transform_of(scene, spinner, now).map(QPointF(14, 21)).y() - 21
    assert turned > 3 and transform_of(scene, spinner, now).map(QPointF(4, 21)) == QPointF(4, 21)
    at = (transform_of(scene, on_it, now) * bench.scene.placed()).map(QPointF(6, 6)).toPoint()
    qtbot.mouseClick(bench.scene, Left, pos=at)
    assert opened.selection.place == Place("signal", item="Lamp")
    bench.film.start()
    first = bench.scene.grab().toImage()
    opened.runner.run_for(600)
    bench.film.take()
    bench.film.stop()
    assert bench.scene.grab().toImage() != first and len(set(bench.film.frames)) == 2
    assert gif_of(bench.film.frames)[:4] == b"GIF8"
    opened.runner.do("fail", "Sluice", "jammed")
    opened.runner.run_for(10)
    assert bench.scene.now()["Leaf"].troubled
    page = OperatorPage(opened.runner, "Gate")
    qtbot.addWidget(page)
    page.show()
    with_scene = page.grab().toImage()
    assert page.text_width() < page.width()
    opened.document.edit("none", lambda p: replace(p, scene=()))
    assert page.text_width() == page.width() and page.grab().toImage() != with_scene
    assert not bench.looks.isTabVisible(1) and seen(None, scene) == {}


def test_parts_of_a_drawing_are_shapes_and_one_that_is_none_is_told(qtbot, opened, tmp_path):
    panel = opened.machine.scene
    assert not panel.adds["part"].isEnabled()
    bad = tmp_path / "bad.svg"
    bad.write_text("no drawing")
    with qtbot.waitSignal(panel.failed) as told:
        panel.take_svg(bad)
    assert "bad.svg cannot be taken: it is no drawing" in told.args[0] and opened.document.project.svg == ""
    good = tmp_path / "good.svg"
    good.write_text(SVG)
    panel.take_svg(good)
    panel.adds["part"].trigger()
    panel.form.text.setText("leaf")
    panel.form.text.editingFinished.emit()
    part = opened.document.project.scene[0]
    assert (part.kind, part.text) == ("part", "leaf")
    picture: QImage = panel.editor.grab().toImage()
    at = spot(panel.editor, (part.at[0] + part.size[0] / 2, part.at[1] + part.size[1] / 2))
    assert picture.pixelColor(at).name() == "#ff0000"
    panel.form.text.setText("nothing of the kind")  # an ordinary box then, with its name on it
    panel.form.text.editingFinished.emit()
    assert panel.editor.grab().toImage().pixelColor(at).name() != "#ff0000"


def test_the_record_has_the_machine_as_it_begins(qtbot, opened):
    shapes = (
        Shape("Leaf", follows="Sluice", act="moves", by=(9, 0)),
        Shape("<b>Sign", "text", (0, 20), (20, 3), text="<b>here & there"),
    )
    project = replace(opened.document.project, scene=shapes)
    assert "<b>" not in scene_svg(project) and "&lt;b>here &amp; there" in scene_svg(project).replace("&gt;", ">")
    page = record_html(project, [], [], "2031-05-06", charts_of(project))
    assert page.count("scene</title>") == 1 and scene_svg(replace(project, scene=())) == ""
    cannot_run = replace(project, closing="Drive := Nowhere;")
    assert scene_svg(cannot_run).startswith("<svg")
    opened.document.edit("draw", lambda _: project)
    opened.show_stage(3)
    assert "scene</title>" in opened.printing.paper(3).text


def test_without_devices_the_next_step_is_to_add_some(qtbot):
    window = MainWindow(Document(new_sequence(Project())))
    window.asks_before_closing = False
    qtbot.addWidget(window)
    window.show()
    window.table.actions["go.scene"].trigger()
    panel = window.machine.scene
    assert panel.empty.buttons[0].text() == "Add devices first"
    qtbot.mouseClick(panel.empty.buttons[0], Left)
    assert window.machine.parts.currentIndex() == 0
    window.machine.add()
    window.table.actions["go.scene"].trigger()
    assert panel.empty.buttons[0].text() == "Draw from the devices"
    qtbot.mouseClick(panel.empty.buttons[0], Left)
    assert window.document.project.scene and not panel.empty.isVisible()
