"""The cause-and-effect matrix as a table: rows are causes, columns effects, a double click changes what happens."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, Qt, QTimer, Signal
from PySide6.QtGui import QFontMetrics
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHeaderView,
    QLineEdit,
    QTableView,
    QWidget,
)

from spokeshave.desktop.cell_editors import Index, TypedDelegate
from spokeshave.desktop.document import Document
from spokeshave.desktop.field_words import MATRIX
from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.sequence.condition_editor import ConditionEdit
from spokeshave.desktop.theme import text_font, theme
from spokeshave.desktop.upright_header import UprightHeader
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project
from spokeshave.verify.cause_effect import Cause, Effect, Matrix, Showing, matrix, shown
from spokeshave.verify.cause_effect_edits import choices, set_cause, set_effect
from spokeshave.verify.protection import Key

NO_PARENT = QModelIndex()
KIND, CAUSE, SHOWN = range(3)
FIRST = 3
HEADS = ("Kind", "Cause", "Shown by")
SHORT = {"not both": "≠"}


class MatrixModel(QAbstractTableModel):
    """`acting` are the rules that act now on the bench; `seen` who shows which."""

    refused = Signal(str)

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.project: Project | None = None
        self.matrix = Matrix((), ())
        self.acting: frozenset[Key] = frozenset()
        self.seen: dict[Key, list[Showing]] = {}

    def refresh(self) -> None:
        """Follows the document and the results."""
        self.seen = shown(self.document.results.values())
        if self.project is not self.document.project:
            self.project = self.document.project
            self.beginResetModel()
            self.matrix = matrix(self.project)
            self.endResetModel()
        self._all_changed()

    def _all_changed(self) -> None:
        if self.matrix.causes:
            self.dataChanged.emit(self.index(0, 0), self.index(self.rowCount() - 1, self.columnCount() - 1))

    def show_acting(self, keys: frozenset[Key]) -> None:
        if keys != self.acting:
            self.acting = keys
            self._all_changed()

    def cause(self, row: int) -> Cause | None:
        return self.matrix.causes[row] if 0 <= row < len(self.matrix.causes) else None

    def effect(self, column: int) -> Effect | None:
        at = column - FIRST
        return self.matrix.effects[at] if 0 <= at < len(self.matrix.effects) else None

    def acts(self, row: int) -> bool:
        cause = self.cause(row)
        return cause is not None and any(key in self.acting for key in cause.keys)

    def showings(self, cause: Cause) -> list[Showing]:
        """The runs in which the row came into play, one a scenario; none while a rule of it is not shown."""
        if any(key not in self.seen for key in cause.keys):
            return []
        found = {s.scenario: s for key in cause.keys for s in reversed(self.seen[key])}
        return list(found.values())

    def rowCount(self, parent: Index = NO_PARENT) -> int:
        return 0 if parent.isValid() else len(self.matrix.causes)

    def columnCount(self, parent: Index = NO_PARENT) -> int:
        return 0 if parent.isValid() else FIRST + len(self.matrix.effects)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.ToolTipRole and orientation == Qt.Orientation.Horizontal:
            effect = self.effect(section)
            return MATRIX[HEADS[section]] if effect is None else plain(f"What each rule does to {effect.name}.")
        if role != Qt.ItemDataRole.DisplayRole:
            return None
        if orientation == Qt.Orientation.Vertical:
            return str(section + 1)
        effect = self.effect(section)
        if effect is None:
            return HEADS[section]
        return f"{effect.name}: steps" if effect.kind == "step" else effect.name

    def flags(self, index: Index) -> Qt.ItemFlag:
        cause, effect = self.matrix.causes[index.row()], self.effect(index.column())
        flags = super().flags(index)
        can = index.column() == CAUSE
        if effect is not None and self.project is not None:
            can = bool(choices(self.project, cause, effect))
        return flags | Qt.ItemFlag.ItemIsEditable if can else flags

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        row, column = index.row(), index.column()
        cause = self.matrix.causes[row]
        cell = cause.cells.get(column - FIRST) if column >= FIRST else None
        if role == Qt.ItemDataRole.EditRole:
            return cause.condition if column == CAUSE else cell.word if cell is not None else "-"
        if role == Qt.ItemDataRole.DisplayRole:
            if column >= FIRST:
                return SHORT.get(cell.word, cell.word) if cell is not None else ""
            return (("● " if self.acts(row) else "") + cause.kind, cause.text, self._shown_text(cause))[column]
        if role == Qt.ItemDataRole.ToolTipRole:
            return plain(cell.sentence if cell is not None else self._tip(cause, column) or "") or None
        if role == Qt.ItemDataRole.ForegroundRole:
            return self._ink(cause, row, column)
        if role == Qt.ItemDataRole.BackgroundRole and self.acts(row) and (cell is not None or column < SHOWN):
            return theme.colour("active_soft")
        if role == Qt.ItemDataRole.FontRole and column >= FIRST:
            return text_font(12, bold=self.acts(row))
        if role == Qt.ItemDataRole.TextAlignmentRole and column >= FIRST:
            return Qt.AlignmentFlag.AlignCenter
        return None

    def _shown_text(self, cause: Cause) -> str:
        found = self.showings(cause)
        if not found:
            return "○ nothing yet" if self.document.results else "◔ not run"
        more = f" +{len(found) - 1}" if len(found) > 1 else ""
        return f"✓ {found[0].scenario}{more}"

    def _tip(self, cause: Cause, column: int) -> str | None:
        if column != SHOWN:
            return cause.text if column == CAUSE else None
        found = [f"{s.scenario} at {s.time_ms / 1000:.2f} s" for s in self.showings(cause)]
        if not found and not self.document.results:
            return "Run the scenarios: those in which this comes into play show it"
        return "\n".join(found) or "In no run of a scenario that passes did this come into play"

    def _ink(self, cause: Cause, row: int, column: int) -> Any:
        if column == SHOWN:
            found = bool(self.showings(cause))
            return theme.colour("true" if found else "false" if self.document.results else "faint")
        if column == KIND:
            return theme.colour("active" if self.acts(row) else "faint")
        return theme.colour("ink")

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        if role != Qt.ItemDataRole.EditRole or str(value) == self.data(index, role):
            return False
        cause, effect, text = self.matrix.causes[index.row()], self.effect(index.column()), str(value)

        def change(p: Project) -> Project:
            try:
                return set_cause(p, cause, text) if effect is None else set_effect(p, cause, effect, text)
            except ValueError as error:
                raise EditError(str(error)) from None

        return self.document.edit(f"Change {cause.names[0]}", change)


class CellDelegate(TypedDelegate):
    """Conditions are typed with completion, effects chosen."""

    def __init__(self, model: MatrixModel, parent: QWidget) -> None:
        super().__init__(parent)
        self.model = model

    def createEditor(self, parent: QWidget, option: Any, index: Index) -> QWidget:
        cause, effect, project = self.model.cause(index.row()), self.model.effect(index.column()), self.model.project
        assert cause is not None and project is not None
        if effect is None:
            if cause.kind in ("window", "opposed"):
                return QLineEdit(parent)
            place = project.sequence(cause.place.sequence or cause.place.item)
            return ConditionEdit(project, place, parent)
        box = QComboBox(parent)
        box.addItems(list(choices(project, cause, effect)))
        box.activated.connect(lambda _: self.take(box))
        return box

    def fill(self, editor: QWidget, index: Index) -> None:
        text = str(index.data(Qt.ItemDataRole.EditRole))
        if isinstance(editor, QComboBox):
            editor.setCurrentText(text)
            editor.showPopup()
        elif isinstance(editor, QLineEdit):
            editor.setText(text)

    def setModelData(self, editor: QWidget, model: Any, index: Index) -> None:
        text = (
            editor.currentText()
            if isinstance(editor, QComboBox)
            else editor.text()
            if isinstance(editor, QLineEdit)
            else ""
        )
        row, column = index.row(), index.column()
        # Taken when the editor is gone: the edit may make the matrix anew.
        QTimer.singleShot(0, self, lambda: self.model.setData(self.model.index(row, column), text))


class MatrixView(QTableView):
    """The table of causes and effects, with upright heads."""

    def __init__(self, model: MatrixModel) -> None:
        super().__init__()
        self.setHorizontalHeader(UprightHeader(self, FIRST))
        self.setModel(model)
        self.setItemDelegate(CellDelegate(model, self))
        self.setAccessibleName("Cause and effect")
        self.setEditTriggers(QAbstractItemView.EditTrigger.DoubleClicked | QAbstractItemView.EditTrigger.EditKeyPressed)
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(25)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        model.modelReset.connect(self.arrange)
        self.arrange()

    def arrange(self) -> None:
        """Widths of the columns by what stands in them."""
        model = self.model()
        assert isinstance(model, MatrixModel)
        self.setColumnWidth(KIND, 100)
        shown = [str(model.index(row, SHOWN).data() or "") for row in range(model.rowCount())]
        self.setColumnWidth(SHOWN, min(MOST_SHOWN, 48 + max(map(text_font_width, shown), default=92)))
        for i in range(len(model.matrix.effects)):
            words = [c.cells[i].word for c in model.matrix.causes if i in c.cells]
            widest = max((text_font_width(SHORT.get(w, w)) for w in words), default=20)
            self.setColumnWidth(FIRST + i, max(34, widest + 24))
        if model.columnCount() > FIRST:
            self.horizontalHeader().setSectionResizeMode(CAUSE, QHeaderView.ResizeMode.Stretch)
        self.horizontalHeader().setMinimumSectionSize(30)


MOST_SHOWN = 240
"""So wide is the column of scenarios at most."""


def text_font_width(text: str) -> int:
    """How wide a head is, in pixels."""
    return QFontMetrics(text_font(12, bold=True)).horizontalAdvance(text)
