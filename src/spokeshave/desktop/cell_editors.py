"""Editors of the cells of tables: filled once, typed into like a spreadsheet."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from PySide6.QtCore import QEvent, QModelIndex, QObject, QPersistentModelIndex, Qt, QTimer
from PySide6.QtGui import QFocusEvent
from PySide6.QtWidgets import (
    QAbstractItemDelegate,
    QAbstractItemView,
    QComboBox,
    QLineEdit,
    QStyledItemDelegate,
    QWidget,
)

Index = QModelIndex | QPersistentModelIndex
_FILLED = "filled"


def is_current(view: QAbstractItemView, editor: QWidget) -> bool:
    """Whether an editor is that of the current cell."""
    return view.indexWidget(view.currentIndex()) == editor


def by_return(view: QAbstractItemView, editor: QWidget, hint: QAbstractItemDelegate.EndEditHint) -> bool:
    """Whether an editor is closed by Return; another row that is clicked closes it in the same manner, but is current then."""
    submitted = hint == QAbstractItemDelegate.EndEditHint.SubmitModelCache
    return submitted and is_current(view, editor)


class _Entered(QObject):
    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.FocusIn and isinstance(watched, QComboBox) and (line := watched.lineEdit()):
            QTimer.singleShot(0, line, line.selectAll)  # behind the click, which puts the caret somewhere
        return False


def select_when_entered(box: QComboBox) -> None:
    """What is typed into an editable box that is entered takes the place of what stands there."""
    box.installEventFilter(_Entered(box))


class TypedDelegate(QStyledItemDelegate):
    """What is typed stays: a view that is shown anew meanwhile, when a check has come or a run goes on, does not write
    the old text over it.
    """

    def setEditorData(self, editor: QWidget, index: Index) -> None:
        if not editor.property(_FILLED):
            editor.setProperty(_FILLED, True)
            self.fill(editor, index)

    def fill(self, editor: QWidget, index: Index) -> None:
        """The text of the cell, all of it selected, so that typing takes its place."""
        super().setEditorData(editor, index)
        if isinstance(editor, QLineEdit):
            editor.selectAll()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Another window in front, a note that pops up: the cell stays open as it is, and typing goes on behind it."""
        if (
            isinstance(event, QFocusEvent)
            and event.lostFocus()
            and event.reason() is Qt.FocusReason.ActiveWindowFocusReason
        ):
            return False
        return super().eventFilter(watched, event)

    def take(self, editor: QWidget) -> None:
        """Ends the editor with what it holds, for one whose choice says that it is done."""
        self.commitData.emit(editor)
        self.closeEditor.emit(editor)


class ChoiceDelegate(TypedDelegate):
    """Offers the choices of a column; the first letters of one are enough."""

    def __init__(self, choices: Sequence[str], parent: QWidget) -> None:
        super().__init__(parent)
        self.choices = list(choices)

    def createEditor(self, parent: QWidget, option: Any, index: Index) -> QWidget:
        box = QComboBox(parent)
        box.setEditable(True)
        box.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        box.setCompleter(None)  # type: ignore[arg-type]  # else Return would end the word and not the cell
        box.addItems(self.choices)
        box.view().pressed.connect(lambda _: self.take(box))
        return box

    def fill(self, editor: QWidget, index: Index) -> None:
        assert isinstance(editor, QComboBox)
        editor.setCurrentText(str(index.data(Qt.ItemDataRole.EditRole)))
        line = editor.lineEdit()
        if line is not None:
            line.selectAll()

    def setModelData(self, editor: QWidget, model: Any, index: Index) -> None:
        assert isinstance(editor, QComboBox)
        typed = editor.currentText().strip()
        begun = (c for c in self.choices if c.lower().startswith(typed.lower()))
        model.setData(index, next(begun, typed) if typed else "")

    def updateEditorGeometry(self, editor: QWidget, option: Any, index: Index) -> None:
        """Wide enough for what can be chosen."""
        box = option.rect
        box.setWidth(max(box.width(), editor.sizeHint().width()))
        editor.setGeometry(box)
