"""Scenarios that were proposed: what each shows, its rows, and which are taken over."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QPlainTextEdit,
    QPushButton,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.theme import code_font
from spokeshave.verify.proposed.work import Proposal, Proposals, taken_over
from spokeshave.verify.scenarios import run_scenario

ADVICE = "They say what the machine does now, not what it should do: read each before it is taken, and expect in it what the brief says."


class ProposalsDialog(QDialog):
    """`show_asked` carries a run, the name of its scenario and a time in ms of the run to look at on the bench."""

    show_asked = Signal(object, str, int)

    def __init__(self, document: Document, proposals: Proposals, parent: QWidget) -> None:
        super().__init__(parent)
        self.document, self.proposals = document, proposals
        self.setWindowTitle("Proposed scenarios")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setProperty("manual", "scenarios#Proposed")
        self.resize(min(980, parent.width() - 60), min(620, parent.height() - 60))
        said = TextLabel(f"{proposals.said()}. {ADVICE}" if proposals.found else f"{proposals.said()}.")
        said.setWordWrap(True)
        self.list = QListWidget()
        self.list.setAccessibleName("Proposed scenarios")
        for p in proposals.found:
            item = QListWidgetItem(p.scenario.name)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked)
            item.setToolTip(plain("\n".join(g.words for g in p.goals)))
            self.list.addItem(item)
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setFont(code_font(13))
        self.text.setAccessibleName("Rows of the proposed scenario")
        self.shows = TextLabel()
        self.shows.setWordWrap(True)
        self.shows.setObjectName("hint")
        self.left = TextLabel("Nothing was found that shows: " + "; ".join(g.words for g in proposals.left))
        self.left.setWordWrap(True)
        self.left.setObjectName("hint")
        self.left.setVisible(bool(proposals.left))
        self.bench, self.take, close = QPushButton("Show on the bench"), QPushButton(), QPushButton("Close")
        self.take.setObjectName("primary")
        self.bench.clicked.connect(self.show_on_bench)
        self.take.clicked.connect(self.take_over)
        close.clicked.connect(self.reject)
        right = QWidget()
        column = QVBoxLayout(right)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.shows)
        column.addWidget(self.text, 1)
        both = QSplitter()
        both.addWidget(self.list)
        both.addWidget(right)
        both.setSizes([320, 640])
        buttons = QHBoxLayout()
        buttons.addWidget(self.bench)
        buttons.addStretch(1)
        buttons.addWidget(close)
        buttons.addWidget(self.take)
        whole = QVBoxLayout(self)
        whole.addWidget(said)
        whole.addWidget(both, 1)
        whole.addWidget(self.left)
        whole.addLayout(buttons)
        self.list.currentRowChanged.connect(lambda _: self._show())
        self.list.itemChanged.connect(lambda _: self._enable())
        self.list.setCurrentRow(0)
        self._show()
        self._enable()

    @property
    def current(self) -> Proposal | None:
        """The proposal that is looked at."""
        row = self.list.currentRow()
        return self.proposals.found[row] if 0 <= row < len(self.proposals.found) else None

    @property
    def chosen(self) -> list[Proposal]:
        """Those with a tick."""
        return [
            p for i, p in enumerate(self.proposals.found) if self.list.item(i).checkState() is Qt.CheckState.Checked
        ]

    def _show(self) -> None:
        p = self.current
        self.text.setPlainText(p.scenario.text if p is not None else "")
        self.shows.setText(p.said() if p is not None else "")
        self.bench.setEnabled(p is not None)

    def _enable(self) -> None:
        count = len(self.chosen)
        self.take.setText(f"Take {count} over" if count else "Take over")
        self.take.setEnabled(count > 0)

    def show_on_bench(self) -> None:
        """The run of the proposal that is looked at, on board, faces and timing diagram."""
        p = self.current
        if p is not None:
            runs = run_scenario(self.document.project, p.scenario).runs
            if runs:
                self.show_asked.emit(runs[0], p.scenario.name, 0)

    def take_over(self) -> None:
        """Those with a tick become scenarios of the file, all in one edit."""
        chosen = self.chosen
        if self.document.edit(f"Take {len(chosen)} proposed scenarios over", lambda p: taken_over(p, chosen)):
            self.accept()
