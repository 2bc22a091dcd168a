"""Tables of values: patterns, times, recipes that a sequence goes through by index; edited while it runs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtGui import QKeyEvent, QKeySequence
from PySide6.QtWidgets import (
    QAbstractItemDelegate,
    QAbstractItemView,
    QApplication,
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QSpinBox,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.cell_editors import by_return
from spokeshave.desktop.document import Document
from spokeshave.desktop.empty_hint import EmptyHint
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.theme import theme
from spokeshave.language.literals import read_value, value_text
from spokeshave.language.rename_declared import rename_table
from spokeshave.model import table_edits as edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import EditError, put_items
from spokeshave.model.project import Project, SignalClass, Table, Type, Value, zero_of

Index = QModelIndex | QPersistentModelIndex
NO_PARENT = QModelIndex()
CLASSES = (SignalClass.SETTING, SignalClass.INTERNAL)
WORDS = {SignalClass.SETTING: "settings", SignalClass.INTERNAL: "internals"}


def shown(value: Value, of: Type) -> str:
    """A value as it stands in a cell: a mark for TRUE, nothing for FALSE, a time without its prefix."""
    if of is Type.BOOL:
        return "●" if value else ""
    return value_text(value, of).removeprefix("T#")


def typed(text: str, of: Type) -> Value:
    """The value that a text in a cell means. Raises `ValueError`."""
    text = text.strip()
    if of is Type.BOOL:
        known = {
            "": False,
            "0": False,
            "false": False,
            "off": False,
            "●": True,
            "x": True,
            "1": True,
            "true": True,
            "on": True,
        }
        if text.lower() not in known:
            raise ValueError(f"{text!r} is neither on nor off; type x or leave it empty")
        return known[text.lower()]
    if not text:
        return zero_of(of)
    if of is Type.TIME and text[:1].isdigit():
        text = f"T#{text.replace(' ', '')}" if text[-1].isalpha() else f"T#{text}s"
    return read_value(text, of)


class CellsModel(QAbstractTableModel):
    """The rows of one table; an edit of a cell is an edit of the document."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.table: Table | None = None

    def show(self, table: Table | None) -> None:
        before = self.table
        same = (
            before is not None and table is not None and before.columns == table.columns
            and len(before.rows) == len(table.rows) and (before.name, before.first) == (table.name, table.first)
        )  # fmt: skip
        if not same:
            self.beginResetModel()
        self.table = table
        if same:
            self.dataChanged.emit(self.index(0, 0), self.index(self.rowCount() - 1, self.columnCount() - 1))
        else:
            self.endResetModel()

    def rowCount(self, parent: Index = NO_PARENT) -> int:
        return 0 if self.table is None or parent.isValid() else len(self.table.rows)

    def columnCount(self, parent: Index = NO_PARENT) -> int:
        return 0 if self.table is None or parent.isValid() else len(self.table.columns)

    def flags(self, index: Index) -> Qt.ItemFlag:
        return super().flags(index) | Qt.ItemFlag.ItemIsEditable

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> object:
        t = self.table
        if t is None or role != Qt.ItemDataRole.DisplayRole:
            return None
        if orientation is Qt.Orientation.Vertical:
            return str(t.first + section) if t.indexed else "value"
        c = t.columns[section]
        return f"{c.name}\n{c.type}" if c.name else str(c.type)

    def data(self, index: Index, role: int = 0) -> object:
        t = self.table
        if t is None or not index.isValid():
            return None
        of, value = t.columns[index.column()].type, t.rows[index.row()][index.column()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return shown(value, of)
        if role == Qt.ItemDataRole.TextAlignmentRole:
            across = Qt.AlignmentFlag.AlignHCenter if of is Type.BOOL else Qt.AlignmentFlag.AlignRight
            return across | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ForegroundRole and of is Type.BOOL:
            return theme.colour("true")
        if role == Qt.ItemDataRole.ToolTipRole:
            return plain(f"{t.cell(index.row(), index.column())}, {of}")
        return None

    def setData(self, index: Index, value: object, role: int = 0) -> bool:
        t = self.table
        if t is None:
            return False
        row, column = index.row(), index.column()
        try:
            new = typed(str(value), t.columns[column].type)
        except ValueError as error:
            self.document.refused.emit(f"{t.cell(row, column)}: {error}")
            return False
        return self.document.edit(f"{t.cell(row, column)}", lambda p: edits.set_cell(p, t.name, row, column, new))


class _Grid(QTableView):
    """Space marks a BOOL, Delete empties, Insert adds a row, Return takes what is typed and goes down, copy and paste as in a
    spreadsheet.
    """

    def __init__(self, panel: TablesPanel) -> None:
        super().__init__()
        self.panel = panel

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Copy):
            self.panel.copy()
        elif event.matches(QKeySequence.StandardKey.Paste):
            self.panel.paste()
        elif event.key() == Qt.Key.Key_Space and self.currentIndex().isValid() and self.panel.turn():
            return
        elif event.key() == Qt.Key.Key_Delete:
            for index in self.selectedIndexes():
                self.model().setData(index, "")
        elif event.key() == Qt.Key.Key_Insert:
            self.panel.insert()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.state() != self.State.EditingState:
            self._go_down()
        else:
            super().keyPressEvent(event)

    def closeEditor(self, editor: QWidget, hint: QAbstractItemDelegate.EndEditHint) -> None:
        returned = by_return(self, editor, hint)
        super().closeEditor(editor, hint)
        if returned:
            self._go_down()

    def _go_down(self) -> None:
        here = self.currentIndex()
        if (below := here.siblingAtRow(here.row() + 1)).isValid():
            self.setCurrentIndex(below)


