"""Editable tables over a list of items of the document: what each column shows, and which edit a typed text asks for."""

from __future__ import annotations

import operator
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, Qt, Signal
from PySide6.QtGui import QKeyEvent, QKeySequence
from PySide6.QtWidgets import (
    QAbstractItemDelegate,
    QAbstractItemView,
    QApplication,
    QCompleter,
    QHeaderView,
    QLineEdit,
    QTableView,
    QWidget,
)

from spokeshave.desktop.cell_editors import ChoiceDelegate, Index, TypedDelegate, by_return
from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.seen import while_seen
from spokeshave.desktop.theme import theme
from spokeshave.model.addresses import following
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project

NO_PARENT = QModelIndex()


@dataclass(frozen=True)
class Column:
    """A column: `get` gives the text of an item, `put(project, row, text)` the edited project, None to forbid."""

    title: str
    get: Callable[[Any], str]
    put: Callable[[Project, int, str], Project] | None = None
    width: int = 100
    choices: Sequence[str] = ()
    right: bool = False
    edit_name: str = ""
    words: Callable[[Project, int], Sequence[str]] | None = None
    """What is offered while typing."""
    check: Callable[[Project, int, str], str] | None = None
    """What is wrong with a text that is being typed; the edit is taken all the same."""
    applies: Callable[[Any], bool] = lambda _: True
    """Whether an item has such a thing; where not, nothing is typed."""
    clears: bool = True
    """Whether Delete empties the cell."""
    says: str = ""
    """What it is, in one sentence."""

    def put_typed(self, project: Project, row: int, text: str) -> Project:
        """The project with a typed text in this column; EditError where it is refused."""
        assert self.put is not None
        if self.choices and text.lower() not in (c.lower() for c in self.choices):
            raise EditError(f"{self.title}: {text or 'nothing'} is none of {', '.join(self.choices)}")
        try:
            return self.put(project, row, text)
        except ValueError as error:
            raise EditError(str(error)) from None


@dataclass(frozen=True)
class NextRow:
    """The row under the last one, which is no item yet: a text typed there makes one."""

    column: int
    hint: str
    edit_name: str
    make: Callable[[Project, str], Project]


