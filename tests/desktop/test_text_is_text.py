"""What a person's file says is shown as it is written: no name, comment or sentence becomes rich text anywhere."""

from __future__ import annotations

from dataclasses import replace

import pytest
from PySide6.QtCore import QModelIndex, Qt
from PySide6.QtGui import QTextDocument
from PySide6.QtWidgets import (
    QAbstractItemView,
    QLabel,
    QListWidget,
    QMessageBox,
    QTableView,
    QTreeWidget,
    QTreeWidgetItemIterator,
    QWidget,
)

from spokeshave.desktop.plain_text import plain
from spokeshave.model.project import Project, Scenario

HOSTILE = "<img src='file:///dev/zero'><b>x</b>"


def hostile(project: Project) -> Project:
    """The roastery with rich text wherever a text may stand that is no name."""

    def more(items: tuple[object, ...], field: str) -> tuple[object, ...]:
        return tuple(replace(x, **{field: HOSTILE + getattr(x, field)}) for x in items)  # type: ignore[type-var]

    q = project.sequences[0]
    first = replace(q, comment=HOSTILE, steps=more(q.steps, "comment"))
    return replace(
        project, name=HOSTILE, comment=HOSTILE, signals=more(project.signals, "comment"),
        requirements=more(project.requirements, "text"), sequences=(first, *project.sequences[1:]),
        scenarios=(*more(project.scenarios, "group"), Scenario(HOSTILE, f"// {HOSTILE}\nrun for 1 s\nexpect finally {HOSTILE}")),
        interlocks=more(project.interlocks, "comment"),
    )  # fmt: skip


def shown(text: str) -> str:
    """What a tooltip with this text says: rich text if it looks like it."""
    document = QTextDocument()
    if "<" in text and ">" in text:
        document.setHtml(text)
        return document.toPlainText()
    return text


def tips_of(view: QAbstractItemView) -> list[str]:
    model, found = view.model(), []
    for row in range(model.rowCount()):
        for column in range(model.columnCount(QModelIndex())):
            tip = model.data(model.index(row, column), Qt.ItemDataRole.ToolTipRole)
            found.append(str(tip or ""))
    return found


@pytest.fixture
def roastery(roastery):
    """What the shared window shows here."""
    return hostile(roastery)


def test_no_label_and_no_tooltip_takes_a_text_of_the_file_for_its_own(qtbot, window):
    seen = 0
    for stage in range(6):
        window.show_stage(stage)
        window.runner.run_for(1000)
        for widget in window.findChildren(QWidget):
            if isinstance(widget, QLabel) and HOSTILE[:4] in widget.text():
                assert widget.textFormat() == Qt.TextFormat.PlainText, widget.text()
                seen += 1
            tips = [widget.toolTip()]
            if isinstance(widget, QTableView):
                tips += tips_of(widget)
            elif isinstance(widget, QListWidget):
                tips += [widget.item(i).toolTip() for i in range(widget.count())]
            elif isinstance(widget, QTreeWidget):
                found = QTreeWidgetItemIterator(widget)
                while found.value():
                    tips += [found.value().toolTip(c) for c in range(widget.columnCount())]
                    found += 1
            for tip in tips:
                if "img" in tip:
                    assert "<img" in shown(tip), (type(widget).__name__, tip)
                    seen += 1
    assert seen > 20


def test_the_sentence_of_a_requirement_is_shown_with_its_signs(window):
    window.show_stage(0)
    page = window.brief
    page.view.selectRow(0)
    document = QTextDocument()
    document.setHtml(page.about.words.text())
    assert HOSTILE in document.toPlainText()


def test_a_question_says_the_name_of_the_file_as_it_is(window, monkeypatch):
    said = []
    monkeypatch.setattr(QMessageBox, "question", lambda *a: said.append(a[2]) or QMessageBox.StandardButton.Cancel)
    window.document.edit("name", lambda p: replace(p, comment="more"))
    window.asks_before_closing = True
    assert not window.close()
    window.asks_before_closing = False
    assert HOSTILE in shown(said[0])


def test_plain_text_stays_as_it_is():
    assert plain("a & b") == "a & b" and shown(plain("N < 3 and\n M > 2")) == "N < 3 and\n M > 2"
