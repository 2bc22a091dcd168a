"""Editable tables over a list of items of the document: what each column shows, and which edit a typed text asks for."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtWidgets import QAbstractItemView, QComboBox, QHeaderView, QStyledItemDelegate, QTableView, QWidget

from spokeshave.desktop.document import Document
from spokeshave.desktop.theme import theme
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project

Index = QModelIndex | QPersistentModelIndex
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


class ItemTable(QAbstractTableModel):
    """Rows are items of the document; a typed text becomes a named edit, an illegal one is refused with its reason."""

    def __init__(self, document: Document, items: Callable[[Project], Sequence[Any]], columns: list[Column]) -> None:
        super().__init__()
        self.document, self.items, self.columns = document, items, columns
        self.rows: Sequence[Any] = items(document.project)
        self.marks: dict[tuple[int, int], str] = {}
        """Cells with something wrong, and what."""
        document.changed.connect(self.refresh)

    def refresh(self) -> None:
        before, self.rows = self.rows, self.items(self.document.project)
        if before is self.rows:
            return
        if len(before) != len(self.rows):
            self.beginResetModel()
            self.endResetModel()
        elif self.rows:
            self.dataChanged.emit(self.index(0, 0), self.index(len(self.rows) - 1, len(self.columns) - 1))

    def rowCount(self, parent: Index = NO_PARENT) -> int:
        return 0 if parent.isValid() else len(self.rows)

    def columnCount(self, parent: Index = NO_PARENT) -> int:
        return 0 if parent.isValid() else len(self.columns)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        column, item = self.columns[index.column()], self.rows[index.row()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return column.get(item)
        mark = self.marks.get((index.row(), index.column()))
        if role == Qt.ItemDataRole.ToolTipRole:
            return mark or column.get(item) or None
        if role == Qt.ItemDataRole.ForegroundRole:
            return theme.colour("late" if mark else "ink" if column.put else "faint")
        if role == Qt.ItemDataRole.TextAlignmentRole and column.right:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        return None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.DisplayRole:
            return self.columns[section].title if orientation == Qt.Orientation.Horizontal else str(section + 1)
        if role == Qt.ItemDataRole.TextAlignmentRole and orientation == Qt.Orientation.Horizontal:
            return Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        return None

    def flags(self, index: Index) -> Qt.ItemFlag:
        flags = super().flags(index)
        return flags | Qt.ItemFlag.ItemIsEditable if self.columns[index.column()].put else flags

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        column = self.columns[index.column()]
        text, row = str(value).strip(), index.row()
        if column.put is None or role != Qt.ItemDataRole.EditRole or text == column.get(self.rows[row]):
            return False
        put = column.put

        def change(project: Project) -> Project:
            try:
                return put(project, row, text)
            except ValueError as error:
                raise EditError(str(error)) from None

        return self.document.edit(column.edit_name or f"Change {column.title.lower()}", change)

    def set_marks(self, marks: dict[tuple[int, int], str]) -> None:
        self.marks = marks
        if self.rows:
            self.dataChanged.emit(self.index(0, 0), self.index(len(self.rows) - 1, len(self.columns) - 1))


class ChoiceDelegate(QStyledItemDelegate):
    """Offers the choices of a column."""

    def __init__(self, choices: Sequence[str], parent: QWidget) -> None:
        super().__init__(parent)
        self.choices = choices

    def createEditor(self, parent: QWidget, option: Any, index: Index) -> QWidget:
        box = QComboBox(parent)
        box.addItems(list(self.choices))
        box.activated.connect(lambda _: self._take(box))
        return box

    def _take(self, box: QComboBox) -> None:
        self.commitData.emit(box)
        self.closeEditor.emit(box)

    def setEditorData(self, editor: QWidget, index: Index) -> None:
        assert isinstance(editor, QComboBox)
        editor.setCurrentText(str(index.data(Qt.ItemDataRole.EditRole)))

    def setModelData(self, editor: QWidget, model: Any, index: Index) -> None:
        assert isinstance(editor, QComboBox)
        model.setData(index, editor.currentText())


class ItemView(QTableView):
    """A table that types like a spreadsheet: a key starts editing, Return goes down."""

    def __init__(self, model: ItemTable, name: str) -> None:
        super().__init__()
        self.setModel(model)
        self.setAccessibleName(name)
        self.setEditTriggers(
            QAbstractItemView.EditTrigger.AnyKeyPressed
            | QAbstractItemView.EditTrigger.DoubleClicked
            | QAbstractItemView.EditTrigger.EditKeyPressed
        )
        self.verticalHeader().setDefaultSectionSize(28)
        self.verticalHeader().setMinimumWidth(36)
        self.horizontalHeader().setHighlightSections(False)
        self.setWordWrap(False)
        for i, column in enumerate(model.columns):
            self.setColumnWidth(i, column.width)
            if column.choices:
                self.setItemDelegateForColumn(i, ChoiceDelegate(column.choices, self))
        widest = max(range(len(model.columns)), key=lambda i: model.columns[i].width)
        self.horizontalHeader().setSectionResizeMode(widest, QHeaderView.ResizeMode.Stretch)

    def current_row(self) -> int:
        return self.currentIndex().row()

    def select_row(self, row: int, column: int = 0) -> None:
        model = self.model()
        if 0 <= row < model.rowCount():
            index = model.index(row, column)
            self.setCurrentIndex(index)
            self.scrollTo(index)
