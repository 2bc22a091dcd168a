"""The bench: board, a sequence face of choice and the timing strip together."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QScrollArea, QSplitter, QVBoxLayout, QWidget

from spokeshave.desktop.bench.strip import TimingStrip
from spokeshave.desktop.document import Document
from spokeshave.desktop.machine_board.board import Board
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.sequence.page import SequencePage


class BenchPage(QWidget):
    """Three parts whose sizes are kept; the face is the same one as in the sequence stage, live."""

    def __init__(self, document: Document, runner: Runner, selection: Selection) -> None:
        super().__init__()
        self.board = Board(document, runner, selection)
        area = QScrollArea()
        area.setWidget(self.board)
        area.setWidgetResizable(True)
        self.faces = SequencePage(document, runner, selection)
        self.faces.show_face("chart")
        self.strip = TimingStrip(runner)
        upper = QSplitter(Qt.Orientation.Horizontal)
        upper.addWidget(area)
        upper.addWidget(self.faces)
        upper.setSizes([706, 574])
        whole = QSplitter(Qt.Orientation.Vertical)
        whole.addWidget(upper)
        whole.addWidget(self.strip)
        whole.setSizes([440, 220])
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(whole)