class ItemTable(QAbstractTableModel):
    """Rows are items of the document; a typed text becomes a named edit, an illegal one is refused with its reason.

    `typing` tells what is wrong with the text in a cell's editor.
    """

    typing = Signal(str)

    def __init__(
        self,
        document: Document,
        items: Callable[[Project], Sequence[Any]],
        columns: list[Column],
        next_row: NextRow | None = None,
    ) -> None:
        super().__init__()
        self.document, self.items, self.columns, self.next_row = document, items, columns, next_row
        self.rows: Sequence[Any] = items(document.project)
        self.pinned: frozenset[str] = frozenset()
        self.marks: dict[tuple[int, int], str] = {}
        """Cells with something wrong, and what."""
        self.shaded: frozenset[int] = frozenset()
        """Rows on a darker ground, so that groups of rows can be told apart."""
        document.changed.connect(self.refresh)

    def wait_with(self, widget: QWidget) -> None:
        """Follows the document only while the widget in which it is shown is seen."""
        self.document.changed.disconnect(self.refresh)
        while_seen(widget, self.document.changed, self.refresh)

    def refresh(self) -> None:
        before, after = self.rows, self.items(self.document.project)
        if before is after:
            return
        if self.next_row is not None and len(after) == len(before) + 1 and all(map(operator.eq, before, after)):
            # What was the next row is an item now, and stays where it is; there is a next one under it.
            self.beginInsertRows(NO_PARENT, len(after), len(after))
            self.rows = after
            self.endInsertRows()
            self.dataChanged.emit(self.index(len(before), 0), self.index(len(before), len(self.columns) - 1))
        elif len(before) != len(after):
            self.beginResetModel()
            self.rows = after
            self.endResetModel()
        else:
            self.rows = after
            if after:
                self.dataChanged.emit(self.index(0, 0), self.index(len(after) - 1, len(self.columns) - 1))

    def rowCount(self, parent: Index = NO_PARENT) -> int:
        return 0 if parent.isValid() else len(self.rows) + (self.next_row is not None)

    def columnCount(self, parent: Index = NO_PARENT) -> int:
        return 0 if parent.isValid() else len(self.columns)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if index.row() >= len(self.rows):
            return self._next_data(index.column(), role)
        column, item = self.columns[index.column()], self.rows[index.row()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return column.get(item)
        mark = self.marks.get((index.row(), index.column()))
        if role == Qt.ItemDataRole.ToolTipRole:
            return plain(mark or column.get(item)) or None
        if role == Qt.ItemDataRole.DecorationRole and index.column() == 0:
            return theme.colour("forced") if getattr(item, "name", "").lower() in self.pinned else None
        if role == Qt.ItemDataRole.ForegroundRole:
            return theme.colour("late" if mark else "ink" if column.put else "faint")
        if role == Qt.ItemDataRole.BackgroundRole and index.row() in self.shaded:
            return theme.colour("raised")
        if role == Qt.ItemDataRole.TextAlignmentRole and column.right:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        return None

    def _next_data(self, column: int, role: int) -> Any:
        if self.next_row is None or column != self.next_row.column:
            return None
        if role == Qt.ItemDataRole.ForegroundRole:
            return theme.colour("faint")
        return self.next_row.hint if role == Qt.ItemDataRole.DisplayRole else None

    def pin(self, names: frozenset[str]) -> None:
        """Marks the items of these lower-case names, such as signals that are forced."""
        if names != self.pinned:
            self.pinned = names
            if self.rows:
                self.dataChanged.emit(self.index(0, 0), self.index(len(self.rows) - 1, 0))

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.DisplayRole:
            if orientation == Qt.Orientation.Horizontal:
                return self.columns[section].title
            return str(section + 1) if section < len(self.rows) else "+"
        if role == Qt.ItemDataRole.TextAlignmentRole and orientation == Qt.Orientation.Horizontal:
            return Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ToolTipRole and orientation == Qt.Orientation.Horizontal:
            return self.columns[section].says or None
        return None

    def flags(self, index: Index) -> Qt.ItemFlag:
        flags = super().flags(index)
        if self.next_row is not None and index.row() >= len(self.rows):
            typed = index.column() == self.next_row.column
        else:
            column = self.columns[index.column()]
            typed = column.put is not None and column.applies(self.rows[index.row()])
        return flags | Qt.ItemFlag.ItemIsEditable if typed else flags

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        n = self.next_row
        if n is not None and index.row() >= len(self.rows):
            text = str(value or "").strip()
            return bool(text) and self.document.edit(n.edit_name, lambda p: n.make(p, text))
        return role == Qt.ItemDataRole.EditRole and self.edit_cells({(index.row(), index.column()): str(value)})

    def edit_cells(self, texts: dict[tuple[int, int], str]) -> bool:
        """Types texts into cells, all in one edit. Cells that follow from others are left out."""
        found = list(self._typed(texts))
        if not found:
            return False

        def change(project: Project) -> Project:
            for column, row, text in found:
                project = column.put_typed(project, row, text)
            return project

        title = found[0][0].edit_name or f"Change {found[0][0].title.lower()}"
        return self.document.edit(title if len(found) == 1 else f"Edit {len(found)} cells", change)

    def changes_of(self, texts: dict[tuple[int, int], str]) -> list[Callable[[Project], Project]]:
        """The edits behind texts in cells, one after the other."""

        def one(column: Column, row: int, text: str) -> Callable[[Project], Project]:
            return lambda project: column.put_typed(project, row, text)

        return [one(*typed) for typed in self._typed(texts)]

    def _typed(self, texts: dict[tuple[int, int], str]) -> Iterator[tuple[Column, int, str]]:
        """The column, row and text of each cell that is to be another: cells that follow from others, that an item does not have, or that
        are so already are left out.
        """
        for (row, at), value in texts.items():
            column, text = self.columns[at], value.strip()
            if column.put is None or row >= len(self.rows) or not column.applies(self.rows[row]):
                continue
            if text != column.get(self.rows[row]):
                yield column, row, text

    def problems_of(self, texts: dict[tuple[int, int], str]) -> list[str]:
        """What is wrong with texts that are to go into cells, each with its row and column."""
        project, found = self.document.project, []
        for (row, at), value in texts.items():
            for change in self.changes_of({(row, at): value}):
                try:
                    project = change(project)
                except EditError as error:
                    found.append(f"row {row + 1}, {self.columns[at].title}: {error}")
        return found

    def fill(self, column: int, text: str, by: int) -> str:
        """What filling down writes `by` rows below a cell with this text."""
        return following(text, by) if self.columns[column].check is not None else text

    def set_marks(self, marks: dict[tuple[int, int], str]) -> None:
        self.marks = marks
        if self.rows:
            self.dataChanged.emit(self.index(0, 0), self.index(len(self.rows) - 1, len(self.columns) - 1))


class TypingDelegate(TypedDelegate):
    """Completes what is typed, and marks what is wrong with it in place."""

    def __init__(self, model: ItemTable, column: Column, parent: QWidget) -> None:
        super().__init__(parent)
        self.model_, self.column = model, column

    def createEditor(self, parent: QWidget, option: Any, index: Index) -> QWidget:
        line, project, row = QLineEdit(parent), self.model_.document.project, index.row()
        line.setAccessibleName(self.column.title)
        if self.column.words is not None:
            words = QCompleter(list(self.column.words(project, row)), line)
            words.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
            words.setCompletionMode(QCompleter.CompletionMode.PopupCompletion)
            line.setCompleter(words)
        check = self.column.check
        if check is not None:

            def look(text: str) -> None:
                problem = check(project, row, text) if text.strip() else ""
                colour = theme.now.late if problem else theme.now.accent
                line.setStyleSheet(f"QLineEdit {{ border: 2px solid {colour}; border-radius: 3px; padding: 0 4px; }}")
                line.setToolTip(plain(problem))
                self.model_.typing.emit(problem)

            line.textChanged.connect(look)
        return line


class ItemView(QTableView):
    """A table that types like a spreadsheet: a key starts editing, Return takes it and goes down, Tab goes on to the right
    and to the row under the last one, blocks are copied and pasted,
    Ctrl+D fills down from the first of the selected cells, Delete empties them.
    """

    take_rows: Callable[[list[list[str]], list[tuple[int, int]]], bool] | None = None
    """Takes pasted rows as a whole where it can: a table with headings, rows for an empty list."""
    pasted_beyond = Signal(list)
    """Rows that were pasted below the last one."""
    insert_asked = Signal()
    """The key that makes a row under the current one."""

    def __init__(self, model: ItemTable, name: str) -> None:
        super().__init__()
        self.setModel(model)
        self.setAccessibleName(name)
        self.setEditTriggers(
            QAbstractItemView.EditTrigger.AnyKeyPressed
            | QAbstractItemView.EditTrigger.DoubleClicked
            | QAbstractItemView.EditTrigger.EditKeyPressed
        )
        self.items = model
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.verticalHeader().setDefaultSectionSize(28)
        self.verticalHeader().setMinimumWidth(36)
        self.horizontalHeader().setHighlightSections(False)
        self.setWordWrap(False)
        self._dress()
        widest = max(range(len(model.columns)), key=lambda i: model.columns[i].width)
        self.horizontalHeader().setSectionResizeMode(widest, QHeaderView.ResizeMode.Stretch)

    def _dress(self) -> None:
        """The width and the editor of each column."""
        for i, column in enumerate(self.items.columns):
            self.setColumnWidth(i, column.width)
            if column.choices:
                self.setItemDelegateForColumn(i, ChoiceDelegate(column.choices, self))
            elif column.words is not None or column.check is not None:
                self.setItemDelegateForColumn(i, TypingDelegate(self.items, column, self))
            else:
                self.setItemDelegateForColumn(i, TypedDelegate(self))

    def take_columns(self, columns: list[Column]) -> None:
        """Other columns, for a table whose columns are things of the document."""
        self.items.beginResetModel()
        self.items.columns = columns
        self.items.rows = self.items.items(self.items.document.project)
        self.items.endResetModel()
        self._dress()

    # -- blocks of cells

    def cells(self) -> list[tuple[int, int]]:
        """Selected cells in sight, from the upper left; the current one if there are none."""
        chosen = {(i.row(), i.column()) for i in self.selectionModel().selectedIndexes()}
        here = self.currentIndex()
        found = chosen or ({(here.row(), here.column())} if here.isValid() else set())
        items = len(self.items.rows)
        seen = [(r, c) for r, c in found if r < items and not self.isRowHidden(r) and not self.isColumnHidden(c)]
        return sorted(seen, key=lambda cell: (self.verticalHeader().visualIndex(cell[0]), cell[1]))

    def rows_from(self, row: int) -> list[int]:
        """Rows in sight from `row` on, from top to bottom."""
        header = self.verticalHeader()
        rows = (header.logicalIndex(v) for v in range(header.visualIndex(row), self.items.rowCount()))
        return [r for r in rows if r < len(self.items.rows) and not self.isRowHidden(r)]

    def arrange(self, order: Sequence[int]) -> None:
        """Shows the rows in another order; the items of the document keep theirs."""
        header = self.verticalHeader()
        for at, row in enumerate(order):
            if header.visualIndex(row) != at:
                header.moveSection(header.visualIndex(row), at)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        control = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if self.state() == QAbstractItemView.State.EditingState:
            super().keyPressEvent(event)
        elif event.matches(QKeySequence.StandardKey.Copy):
            self.copy()
        elif event.matches(QKeySequence.StandardKey.Paste):
            self.paste()
        elif control and event.key() == Qt.Key.Key_D:
            self.fill_down()
        elif event.key() == Qt.Key.Key_Insert:
            self.insert_asked.emit()
        elif event.key() == Qt.Key.Key_Delete:
            self.items.edit_cells({(r, c): "" for r, c in self.cells() if self.items.columns[c].clears})
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.currentIndex().isValid():
            self._go_down()
        else:
            super().keyPressEvent(event)

    def end_typing(self) -> None:
        """Takes what is typed in a cell, before rows are added or taken away."""
        self.setCurrentIndex(NO_PARENT)

    def _go_down(self) -> None:
        here, coming = self.currentIndex(), self.items.next_row
        below = self.rows_from(here.row())[1:]
        if below:
            self.select_row(below[0], here.column())
        elif coming is not None:
            self.select_row(len(self.items.rows), coming.column)

    def closeEditor(self, editor: QWidget, hint: QAbstractItemDelegate.EndEditHint) -> None:
        returned = by_return(self, editor, hint)
        super().closeEditor(editor, hint)
        if returned:
            self._go_down()

    def moveCursor(self, action: Any, modifiers: Qt.KeyboardModifier) -> QModelIndex:
        """Tab goes from one cell that can be typed in to the next, at the end of a row to the next row."""
        by = {self.CursorAction.MoveNext: 1, self.CursorAction.MovePrevious: -1}.get(action)
        here = self.currentIndex()
        if by is None or not here.isValid():
            return super().moveCursor(action, modifiers)
        across, down = self.horizontalHeader(), self.verticalHeader()
        wide, at = across.count(), down.visualIndex(here.row()) * across.count() + across.visualIndex(here.column())
        while 0 <= at + by < wide * down.count():
            at += by
            index = self.items.index(down.logicalIndex(at // wide), across.logicalIndex(at % wide))
            hidden = self.isRowHidden(index.row()) or self.isColumnHidden(index.column())
            if not hidden and index.flags() & Qt.ItemFlag.ItemIsEditable:
                return index
        return here

    def type_next(self) -> None:
        """Opens the row under the last one for typing."""
        coming = self.items.next_row
        assert coming is not None
        self.end_typing()
        self.setFocus()
        self.select_row(len(self.items.rows), coming.column)
        self.edit(self.currentIndex())

    def copy(self) -> None:
        cells = self.cells()
        rows, columns = list(dict.fromkeys(r for r, _ in cells)), sorted({c for _, c in cells})
        clipboard = QApplication.clipboard()
        if cells and clipboard is not None:
            text = "".join(
                "\t".join(self.items.columns[c].get(self.items.rows[r]) for c in columns) + "\n" for r in rows
            )
            clipboard.setText(text)

    def paste(self) -> None:
        """From the current cell on; one copied cell goes into all selected ones."""
        clipboard, cells = QApplication.clipboard(), self.cells()
        text = clipboard.text() if clipboard is not None else ""
        if not text.strip():
            return
        rows = [line.split("\t") for line in text.replace("\r\n", "\n").rstrip("\n").split("\n")]
        if self.take_rows is not None and self.take_rows(rows, cells):
            return
        if not cells:
            return
        if len(rows) == 1 and len(rows[0]) == 1:
            self.items.edit_cells(dict.fromkeys(cells, rows[0][0]))
            return
        top, left = cells[0]
        shown = self.rows_from(top)
        columns = [c for c in range(left, self.items.columnCount()) if not self.isColumnHidden(c)]
        self.items.edit_cells({(r, c): cell for r, row in zip(shown, rows) for c, cell in zip(columns, row)})
        if len(rows) > len(shown):
            self.pasted_beyond.emit(rows[len(shown) :])

    def fill_down(self) -> None:
        """Each column goes on from its first selected cell: addresses and numbers count up."""
        cells = self.cells()
        texts: dict[tuple[int, int], str] = {}
        for column in sorted({c for _, c in cells}):
            rows = [r for r, c in cells if c == column]
            text = self.items.columns[column].get(self.items.rows[rows[0]])
            for n, row in enumerate(rows[1:], 1):
                texts[(row, column)] = self.items.fill(column, text, n)
        self.items.edit_cells(texts)

    def current_row(self) -> int:
        """The row of the current item, -1 for none."""
        row = self.currentIndex().row()
        return row if row < len(self.items.rows) else -1

    def select_row(self, row: int, column: int = 0) -> None:
        model = self.model()
        if 0 <= row < model.rowCount():
            index = model.index(row, column)
            self.setCurrentIndex(index)
            self.scrollTo(index)
