"""A scenario as rows: when, what, and beside each expectation its verdict. The rows are the lines of its text."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import (
    QAbstractTableModel,
    QEvent,
    QModelIndex,
    QObject,
    QRect,
    QSize,
    Qt,
    QTimer,
    Signal,
)
from PySide6.QtGui import QColor, QFont, QFontMetrics, QKeyEvent, QKeySequence, QResizeEvent
from PySide6.QtWidgets import QAbstractItemView, QApplication, QHeaderView, QTableView, QWidget

from spokeshave.desktop.cell_editors import Index, TypedDelegate
from spokeshave.desktop.field_words import ROWS
from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.proof.row_line import RowLine
from spokeshave.desktop.theme import code_font, theme
from spokeshave.language.scenario_print import format_row, join_row, split_row
from spokeshave.language.syntax import Problem
from spokeshave.model.project import Project
from spokeshave.verify.completion import complete
from spokeshave.verify.expectations import Outcome, Verdict

NO_PARENT = QModelIndex()
HEADS = ("When", "What", "Verdict", "At", "Because")
ROW_H = 28
CELL_SIDE = 10
"""What a cell leaves free on each side of its text."""
CELL_ENDS = 10
"""What it leaves free above and below it together."""
WHEN, WHAT, VERDICT, AT, BECAUSE = range(5)
SIGNS = {Outcome.PASS: "✓", Outcome.FAIL: "✕", Outcome.NOT_REACHED: "◔", Outcome.LINE_LOST: "⚡"}
COLOURS = {Outcome.PASS: "true", Outcome.FAIL: "late", Outcome.NOT_REACHED: "false", Outcome.LINE_LOST: "false"}


def sign_colour(outcome: Outcome) -> QColor:
    """The colour of a verdict."""
    return theme.colour(COLOURS[outcome])


class RowsModel(QAbstractTableModel):
    """The lines of a text, and an empty one below to go on with. `edited` carries the new text."""

    edited = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.project = Project()
        self.lines: list[str] = []
        self.verdicts: dict[int, Verdict] = {}
        """By line, from 1."""
        self.problems: dict[int, Problem] = {}

    def show_scenario(
        self, project: Project, text: str, verdicts: tuple[Verdict, ...], problems: tuple[Problem, ...]
    ) -> None:
        lines = text.splitlines()
        anew = self.project is None or len(lines) != len(self.lines)
        self.project = project
        if anew:
            self.beginResetModel()
        self.lines = lines
        self.verdicts = {v.line: v for v in verdicts}
        self.problems = {}
        for p in problems:
            self.problems.setdefault(p.line, p)
        if anew:
            self.endResetModel()
        else:  # what is chosen or typed stays
            self.dataChanged.emit(self.index(0, 0), self.index(len(lines), len(HEADS) - 1))

    @property
    def text(self) -> str:
        return "".join(f"{line}\n" for line in self.lines)

    def rowCount(self, parent: Index = NO_PARENT) -> int:
        return 0 if parent.isValid() else len(self.lines) + 1

    def columnCount(self, parent: Index = NO_PARENT) -> int:
        return 0 if parent.isValid() else len(HEADS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.DisplayRole:
            return HEADS[section] if orientation == Qt.Orientation.Horizontal else str(section + 1)
        if role == Qt.ItemDataRole.ToolTipRole and orientation == Qt.Orientation.Horizontal:
            return ROWS[HEADS[section]]
        return None

    def flags(self, index: Index) -> Qt.ItemFlag:
        flags = super().flags(index)
        return flags | Qt.ItemFlag.ItemIsEditable if index.column() in (WHEN, WHAT) else flags

    def parts(self, row: int) -> tuple[str, str]:
        return split_row(self.lines[row]) if row < len(self.lines) else ("", "")

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        row, column = index.row(), index.column()
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return self._cell(row, column)
        problem, verdict = self.problems.get(row + 1), self.verdicts.get(row + 1)
        if role == Qt.ItemDataRole.ToolTipRole:
            return plain(self._cell(row, column)) or None
        if role == Qt.ItemDataRole.ForegroundRole:
            if problem is not None and column in (WHAT, BECAUSE):
                return theme.colour("late")
            if column == VERDICT and verdict is not None:
                return sign_colour(verdict.outcome)
            return theme.colour("faint" if column == WHEN or self.parts(row)[0] == "//" else "ink")
        if role == Qt.ItemDataRole.FontRole and column in (WHEN, WHAT):
            return self._font(row)
        if role == Qt.ItemDataRole.BackgroundRole and self.parts(row)[0] in ("shows", "given", "start"):
            return theme.colour("raised")
        if role == Qt.ItemDataRole.TextAlignmentRole and column == AT:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        return None

    def _font(self, row: int) -> QFont:
        font = QFont(code_font(12))
        font.setItalic(self.parts(row)[0] == "//")
        return font

    def _cell(self, row: int, column: int) -> str:
        if column in (WHEN, WHAT):
            return self.parts(row)[column]
        problem, v = self.problems.get(row + 1), self.verdicts.get(row + 1)
        if problem is not None:
            tail = f"; {problem.advice}" if problem.advice else ""
            return {VERDICT: "✕ unclear", BECAUSE: problem.message + tail}.get(column, "")
        if v is None:
            return ""
        at = f"{v.time_ms / 1000:.2f} s" if v.time_ms >= 0 else ""
        return (f"{SIGNS[v.outcome]} {v.outcome.value}", at, v.because)[column - VERDICT]

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        if role != Qt.ItemDataRole.EditRole:
            return False
        row = index.row()
        parts = list(self.parts(row))
        parts[index.column()] = str(value)
        line = format_row(join_row(*parts))
        if row >= len(self.lines):
            return bool(line) and self._put([*self.lines, line])
        return line != self.lines[row] and self._put([*self.lines[:row], line, *self.lines[row + 1 :]])

    def _put(self, lines: list[str]) -> bool:
        self.edited.emit("".join(f"{line}\n" for line in lines))
        return True

    def insert(self, row: int, lines: list[str]) -> None:
        """Lines above a row."""
        self._put([*self.lines[:row], *lines, *self.lines[row:]])

    def delete(self, rows: list[int]) -> None:
        kept = [line for i, line in enumerate(self.lines) if i not in rows]
        if len(kept) != len(self.lines):
            self._put(kept)

    def move(self, row: int, by: int) -> bool:
        """A line past the next one up or down."""
        to = row + by
        if not (0 <= row < len(self.lines) and 0 <= to < len(self.lines)):
            return False
        lines = list(self.lines)
        lines.insert(to, lines.pop(row))
        return self._put(lines)

    def offers(self, row: int, column: int, before: str) -> list[str]:
        """How a cell can go on after the text before the cursor."""
        if column == WHEN:
            return complete(self.project, before, self.text)
        head = self.parts(row)[0]
        if head == "//":
            return []
        return complete(self.project, join_row(head, before + "|").removesuffix("|"), self.text)


class RowDelegate(TypedDelegate):
    """Types a cell with completion."""

    def __init__(self, model: RowsModel, parent: QWidget) -> None:
        super().__init__(parent)
        self.model = model

    def createEditor(self, parent: QWidget, option: Any, index: Index) -> QWidget:
        row, column = index.row(), index.column()
        line = RowLine(lambda before: self.model.offers(row, column, before), parent)
        line.setAccessibleName(f"{HEADS[column]}, row {row + 1}")
        return line

    def setModelData(self, editor: QWidget, model: Any, index: Index) -> None:
        """Taken when the editor is gone: the edit shows all rows anew."""
        assert isinstance(editor, RowLine)
        row, column, text = index.row(), index.column(), editor.text()
        QTimer.singleShot(0, self, lambda: self._take(row, column, text))

    def _take(self, row: int, column: int, text: str) -> None:
        if self.model.setData(self.model.index(row, column), text):
            view = self.parent()
            assert isinstance(view, RowsView)
            view.typed(row, column)

    def sizeHint(self, option: Any, index: Index) -> QSize:
        """As high as the wrapped text in the width of its column."""
        view = self.parent()
        assert isinstance(view, RowsView)
        metrics = QFontMetrics(index.data(Qt.ItemDataRole.FontRole) or option.font)
        room = QRect(0, 0, view.columnWidth(index.column()) - 2 * CELL_SIDE, 1 << 16)
        text = str(index.data() or "")
        needed = metrics.boundingRect(room, Qt.TextFlag.TextWordWrap, text).height()
        return QSize(room.width(), max(ROW_H, needed + CELL_ENDS))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        # Return belongs to the list of words while it is open.
        if (
            isinstance(watched, RowLine)
            and isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.KeyPress
            and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Tab)
            and watched.popup.isVisible()
        ):
            watched.keyPressEvent(event)
            return True
        return super().eventFilter(watched, event)


class RowsView(QTableView):
    """Rows typed like a test sheet: Insert makes one, Delete takes the selected ones away, Alt with arrows moves one."""

    def __init__(self, model: RowsModel) -> None:
        super().__init__()
        self.rows = model
        self.setModel(model)
        self.setAccessibleName("Rows of the scenario")
        self.setItemDelegate(RowDelegate(model, self))
        self.setEditTriggers(
            QAbstractItemView.EditTrigger.AnyKeyPressed
            | QAbstractItemView.EditTrigger.DoubleClicked
            | QAbstractItemView.EditTrigger.EditKeyPressed
        )
        self.setWordWrap(True)
        self.setShowGrid(False)
        self.setAlternatingRowColors(False)
        self.verticalHeader().setMinimumSectionSize(ROW_H)
        self.verticalHeader().setDefaultSectionSize(ROW_H)
        self.verticalHeader().setFixedWidth(32)
        self.verticalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        header = self.horizontalHeader()
        header.setHighlightSections(False)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        for column, width in enumerate((184, 300, 104, 70, 236)):
            self.setColumnWidth(column, width)
        header.setSectionResizeMode(WHAT, QHeaderView.ResizeMode.Stretch)
        header.sectionResized.connect(lambda *_: self.resizeRowsToContents())
        model.modelReset.connect(self.resizeRowsToContents)
        model.dataChanged.connect(lambda *_: self.resizeRowsToContents())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.resizeRowsToContents()

    def typed(self, row: int, column: int) -> None:
        """A cell was typed: from a moment on to what is done then."""
        if column == WHEN and self.rows.parts(row)[0] and not self.rows.parts(row)[1]:
            self.go_to(row, WHAT)
            self.edit(self.currentIndex())

    def chosen(self) -> list[int]:
        """The selected rows that are lines."""
        rows = {i.row() for i in self.selectionModel().selectedIndexes()} or {self.currentIndex().row()}
        return sorted(r for r in rows if 0 <= r < len(self.rows.lines))

    def go_to(self, row: int, column: int = WHAT) -> None:
        index = self.rows.index(max(0, min(row, self.rows.rowCount() - 1)), column)
        self.setCurrentIndex(index)
        self.scrollTo(index)

    def insert_row(self) -> None:
        """An empty row below the current one."""
        row = min(self.currentIndex().row() + 1, len(self.rows.lines))
        self.rows.insert(row, [""])
        self.go_to(row, WHEN)

    def delete_rows(self) -> None:
        rows = self.chosen()
        if rows:
            self.rows.delete(rows)
            self.go_to(rows[0])

    def move_row(self, by: int) -> None:
        row = self.currentIndex().row()
        if self.rows.move(row, by):
            self.go_to(row + by, self.currentIndex().column())

    def copy(self) -> None:
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setText("".join(f"{self.rows.lines[r]}\n" for r in self.chosen()))

    def paste(self) -> None:
        """Copied rows below the current one."""
        clipboard = QApplication.clipboard()
        lines = [format_row(line) for line in clipboard.text().splitlines()] if clipboard is not None else []
        if lines:
            row = min(self.currentIndex().row() + 1, len(self.rows.lines))
            self.rows.insert(row, lines)
            self.go_to(row)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        alt = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        if self.state() == QAbstractItemView.State.EditingState:
            super().keyPressEvent(event)
        elif event.matches(QKeySequence.StandardKey.Copy):
            self.copy()
        elif event.matches(QKeySequence.StandardKey.Paste):
            self.paste()
        elif event.key() == Qt.Key.Key_Insert:
            self.insert_row()
        elif event.key() == Qt.Key.Key_Delete:
            self.delete_rows()
        elif alt and event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.move_row(-1 if event.key() == Qt.Key.Key_Up else 1)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.edit(self.currentIndex())
        else:
            super().keyPressEvent(event)
