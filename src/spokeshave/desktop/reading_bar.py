"""How a program written by hand was read: a bar that says so, and its text beside what became of each part."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QFrame,
    QHBoxLayout,
    QPushButton,
    QSplitter,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.code_editor import CodeEditor
from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import FittingLabel, TextLabel, plain
from spokeshave.reading import Reading


class ReadingBar(QFrame):
    """Says that the machine file was read from a program, which stays as it is, and shows how when asked."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.setObjectName("card")
        self.says = FittingLabel()
        self.show_button, self.close_button = QPushButton("How it was read"), QPushButton("Close")
        self.show_button.clicked.connect(self.show_reading)
        self.close_button.clicked.connect(self.hide)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 6, 12, 6)
        row.addWidget(self.says, 1)
        row.addWidget(self.show_button)
        row.addWidget(self.close_button)
        document.was_read.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        found, origin = self.document.reading, self.document.origin
        self.setVisible(found is not None)
        if found is None:
            return
        kept = (
            "its text stays as opening logic, and the chart follows its state"
            if found.choices is None
            else "it became a chart"
        )
        if origin is None:
            self.says.setText(f"The program was read: {kept}.")
        else:
            self.says.setText(f"{origin.name} was read: {kept}. The file stays as it is; saving asks for a new one.")

    def show_reading(self) -> None:
        if self.document.reading is not None:
            name = self.document.origin.name if self.document.origin is not None else "the program"
            ReadingDialog(self.document.reading, name, self.window()).exec()


class ReadingDialog(QDialog):
    """The text on the left, what became of its parts on the right; a note goes to its line, a line to its notes."""

    def __init__(self, reading: Reading, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"How {name} was read")
        self.resize(1120, 640)
        self.text = CodeEditor(f"Text of {name}")
        self.text.setReadOnly(True)
        self.text.setPlainText(reading.text)
        self.notes = QTreeWidget()
        self.notes.setAccessibleName("What became of the text")
        self.notes.setHeaderLabels(["Line", "What became of it"])
        self.notes.setRootIsDecorated(False)
        self.notes.setColumnWidth(0, 48)
        self.notes.setWordWrap(True)
        for note in reading.notes:
            item = QTreeWidgetItem([str(note.line), note.text])
            item.setTextAlignment(0, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop)
            item.setToolTip(1, plain(note.text))
            self.notes.addTopLevelItem(item)
        shown = TextLabel(f"Held against the text: {reading.shown}.")
        shown.setWordWrap(True)
        halves = QSplitter(Qt.Orientation.Horizontal)
        halves.addWidget(self.text)
        halves.addWidget(self.notes)
        halves.setSizes([560, 560])
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addWidget(halves, 1)
        column.addWidget(shown)
        column.addWidget(buttons)
        self.notes.currentItemChanged.connect(self._to_line)
        self.text.moved.connect(self._to_note)

    def _to_line(self, item: QTreeWidgetItem | None) -> None:
        if item is not None and not self.text.hasFocus():
            self.text.go_to(int(item.text(0)))

    def _to_note(self, line: int) -> None:
        """The last note at or above the line the cursor has gone to."""
        items = [self.notes.topLevelItem(i) for i in range(self.notes.topLevelItemCount())]
        above = [item for item in items if item is not None and int(item.text(0)) <= line]
        if above and self.text.hasFocus():
            self.notes.setCurrentItem(above[-1])