class TablesPanel(QWidget):
    """The tables on the left, the rows of the chosen one on the right."""

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__()
        self.document, self.selection = document, selection
        self.name = ""
        self.list = QListWidget()
        self.list.setAccessibleName("Tables")
        self.list.setMaximumWidth(220)
        self.model = CellsModel(document)
        self.grid = _Grid(self)
        self.grid.setModel(self.model)
        self.grid.setAccessibleName("Rows of the table")
        self.grid.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.grid.verticalHeader().setDefaultSectionSize(24)
        self.title, self.columns = QLineEdit(), QLineEdit()
        self.cls = QComboBox()
        self.cls.addItems([WORDS[c] for c in CLASSES])
        self.first, self.rows = QSpinBox(), QSpinBox()
        self.first.setRange(-9999, 9999)
        self.rows.setRange(1, edits.MOST_ROWS)
        for spin in (self.first, self.rows):
            spin.setKeyboardTracking(False)
        form = QHBoxLayout()
        form.setSpacing(6)
        for word, field, stretch in (
            ("Name", self.title, 2), ("Holds", self.cls, 0), ("First row", self.first, 0), ("Rows", self.rows, 0),
            ("Columns", self.columns, 4),
        ):  # fmt: skip
            field.setAccessibleName(word)
            form.addWidget(TextLabel(word))
            form.addWidget(field, stretch)
        more = QHBoxLayout()
        more.setSpacing(6)
        self.kind, self.comment = QLineEdit(), QLineEdit()
        self.kept, self.listed = QCheckBox("Kept"), QCheckBox("Rows by index")
        self.kept.setToolTip(plain("Its values survive a loss of power"))
        self.listed.setToolTip(plain("Without it the table is one row, read as Name.Column"))
        for word, field, stretch in (("Rows are of kind", self.kind, 1), ("Comment", self.comment, 4)):
            field.setAccessibleName(word)
            more.addWidget(TextLabel(word))
            more.addWidget(field, stretch)
        more.addWidget(self.kept)
        more.addWidget(self.listed)
        self.columns.setPlaceholderText("Out BOOL, Lasts TIME")
        self.says = TextLabel()
        self.says.setObjectName("hint")
        self.says.setWordWrap(True)
        buttons = QHBoxLayout()
        for text, tip, act in (
            ("New table", "A table of settings, with three rows", self.new), ("Delete", "Deletes the table", self.remove),
        ):  # fmt: skip
            button = QPushButton(text)
            button.setToolTip(plain(tip))
            button.clicked.connect(act)
            buttons.addWidget(button)
        self.side = QWidget()
        left = QVBoxLayout(self.side)
        left.setContentsMargins(0, 0, 0, 0)
        left.addWidget(self.list, 1)
        left.addLayout(buttons)
        self.right = QWidget()
        right = QVBoxLayout(self.right)
        right.setContentsMargins(0, 0, 0, 0)
        right.addLayout(form)
        right.addLayout(more)
        right.addWidget(self.grid, 1)
        right.addWidget(self.says)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 8, 12, 12)
        row.setSpacing(12)
        row.addWidget(self.side)
        row.addWidget(self.right, 1)
        self.empty = EmptyHint(
            self, "No tables yet. A table holds the pattern of outputs and the time of each row, or the values of a recipe; texts "
            "read it by its row, for example Pattern[Row].Lasts.", (("New table", self.new),),
        )  # fmt: skip
        self._follows = False
        self.list.currentRowChanged.connect(self._chosen)
        self.title.editingFinished.connect(
            lambda: self._change("Rename", lambda p, t: rename_table(p, t.name, self.title.text().strip()))
        )
        self.columns.editingFinished.connect(
            lambda: self._change("Columns of", lambda p, t: edits.set_columns(p, t.name, self.columns.text()))
        )
        self.kind.editingFinished.connect(
            lambda: self._change("Rows of", lambda p, t: edits.set_row_type(p, t.name, self.kind.text().strip()))
        )
        self.comment.editingFinished.connect(
            lambda: self._change("Comment of", lambda p, t: _with(p, t, comment=self.comment.text().strip()))
        )
        self.kept.clicked.connect(lambda on: self._change("Retain", lambda p, t: _with(p, t, retain=on)))
        self.listed.clicked.connect(lambda on: self._change("Index of", lambda p, t: edits.set_indexed(p, t.name, on)))
        self.cls.activated.connect(lambda i: self._change("Class of", lambda p, t: _with(p, t, cls=CLASSES[i])))
        self.first.valueChanged.connect(lambda n: self._change("First row of", lambda p, t: _with(p, t, first=n)))
        self.rows.valueChanged.connect(lambda n: self._change("Rows of", lambda p, t: edits.set_rows(p, t.name, n)))
        document.changed.connect(self.refresh)
        self.refresh()

    @property
    def table(self) -> Table | None:
        return self.document.project.table(self.name)

    def refresh(self) -> None:
        """Follows the document."""
        tables = self.document.project.tables
        names = [t.name for t in tables]
        if [self.list.item(i).text() for i in range(self.list.count())] != names:
            self.list.blockSignals(True)
            self.list.clear()
            for name in names:
                self.list.addItem(QListWidgetItem(name))
            self.list.blockSignals(False)
        if self.table is None:
            self.name = names[0] if names else ""
        at = next((i for i, n in enumerate(names) if n.lower() == self.name.lower()), -1)
        self.list.blockSignals(True)
        self.list.setCurrentRow(at)
        self.list.blockSignals(False)
        self._show()

    def _show(self) -> None:
        t = self.table
        self.empty.show_while(t is None)
        self.side.setVisible(t is not None)
        self.right.setVisible(t is not None)
        self.model.show(t)
        if t is None:
            return
        self._follows = True
        for field, text in (
            (self.title, t.name),
            (self.columns, edits.columns_text(t)),
            (self.kind, t.row_type),
            (self.comment, t.comment),
        ):
            if field.text() != text:
                field.setText(text)
        self.cls.setCurrentIndex(CLASSES.index(t.cls) if t.cls in CLASSES else 0)
        self.first.setValue(t.first)
        self.first.setEnabled(t.indexed)
        self.kind.setEnabled(bool(t.row_type))
        self.kept.setChecked(t.retain)
        self.listed.setChecked(t.indexed)
        self.rows.setEnabled(t.indexed)
        self.rows.setValue(len(t.rows))
        self._follows = False
        row = f"{t.name}[Row]" if t.indexed else t.name
        example = f"{row}.{t.columns[0].name}" if t.columns[0].name else row
        who = "change it by hand, while it runs too" if t.cls is SignalClass.SETTING else "texts change it"
        self.says.setText(
            f"Read as {example}; {who}. Insert adds a row, Space marks, rows are pasted from a spreadsheet."
        )

    def _chosen(self, row: int) -> None:
        if 0 <= row < len(self.document.project.tables):
            self.name = self.document.project.tables[row].name
            self.selection.set(Place("table", item=self.name))
            self._show()

    def choose(self, name: str) -> None:
        """Shows the table of this name."""
        self.name = name
        self.refresh()

    def _change(self, what: str, change: Callable[[Project, Table], Project]) -> None:
        t = self.table
        if self._follows or t is None:
            return
        at = next(i for i, x in enumerate(self.document.project.tables) if x is t)
        if self.document.edit(f"{what} {t.name}", lambda p: change(p, t)):
            self.name = self.document.project.tables[at].name
        self.refresh()

    def new(self) -> None:
        if self.document.edit("New table", edits.new_table):
            self.choose(self.document.project.tables[-1].name)
            self.grid.setFocus()

    def remove(self) -> None:
        name = self.name
        if self.table is not None:
            kept = tuple(t for t in self.document.project.tables if t.name != name)
            self.document.edit(f"Delete {name}", lambda p: put_items(p, "tables", kept))

    # -- keys of the grid

    def turn(self) -> bool:
        """Marks or unmarks a BOOL; FALSE for other cells."""
        t, index = self.table, self.grid.currentIndex()
        if t is None or t.columns[index.column()].type is not Type.BOOL:
            return False
        self.model.setData(index, "" if t.rows[index.row()][index.column()] else "x")
        return True

    def insert(self) -> None:
        """A row more above the current one."""
        at = max(0, self.grid.currentIndex().row())
        self._change("Insert a row in", lambda p, t: edits.insert_row(p, t.name, at))

    def copy(self) -> None:
        """The chosen cells, by tabs and lines."""
        chosen = sorted((i.row(), i.column()) for i in self.grid.selectedIndexes())
        rows: dict[int, list[str]] = {}
        for row, column in chosen:
            text = str(self.model.data(self.model.index(row, column), Qt.ItemDataRole.EditRole))
            rows.setdefault(row, []).append("x" if text == "●" else text)
        QApplication.clipboard().setText("\n".join("\t".join(cells) for cells in rows.values()))

    def paste(self) -> None:
        """Cells from the clipboard, from the current one on; rows that are missing are added. One undo takes all back."""
        t, index = self.table, self.grid.currentIndex()
        lines = QApplication.clipboard().text().rstrip("\n").split("\n")
        if t is None:
            return
        top, left = max(0, index.row()), max(0, index.column())

        def change(p: Project, t: Table) -> Project:
            if top + len(lines) > len(t.rows):
                p = edits.set_rows(p, t.name, top + len(lines))
            for r, line in enumerate(lines):
                for c, text in enumerate(line.split("\t")[: len(t.columns) - left]):
                    try:
                        value = typed(text, t.columns[left + c].type)
                    except ValueError as error:
                        raise EditError(f"line {r + 1} of what is pasted: {error}") from None
                    p = edits.set_cell(p, t.name, top + r, left + c, value)
            return p

        self._change("Paste rows into", change)


def _with(project: Project, table: Table, **changes: object) -> Project:
    after = replace(table, **changes)  # type: ignore[arg-type]
    return put_items(project, "tables", tuple(after if t is table else t for t in project.tables))
