"""A table to be taken in: which of its columns is what, what would become of the list, and what is wrong with it."""

from __future__ import annotations

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import (
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.formats.signal_table import FIELDS, Import, guess_mapping, plan_import
from spokeshave.formats.tables.grid import Sheet
from spokeshave.formats.tables.headings import SIGNAL_WORDS, find_heading
from spokeshave.model import edits

LEFT_OUT = "left out"


class ImportPanel(QFrame):
    """Stands above the list until it is applied or closed. Nothing changes before that."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.setObjectName("card")
        self.rows: list[tuple[str, ...]] = []
        """From the headings on."""
        self.first = 0
        """The row of the file in which the headings stand, from 0."""
        self.sheets: tuple[Sheet, ...] = ()
        self.sheet = QComboBox()
        self.sheet.setAccessibleName("Sheet")
        self.sheet.activated.connect(lambda i: self._show_sheet(self.sheets[i]))
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(120)
        self._later.timeout.connect(self.look)
        self.boxes: list[QComboBox] = []
        self.plan: Import | None = None
        self.title, self.says, self.wrong = TextLabel(), TextLabel(), TextLabel()
        self.title.setObjectName("heading")
        self.wrong.setObjectName("fault")
        self.wrong.setWordWrap(True)
        self.take = QPushButton("Take in")
        self.take.setObjectName("primary")
        self.take.clicked.connect(self.apply)
        close = QPushButton("Close")
        close.clicked.connect(self.hide)
        head = QHBoxLayout()
        head.addWidget(self.title)
        head.addWidget(self.sheet)
        head.addSpacing(12)
        head.addWidget(self.says, 1)
        head.addWidget(close)
        head.addWidget(self.take)
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setMaximumHeight(170)
        self.area.setFrameShape(QFrame.Shape.NoFrame)
        column = QVBoxLayout(self)
        column.addLayout(head)
        column.addWidget(self.area)
        column.addWidget(self.wrong)
        document.changed.connect(self.look)

    def show_table(self, name: str, sheets: tuple[Sheet, ...]) -> None:
        """Shows the sheet that looks most like a list of signals, with a first guess of what its columns are."""
        self.title.setText(f"Import {name}")
        self.sheets = sheets
        self.sheet.clear()
        self.sheet.addItems([s.name for s in sheets])
        self.sheet.setVisible(len(sheets) > 1)
        found = [find_heading(s, SIGNAL_WORDS, 1) for s in sheets]
        best = max(range(len(sheets)), key=lambda i: h.score if (h := found[i]) is not None else 0)
        self.sheet.setCurrentIndex(best)
        self._show_sheet(sheets[best])

    def _show_sheet(self, sheet: Sheet) -> None:
        heading = find_heading(sheet, SIGNAL_WORDS, 1)
        self.first = heading.row if heading is not None else next((n for n, r in enumerate(sheet.rows) if any(r)), 0)
        self.rows, self.boxes = (
            [tuple(sheet.cell(r, c) for c in range(sheet.width)) for r in range(self.first, len(sheet.rows))],
            [],
        )
        mapping = guess_mapping(self.rows[0]) if self.rows else {}
        rows = self.rows
        inner = QWidget()
        grid = QGridLayout(inner)
        grid.setHorizontalSpacing(12)
        for i, head in enumerate(rows[0]):
            label = TextLabel(head or f"column {i + 1}")
            label.setObjectName("hint")
            box = QComboBox()
            box.addItems([LEFT_OUT, *FIELDS])
            box.setCurrentText(mapping.get(i, LEFT_OUT))
            box.setAccessibleName(f"{head} is")
            box.currentTextChanged.connect(lambda _: self._later.start())
            self.boxes.append(box)
            grid.addWidget(label, 0, i)
            grid.addWidget(box, 1, i)
            for n, row in enumerate(rows[1:4]):
                cell = TextLabel(row[i] if i < len(row) else "")
                cell.setMaximumWidth(220)
                grid.addWidget(cell, 2 + n, i)
        grid.setColumnStretch(len(rows[0]), 1)
        self.area.setWidget(inner)
        self.show()
        self.look()

    @property
    def mapping(self) -> dict[int, str]:
        return {i: b.currentText() for i, b in enumerate(self.boxes) if b.currentText() != LEFT_OUT}

    def look(self) -> None:
        """Works out what taking the table in would do."""
        self._later.stop()
        if self.isHidden() or not self.rows:
            return
        chosen = list(self.mapping.values())
        twice = sorted({f for f in chosen if chosen.count(f) > 1})
        self.plan = plan_import(self.document.project, self.rows[1:], self.mapping, self.first + 2, foreign=True)
        count = sum(any(r) for r in self.rows[1:])
        left = [h for i, h in enumerate(self.rows[0]) if i not in self.mapping]
        self.says.setText(
            f"{count} rows: {len(self.plan.new)} new, {len(self.plan.changed)} changed, {len(self.plan.problems)} with a fault"
            + (f"; left out: {', '.join(left)}" if left else "")
        )
        problems = [f"{f} is chosen twice" for f in twice] + list(self.plan.problems)
        above = f"the headings stand in row {self.first + 1}; " if self.first else ""
        self.says.setToolTip(plain(above + "; ".join(self.plan.told)))
        if above or self.plan.told:
            self.says.setText(f"{self.says.text()}; {above}{'; '.join(self.plan.told)}".rstrip("; "))
        more = f" ... and {len(problems) - 4} more" if len(problems) > 4 else ""
        self.wrong.setText("\n".join(problems[:4]) + more)
        self.wrong.setVisible(bool(problems))
        self.take.setEnabled(not twice and bool(self.plan.new or self.plan.changed))

    def apply(self) -> None:
        self.look()
        plan = self.plan
        if plan is not None and self.take.isEnabled():
            self.hide()
            self.document.edit("Import signals", lambda p: edits.put_items(p, "signals", plan.signals))
