"""The manual at what has the keyboard, and the words that say what is there: heads, fields, menus."""

from __future__ import annotations

import re

from PySide6.QtCore import QPoint, Qt, QUrl
from PySide6.QtGui import QContextMenuEvent, QTextDocument
from PySide6.QtWidgets import QApplication, QTableView, QWidget

from spokeshave.desktop.manual import FOLDER, PAGES, page_text, place_of, place_of_device, search, sections
from spokeshave.desktop.sequence.sheet import NUMBER
from spokeshave.desktop.sequence.step_menu import StepMenu
from spokeshave.desktop.stages import STAGES
from spokeshave.machine.kinds import KINDS
from spokeshave.model.diagnostics import Place


def test_f1_opens_the_manual_at_what_has_the_keyboard(qtbot, window):
    window.show_proof(window.proof.sweep)
    window.activateWindow()
    window.proof.sweep.setFocus()
    qtbot.waitUntil(lambda: QApplication.focusWidget() is not None)
    window.program.show_manual()
    manual = window.program.manual
    assert manual.isVisible() and manual.at == "proof#Fault sweep" and not window.outline.isVisible()
    top = manual.text.cursorForPosition(manual.text.viewport().rect().topLeft() + manual.text.cursorRect().topLeft())
    assert "Fault sweep" in top.block().text()
    window.selection.go(Place("device", item="ChargeGate"))
    window.details.show()
    next(iter(window.details.fields.values())).setFocus()
    window.table.actions["help.manual"].trigger()
    assert manual.at == f"devices#{KINDS['actuator'].title}"
    manual.go_back()
    assert manual.at == "proof#Fault sweep"
    qtbot.keyClick(manual.line, Qt.Key.Key_Escape)
    assert not manual.isVisible() and window.outline.isVisible()
    window.program.show_manual()
    qtbot.keyClick(manual.text, Qt.Key.Key_Escape)
    assert not manual.isVisible()


def test_the_manual_finds_sections_by_all_words_those_first_that_are_called_so(qtbot, window):
    found = search("fault sweep")
    assert (found[0].page, found[0].heading) == ("proof", "Fault sweep") and len(found) > 3
    assert all(
        "fault" in f"{s.heading}{s.text}".casefold() and "sweep" in f"{s.heading}{s.text}".casefold() for s in found
    )
    assert search("zebra crossing of nothing") == [] == search("  ")
    window.program.show_manual()
    manual = window.program.manual
    manual.line.setText("modbus")
    assert "Modbus TCP" in manual.text.toPlainText()
    qtbot.keyClick(manual.line, Qt.Key.Key_Return)
    assert manual.at == "machine#Modbus TCP"
    manual.line.setText("zebra crossing of nothing")
    assert "Nothing in the manual" in manual.text.toPlainText()
    manual.line.clear()
    assert all(s.heading in manual.text.toPlainText() for s in sections() if s.level < 3)


def test_whatever_points_into_the_manual_points_at_something(window):
    for stage in range(6):
        window.show_stage(stage)
    places = {stage.manual for stage in STAGES}
    places |= {str(w.property("manual")) for w in window.findChildren(QWidget) if w.property("manual")}
    places |= {place_of_device(kind) for kind in KINDS}
    headings = {(s.page, s.heading) for s in sections()}
    for place in places:
        page, _, heading = place.partition("#")
        assert page in PAGES and any(p == page and h.startswith(heading) for p, h in headings), place
    assert len(places) > 20 and place_of(None) == ""
    for page in PAGES:
        for link in re.findall(r"\]\(([\w-]+\.md)", page_text(page)):
            assert link.removesuffix(".md") in PAGES or (FOLDER / link).exists(), (page, link)


def test_every_column_head_and_field_says_what_it_is(window):
    for stage in range(6):
        window.show_stage(stage)
    for part in ("matrix", "scenarios"):
        window.proof.parts.setCurrentWidget(getattr(window.proof, part))
    seen = 0
    for view in window.findChildren(QTableView):
        model = view.model()
        if (
            model is None
            or type(model).__name__ in ("TableGrid", "SweepModel")
            or view in window.signals.tables.findChildren(QTableView)
        ):
            continue  # heads that are names of the user's own
        for column in range(model.columnCount()):
            says = model.headerData(column, Qt.Orientation.Horizontal, Qt.ItemDataRole.ToolTipRole)
            assert says and str(says).rstrip("</span>").endswith("."), (type(model).__name__, column, says)
            seen += 1
    assert seen > 60
    for place in (Place("step", "Roast", "Charge"), Place("signal", item="Gate"), Place("sequence", item="Roast"), Place("project"),
                  Place("device", item="ChargeGate"), Place("transition", "Roast", index=2)):  # fmt: skip
        window.selection.go(place)
        window.details.show()
        assert window.details.fields
        for label, field in window.details.fields.items():
            assert field.toolTip() or field.accessibleDescription(), (place, label)


def test_the_sheet_has_a_menu_at_the_mouse_and_at_the_cell(qtbot, window):
    view = window.sequence.sheets["Roast"]
    row = next(r for r in range(view.sheet.rowCount()) if view.sheet.step_at(r).name == "Purged")
    view.setCurrentIndex(view.sheet.index(row, NUMBER))
    event = QContextMenuEvent(QContextMenuEvent.Reason.Keyboard, QPoint(-1, -1), QPoint(-1, -1))
    QApplication.sendEvent(view, event)
    menu = view.findChild(StepMenu)
    entries = {a.text().split("\t")[0]: a for a in menu.actions()}
    assert menu.isVisible() and menu.step == "Purged"
    assert entries["Delete the branch"].isEnabled() == (not view.editor.why_not("branch", "Purged"))
    before = len(window.document.project.sequence("Roast").steps)
    entries["Insert a step after"].trigger()
    assert len(window.document.project.sequence("Roast").steps) == before + 1
    menu.close()
    qtbot.waitUntil(lambda: view.findChild(StepMenu) is None)
    measured = view.menu(view.sheet.index(0, view.sheet.measured))
    typed = next(a for a in measured.actions() if a.text().startswith("Type here"))
    assert not typed.isEnabled() and "follows from the rest" in typed.toolTip()
    measured.close()


def test_menus_open_with_a_letter_of_their_own(window):
    titles = [a.text() for a in window.menuBar().actions()]
    letters = [t[t.index("&") + 1].lower() for t in titles]
    assert len(titles) == 8 and len(letters) == len(set(letters)), titles


def test_each_page_of_the_manual_has_a_picture_that_is_there():
    for page in PAGES:
        text = (FOLDER / f"{page}.md").read_text()
        pictures = re.findall(r"!\[[^\]]+\]\((screenshots/[^)]+)\)", text)
        assert pictures or page in ("semantics", "devices", "formats"), page
        assert all((FOLDER / name).is_file() for name in pictures)


def test_pictures_are_as_wide_as_there_is_room(window):
    window.program.show_manual()
    manual = window.program.manual
    manual.show_at("your-first-machine#")
    picture = manual.text.loadResource(
        QTextDocument.ResourceType.ImageResource.value, QUrl("screenshots/3-sequence-sheet.png")
    )
    assert (
        200 < picture.width() <= manual.text.viewport().width()
        and not manual.text.horizontalScrollBar().maximum() > 400
    )
    assert manual.text.loadResource(
        QTextDocument.ResourceType.ImageResource.value, QUrl("screenshots/none.png")
    ).isNull()
